package shop

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/intake"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Docked is a bay with what is in it.
type Docked struct {
	store.Bay
	Path     string
	Identity survey.Identity
	Size     disk.Bytes
	Alike    []string
	Trouble  string
	Makers   string
	Blank    bool // nothing is on it
	Keeps    bool // it has a volume that backups could be kept in
}

func (s *Shop) Docked(b store.Bay) Docked {
	d := Docked{Bay: b, Path: filepath.Join(s.Folder("drives"), filepath.Base(*b.Image))}
	var err error
	if d.Identity, err = s.identityAt(d.Path); err != nil {
		d.Trouble = words.Sentence(err)
	}
	st, err := os.Stat(d.Path)
	if err != nil {
		d.Trouble = "its image is not there"
		return d
	}
	d.Size, d.Makers = disk.Bytes(st.Size()), disk.Bytes(st.Size()).Maker()
	return d
}

// MarkAlike marks drives in the bays that look alike, or whose serial numbers do.
func (s *Shop) MarkAlike(bays []Docked) {
	for i := range bays {
		_, bays[i].Alike = survey.Apart(bays[i].Identity, bays[i].Size, seen(bays, bays[i].Letter))
	}
}

func seen(bays []Docked, but string) map[string]survey.Seen {
	m := map[string]survey.Seen{}
	for _, b := range bays {
		if b.Letter != but {
			m[b.Letter] = survey.Seen{Identity: b.Identity, Size: b.Size}
		}
	}
	return m
}

// Apart is how many last characters of a drive's serial number tell it from all others
// in the bays, and the bays with drives that look alike.
func (s *Shop) Apart(letter string) (int, []string) {
	bays, err := s.Store.Bays()
	if err != nil {
		return 4, nil
	}
	var all []Docked
	for _, b := range bays {
		if b.Image != nil {
			all = append(all, s.Docked(b))
		}
	}
	i := slices.IndexFunc(all, func(b Docked) bool { return b.Letter == letter })
	if i < 0 {
		return 4, nil
	}
	return survey.Apart(all[i].Identity, all[i].Size, seen(all, letter))
}

// DockFile is an image that waits in the dock.
type DockFile struct {
	Name, Form, Trouble string
	Bytes, Drive        disk.Bytes // of the file, and of the drive in it; -1 where unknown
	Identity            survey.Identity
}

// FilesIn are the images in a folder of the shop: the dock, or what was handed out.
func (s *Shop) FilesIn(folder string) []DockFile {
	list, err := os.ReadDir(s.Folder(folder))
	if err != nil {
		return nil
	}
	var out []DockFile
	for _, e := range list {
		if !e.Type().IsRegular() || !fileForm.MatchString(e.Name()) || strings.HasSuffix(e.Name(), ".json") || strings.HasSuffix(e.Name(), partEnds) {
			continue
		}
		f := DockFile{Name: e.Name(), Drive: -1}
		p := filepath.Join(s.Folder(folder), e.Name())
		if st, err := e.Info(); err == nil {
			f.Bytes = disk.Bytes(st.Size())
		}
		if f.Identity, err = survey.ReadIdentity(p); err != nil {
			f.Trouble = words.Sentence(err)
		}
		src, err := intake.Open(p)
		if err != nil {
			f.Trouble = words.Sentence(err)
		} else {
			f.Form, f.Drive = string(src.Format), src.Size
			src.Close()
		}
		out = append(out, f)
	}
	return out
}

// fileForm is what the names of image files look like.
var fileForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._()+-]{0,119}$`)

// ErrName is returned for a name that is none of a file in the dock.
var ErrName = errors.New("there is no such file in the dock")

// dockPath is the place of a file in a folder of the shop, by a name that a page sent.
func (s *Shop) dockPath(folder, name string) (string, error) {
	if !fileForm.MatchString(name) {
		return "", fmt.Errorf("%w: %q", ErrName, name)
	}
	return filepath.Join(s.Folder(folder), name), nil
}

func Room(dir string) (disk.Bytes, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return disk.Bytes(st.Bavail) * disk.Bytes(st.Bsize), nil
}

// KeepFree is the room that is always left on the host.
const KeepFree = 512 * disk.MiB

// AttachFile begins to take a file from the dock in as a drive in a bay, for a job; "" is for none. What was
// said of the drive counts where its image does not say it itself, and for how it is attached.
func (s *Shop) AttachFile(by *store.Technician, file string, said survey.Identity, bay, number string) error {
	from, err := s.dockPath("dock", file)
	if err != nil {
		return err
	}
	id, err := survey.ReadIdentity(from)
	if err == nil && id.Serial == "" {
		id, err = said, named(said)
	} else if err == nil { // the image carries its own
		if id.ReadOnly && !said.ReadOnly && !by.Lead() {
			err = ErrEvidence
		}
		id.ReadOnly, id.Removable = said.ReadOnly, id.Removable || said.Removable
	}
	job, e := s.freeBay(bay, number)
	if err = errors.Join(err, e); err != nil {
		return err
	}
	who := by.Name
	return s.Desk.Start("dock", "attach", "Attaching "+filepath.Base(from), func(ctx context.Context, report func(work.Update)) (string, error) {
		src, err := intake.Open(from)
		if err != nil {
			return "", err
		}
		defer src.Close()
		name := s.imageName(id)
		act := Act{Bay: bay, Image: &name, Job: job}
		coming := filepath.Join("dock", filepath.Base(from))
		if src.Format != intake.Raw { // what it is as a drive is made beside it
			coming = filepath.Join("drives", name+comingEnds)
			free, err := Room(s.Folder("drives"))
			if err != nil {
				return "", err
			}
			defer os.Remove(filepath.Join(s.Data, coming))
			if err := src.TakeIn(ctx, filepath.Join(s.Data, coming), max(free-KeepFree, 0), func(p intake.Progress) {
				report(work.Update{Phase: "taking in", Done: p.Done, Total: p.Total})
			}); err != nil {
				return "", err
			}
		}
		act.Moves = []Move{{From: coming, To: filepath.Join("drives", name)}}
		if src.Format == intake.Raw { // the file itself becomes the drive
			for _, ends := range besides {
				act.Moves = append(act.Moves, Move{
					From: coming + ends, To: filepath.Join("drives", name+ends), Maybe: true,
				})
			}
			act.Drop = []string{coming + IdentityEnds} // the drive has its own then
		}
		return s.attached(
			&act, filepath.Join(s.Data, coming), id, who,
			"taken in from "+filepath.Base(from)+" ("+string(src.Format)+")",
		)
	})
}

// named refuses an identity that tells a drive from no other.
func named(id survey.Identity) error {
	switch {
	case id.Model == "" || len(id.Model) > 80:
		return errors.New("the drive needs a model, as its label has it, of at most 80 characters")
	case len(id.Serial) < 4 || len(id.Serial) > 40 || strings.ContainsFunc(id.Serial, func(r rune) bool { return r <= ' ' || r > '~' }):
		return errors.New("the drive needs a serial number, as its label has it, of 4 to 40 letters, digits and signs")
	}
	return nil
}

// freeBay sees that a drive can be put into a bay, for a job; "" is for none.
func (s *Shop) freeBay(bay, number string) (job *string, err error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == bay })
	switch {
	case i < 0:
		return nil, fmt.Errorf("there is no bay %q; nothing was attached", bay)
	case bays[i].Image != nil:
		return nil, fmt.Errorf(
			"bay %s has a drive already; nothing was attached. Detach it first, or take another bay", bay,
		)
	}
	if number == "" {
		return nil, nil
	}
	if err := s.takesDrives(number); err != nil {
		return nil, err
	}
	return &number, nil
}

// imageName is a name for a drive's image that none has yet.
func (s *Shop) imageName(id survey.Identity) string {
	base := strings.ToLower(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(id.Serial, "-"))
	for n := 1; ; n++ {
		name := base + ".img"
		if n > 1 {
			name = fmt.Sprintf("%s-%d.img", base, n)
		}
		if _, err := os.Stat(filepath.Join(s.Folder("drives"), name)); errors.Is(err, fs.ErrNotExist) {
			return name
		}
	}
}

// comingEnds is what the names of drives end with that are not yet in a bay. At a start none is
// on its way, and what has such a name is taken away.
const comingEnds = ".coming"

// forgetComing takes away what was on its way into a bay when the server stopped.
func (s *Shop) forgetComing() error {
	list, err := filepath.Glob(filepath.Join(s.Folder("drives"), "*"+comingEnds))
	for _, p := range list {
		err = errors.Join(err, os.Remove(p))
	}
	return err
}

// What lies beside a drive's image: its identity, which is written anew when it is attached, and what
// goes with it to wherever it goes.
const IdentityEnds = ".drive.json"

var besides = []string{".pc.json", ".bad.json", ".shelf-journal"}

// attached puts a drive into its bay and enters that in the trail. Its image is at path as yet, and
// is looked at there: what is no drive stays where it is.
func (s *Shop) attached(act *Act, path string, id survey.Identity, who, how string) (string, error) {
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		return "", fmt.Errorf("%w. It stays in the dock", err)
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil {
		return "", err
	}
	identity, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return "", err
	}
	act.Files = append(act.Files, File{
		Name: filepath.Join("drives", *act.Image+IdentityEnds), Data: append(identity, '\n'),
	})
	if act.Job == nil && !id.ReadOnly && looksLikeShelf(&Drive{Survey: sv}) {
		act.Shelf = true
		how += "; backups are on it, so it is a shelf"
	}
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	act.ID = "attach-" + tail
	act.Entry = trail.Entry{ID: "e-attach-" + tail, Time: s.Now(), Who: who, Act: trail.ActAttach, Drive: trail.Drive{DiskID: sv.Layout.DiskID, Model: id.Model, Serial: id.Serial}, After: sv.Layout,
		Text: fmt.Sprintf("Drive of %s attached in bay %s, %s", im.Size().Maker(), act.Bay, how)}
	if act.Job != nil {
		act.Entry.Job = *act.Job
	}
	if err := s.Books.Do(*act); err != nil {
		return "", err
	}
	return fmt.Sprintf(
		"Bay %s has the drive %s with %s.", act.Bay, id.Serial,
		words.Plural(len(sv.Layout.Partitions()), "partition", "partitions"),
	), nil
}

// MakeBlank makes a new empty drive of a size with its unit, and puts it into a bay, for a job; "" is for none.
func (s *Shop) MakeBlank(who *store.Technician, id survey.Identity, amount string, sector disk.Bytes, bay, number string) (string, error) {
	job, e := s.freeBay(bay, number)
	err := errors.Join(named(id), e)
	var size disk.Bytes
	if err == nil {
		size, err = disk.ParseAmount(amount, intake.MaxSize)
	}
	if size = size.Down(sector); err == nil && size < disk.MiB {
		err = errors.New("a drive has at least 1 MiB; none was made")
	}
	if err != nil {
		return "", err
	}
	name := s.imageName(id)
	coming := filepath.Join(s.Folder("drives"), name+comingEnds)
	im, err := disk.CreateImage(coming, size, sector)
	if err != nil {
		return "", err
	}
	im.Close()
	defer os.Remove(coming)
	act := Act{
		Bay: bay, Image: &name, Job: job,
		Moves: []Move{{From: filepath.Join("drives", name+comingEnds), To: filepath.Join("drives", name)}},
	}
	return s.attached(&act, coming, id, who.Name, "new and blank")
}

// TakeOutOfBay takes a drive out of its bay; its image goes to the dock.
func (s *Shop) TakeOutOfBay(who *store.Technician, letter string) (said string, err error) {
	b, err := s.Bay(letter)
	if err != nil {
		return "", err
	}
	name := filepath.Base(*b.Image)
	path := filepath.Join(s.Folder("drives"), name)
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	act := Act{ID: "detach-" + tail, Bay: b.Letter}
	act.Entry = trail.Entry{
		ID: "e-detach-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActDetach,
		Text: fmt.Sprintf("Drive taken out of bay %s", b.Letter),
	}
	if b.Job != nil {
		act.Entry.Job = *b.Job
	}
	said = fmt.Sprintf("Bay %s is empty. The drive's image lies in the dock as %s.", b.Letter, name)
	if _, e := os.Stat(path); errors.Is(e, fs.ErrNotExist) { // nothing is there that could be taken out
		act.Entry.Text += "; its image was not there"
		said = fmt.Sprintf("Bay %s is empty. Its drive's image was not there.", b.Letter)
	} else if err = s.leaving(b, &act, path); err != nil {
		return "", err
	}
	return said, s.Books.Do(act)
}

// leaving sees that a drive can leave its bay, and what of files goes with it.
func (s *Shop) leaving(b *store.Bay, act *Act, path string) error {
	if s.Desk.Busy(path) || s.Desk.Busy("dock") {
		return errors.New("work on this drive is under way; it stays in its bay. Wait until that is done, or stop it")
	}
	if b.Shelf && shelf.InUse(path) {
		return errors.New("a backup on this drive is just being made or taken away; the shelf stays in its bay. Wait until that is done")
	}
	name := filepath.Base(path)
	if _, err := os.Stat(filepath.Join(s.Folder("dock"), name)); err == nil {
		return fmt.Errorf("the dock has a file %s already; the drive stays in its bay", name)
	}
	act.Moves = []Move{{From: filepath.Join("drives", name), To: filepath.Join("dock", name)}}
	for _, ends := range append([]string{IdentityEnds}, besides...) {
		act.Moves = append(act.Moves, Move{
			From: filepath.Join("drives", name+ends), To: filepath.Join("dock", name+ends), Maybe: true,
		})
	}
	d, err := s.Open(b, false)
	if err != nil { // a drive that cannot be read can be taken out all the same
		act.Entry.Text += "; it could not be read"
		return nil
	}
	defer d.Close()
	pending, err := s.Unfinished(d)
	if err == nil && pending != nil {
		err = errors.New("a run on this drive is not finished; it stays in its bay. Finish the run or take it back first")
	}
	act.Entry.Drive = trail.Drive{DiskID: d.Survey.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}
	act.Entry.Before = d.Survey.Layout
	return err
}

// ErrEvidence tells that a drive that was attached for evidence stays so.
var ErrEvidence = fmt.Errorf(
	"%w: the drive is attached read-only, for evidence, and stays so. Ask the lead to attach it for writing",
	run.ErrLead,
)

// AttachFor changes whether the drive in a bay is attached read-only, for evidence: a lead alone lets it be
// written again.
func (s *Shop) AttachFor(who *store.Technician, letter string, readOnly bool) (said string, err error) {
	b, d, err := s.inBay(letter)
	if err != nil {
		return "", err
	}
	defer d.Close()
	id := d.Identity
	id.ReadOnly = readOnly
	if d.Identity.ReadOnly && !id.ReadOnly && !who.Lead() {
		return "", ErrEvidence
	}
	how := words.Either(id.ReadOnly, "read-only: nothing on it can be changed", "for writing")
	text, err := json.MarshalIndent(id, "", "  ")
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil && s.Desk.Busy(d.Path) {
		err = work.ErrBusy
	}
	if err == nil {
		err = s.Books.Do(Act{ID: "how-" + tail, Files: []File{{Name: filepath.Join("drives", filepath.Base(d.Path)+IdentityEnds), Data: append(text, '\n')}},
			Entry: trail.Entry{ID: "e-how-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActAttach, Drive: NameOf(d), Text: fmt.Sprintf("Drive in bay %s is attached %s from now on", b.Letter, how)}})
	}
	return fmt.Sprintf("The drive in bay %s is attached %s.", b.Letter, how), err
}

// WriteOut begins to write the drive in a bay out in a form that can be handed over.
func (s *Shop) WriteOut(letter string, format intake.Format) error {
	if format.Ends() == "" {
		return errors.New("there is no such form; nothing was written")
	}
	b, d, err := s.inBay(letter)
	if err == nil {
		if err = s.noOpenRun(d); err == nil && s.Desk.Busy(d.Path) {
			err = work.ErrBusy
		}
		if err != nil {
			d.Close()
		}
	}
	if err != nil {
		return err
	}
	err = s.Desk.Start("dock", "hand-out", "Handing bay "+b.Letter+" out", func(ctx context.Context, report func(work.Update)) (string, error) {
		defer d.Close()
		if err := d.Image.Share(); err != nil {
			return "", err
		}
		name := strings.TrimSuffix(filepath.Base(d.Path), ".img") + format.Ends()
		path := filepath.Join(s.Folder("handed-out"), name)
		f, err := os.Create(path + partEnds)
		if err != nil {
			return "", err
		}
		defer os.Remove(path + partEnds)
		err = intake.HandOut(ctx, d.Image, f, format, func(p intake.Progress) {
			report(work.Update{Phase: "writing out", Done: p.Done, Total: p.Total})
		})
		if e := errors.Join(f.Sync(), f.Close()); err == nil {
			err = e
		}
		if err == nil {
			err = os.Rename(path+partEnds, path)
		}
		return fmt.Sprintf("Written out as %s.", name), err
	})
	if err != nil {
		d.Close()
	}
	return err
}

// HandOutForms are the forms in which a drive can be handed out, in the order in which they are offered.
var HandOutForms = []intake.Format{
	intake.Zstd, intake.Gzip, intake.VHDDynamic, intake.VHDFixed, intake.Qcow2, intake.Raw,
}

// partEnds is how the name of a file ends that is just being written out.
const partEnds = ".part"

// HandOuts are the files into which a drive is, or was, written out.
func (s *Shop) HandOuts(d *Drive) (out []string, err error) {
	name := strings.TrimSuffix(filepath.Base(d.Path), ".img")
	its := map[string]bool{}
	for _, f := range HandOutForms {
		its[name+f.Ends()], its[name+f.Ends()+partEnds] = true, true
	}
	list, err := os.ReadDir(s.Folder("handed-out"))
	for _, f := range list {
		if its[f.Name()] {
			out = append(out, filepath.Join(s.Folder("handed-out"), f.Name()))
		}
	}
	return out, err
}

// HandedOut is the path of a drive that was written out.
func (s *Shop) HandedOut(name string) (string, error) {
	path, err := s.dockPath("handed-out", name)
	if err == nil {
		_, err = os.Stat(path)
	}
	if err != nil {
		return "", fmt.Errorf("this file does not exist: %w", store.ErrNotFound)
	}
	return path, nil
}
