package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/core/words"

	"github.com/gin-gonic/gin"
	"golang.org/x/sys/unix"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/intake"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// fileForm is what the names of image files look like.
var fileForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._()+-]{0,119}$`)

// errName is returned for a name that is none of a file in the dock.
var errName = errors.New("there is no such file in the dock")

// dockFile is an image that waits in the dock.
type dockFile struct {
	Name, Form, Trouble string
	Bytes, Drive        disk.Bytes // of the file, and of the drive in it; -1 where unknown
	Identity            survey.Identity
}

// dockBay is a bay with what is in it.
type dockBay struct {
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

type dockView struct {
	Bays   []dockBay
	Free   []string // bays without a drive
	Files  []dockFile
	Jobs   []store.Job
	Room   disk.Bytes
	Dock   string
	Handed []dockFile
	Forms  []intake.Format
	Work   *workLine
	Line   string
	Upload disk.Bytes // the largest file that can be uploaded
}

func (s *Server) folder(name string) string { return filepath.Join(s.data, name) }

// dockPath is the place of a file in a folder of the shop, by a name that a page sent.
func (s *Server) dockPath(folder, name string) (string, error) {
	if !fileForm.MatchString(name) {
		return "", fmt.Errorf("%w: %q", errName, name)
	}
	return filepath.Join(s.folder(folder), name), nil
}

func room(dir string) (disk.Bytes, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return disk.Bytes(st.Bavail) * disk.Bytes(st.Bsize), nil
}

// keepFree is the room that is always left on the host.
const keepFree = 512 * disk.MiB

func (s *Server) dockPage(c *gin.Context) {
	v := dockView{Dock: "dock", Forms: handOutForms}
	var err error
	if v.Jobs, err = s.store.Jobs(); err == nil {
		v.Room, err = room(s.folder("drives"))
	}
	bays, e := s.store.Bays()
	if err = errors.Join(err, e); err != nil {
		s.fail(c, err)
		return
	}
	v.Upload = max(v.Room-keepFree, 0)
	for _, b := range bays {
		if b.Image == nil {
			v.Free = append(v.Free, b.Letter)
			continue
		}
		d := s.dockBay(b)
		if b.Job == nil && !b.Shelf && d.Trouble == "" {
			if x, err := s.open(&b, false); err == nil {
				d.Blank, d.Keeps = len(x.sv.Layout.Partitions()) == 0, len(keepers(x)) > 0
				x.close()
			}
		}
		v.Bays = append(v.Bays, d)
	}
	s.markAlike(v.Bays)
	v.Files = s.dockFiles("dock")
	v.Handed = s.dockFiles("handed-out")
	if w, ok := s.desk.State("dock"); ok && w.Kind != "" {
		l := workView(w)
		v.Work = &l
		v.Line = w.Title + ": " + w.Trouble + w.Outcome
	}
	s.render(c, http.StatusOK, "dock", page{Title: "Dock", Here: "dock", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Dock", ""}}})
}

func (s *Server) dockBay(b store.Bay) dockBay {
	d := dockBay{Bay: b, Path: filepath.Join(s.folder("drives"), filepath.Base(*b.Image))}
	var err error
	if d.Identity, err = survey.ReadIdentity(d.Path); err != nil {
		d.Trouble = run.Sentence(err)
	}
	st, err := os.Stat(d.Path)
	if err != nil {
		d.Trouble = "its image is not there"
		return d
	}
	d.Size, d.Makers = disk.Bytes(st.Size()), disk.Bytes(st.Size()).Maker()
	return d
}

// markAlike marks drives in the bays that look alike, or whose serial numbers do.
func (s *Server) markAlike(bays []dockBay) {
	for i := range bays {
		_, bays[i].Alike = survey.Apart(bays[i].Identity, bays[i].Size, seen(bays, bays[i].Letter))
	}
}

func seen(bays []dockBay, but string) map[string]survey.Seen {
	m := map[string]survey.Seen{}
	for _, b := range bays {
		if b.Letter != but {
			m[b.Letter] = survey.Seen{Identity: b.Identity, Size: b.Size}
		}
	}
	return m
}

// apart is how many last characters of a drive's serial number tell it from all others
// in the bays, and the bays with drives that look alike.
func (s *Server) apart(letter string) (int, []string) {
	bays, err := s.store.Bays()
	if err != nil {
		return 4, nil
	}
	var all []dockBay
	for _, b := range bays {
		if b.Image != nil {
			all = append(all, s.dockBay(b))
		}
	}
	i := slices.IndexFunc(all, func(b dockBay) bool { return b.Letter == letter })
	if i < 0 {
		return 4, nil
	}
	return survey.Apart(all[i].Identity, all[i].Size, seen(all, letter))
}

func (s *Server) dockFiles(folder string) []dockFile {
	list, err := os.ReadDir(s.folder(folder))
	if err != nil {
		return nil
	}
	var out []dockFile
	for _, e := range list {
		if !e.Type().IsRegular() || !fileForm.MatchString(e.Name()) || strings.HasSuffix(e.Name(), ".json") || strings.HasSuffix(e.Name(), partEnds) {
			continue
		}
		f := dockFile{Name: e.Name(), Drive: -1}
		p := filepath.Join(s.folder(folder), e.Name())
		if st, err := e.Info(); err == nil {
			f.Bytes = disk.Bytes(st.Size())
		}
		if f.Identity, err = survey.ReadIdentity(p); err != nil {
			f.Trouble = run.Sentence(err)
		}
		src, err := intake.Open(p)
		if err != nil {
			f.Trouble = run.Sentence(err)
		} else {
			f.Form, f.Drive = string(src.Format), src.Size
			src.Close()
		}
		out = append(out, f)
	}
	return out
}

// identityOf is what a form says of a drive.
func identityOf(c *gin.Context) survey.Identity {
	return survey.Identity{
		Model: strings.TrimSpace(c.PostForm("model")), Serial: strings.TrimSpace(c.PostForm("serial")),
		Removable: c.PostForm("removable") != "", ReadOnly: c.PostForm("read_only") != "",
	}
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

func writeIdentity(path string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteDurably(path, append(b, '\n'))
}

// freeBay sees that a drive can be put into a bay, for a job; "" is for none.
func (s *Server) freeBay(bay, number string) (job *string, err error) {
	bays, err := s.store.Bays()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == bay })
	switch {
	case i < 0:
		return nil, fmt.Errorf("there is no bay %q; nothing was attached", bay)
	case bays[i].Image != nil:
		return nil, fmt.Errorf("bay %s has a drive already; nothing was attached. Detach it first, or take another bay", bay)
	}
	if number == "" {
		return nil, nil
	}
	if _, _, err := s.store.Job(number, ""); err != nil {
		return nil, err
	}
	return &number, nil
}

// imageName is a name for a drive's image that none has yet.
func (s *Server) imageName(id survey.Identity) string {
	base := strings.ToLower(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(id.Serial, "-"))
	for n := 1; ; n++ {
		name := base + ".img"
		if n > 1 {
			name = fmt.Sprintf("%s-%d.img", base, n)
		}
		if _, err := os.Stat(filepath.Join(s.folder("drives"), name)); errors.Is(err, fs.ErrNotExist) {
			return name
		}
	}
}

// What lies beside a drive's image: its identity, which is written anew when it is attached, and what
// goes with it to wherever it goes.
const identityEnds = ".drive.json"

var besides = []string{".pc.json", ".bad.json", ".shelf-journal"}

// attach takes a file from the dock in as a drive in a bay.
func (s *Server) attach(c *gin.Context) {
	if err := s.attachFile(me(c), c.PostForm("file"), identityOf(c), c.PostForm("bay"), c.PostForm("job")); err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	c.Redirect(http.StatusSeeOther, "/dock")
}

// attachFile begins to take a file from the dock in as a drive in a bay, for a job; "" is for none. What was
// said of the drive counts where its image does not say it itself, and for how it is attached.
func (s *Server) attachFile(by *store.Technician, file string, said survey.Identity, bay, number string) error {
	from, err := s.dockPath("dock", file)
	if err != nil {
		return err
	}
	id, err := survey.ReadIdentity(from)
	if err == nil && id.Serial == "" {
		id, err = said, named(said)
	} else if err == nil { // the image carries its own
		if id.ReadOnly && !said.ReadOnly && !by.Lead {
			err = errEvidence
		}
		id.ReadOnly, id.Removable = said.ReadOnly, id.Removable || said.Removable
	}
	job, e := s.freeBay(bay, number)
	if err = errors.Join(err, e); err != nil {
		return err
	}
	who := by.Name
	return s.desk.Start("dock", "attach", "Attaching "+filepath.Base(from), func(ctx context.Context, report func(work.Update)) (string, error) {
		src, err := intake.Open(from)
		if err != nil {
			return "", err
		}
		defer src.Close()
		name := s.imageName(id)
		act := shop.Act{Bay: bay, Image: &name, Job: job}
		coming := filepath.Join("dock", filepath.Base(from))
		if src.Format != intake.Raw { // what it is as a drive is made beside it
			coming = filepath.Join("drives", name+comingEnds)
			free, err := room(s.folder("drives"))
			if err != nil {
				return "", err
			}
			defer os.Remove(filepath.Join(s.data, coming))
			if err := src.TakeIn(ctx, filepath.Join(s.data, coming), max(free-keepFree, 0), func(p intake.Progress) {
				report(work.Update{Phase: "taking in", Done: p.Done, Total: p.Total})
			}); err != nil {
				return "", err
			}
		}
		act.Moves = []shop.Move{{From: coming, To: filepath.Join("drives", name)}}
		if src.Format == intake.Raw { // the file itself becomes the drive
			for _, ends := range besides {
				act.Moves = append(act.Moves, shop.Move{From: coming + ends, To: filepath.Join("drives", name+ends), Maybe: true})
			}
			act.Drop = []string{coming + identityEnds} // the drive has its own then
		}
		return s.attached(&act, filepath.Join(s.data, coming), id, who, "taken in from "+filepath.Base(from)+" ("+string(src.Format)+")")
	})
}

// forgetComing takes away what was on its way into a bay when the server stopped.
func (s *Server) forgetComing() error {
	list, err := filepath.Glob(filepath.Join(s.folder("drives"), "*"+comingEnds))
	for _, p := range list {
		err = errors.Join(err, os.Remove(p))
	}
	return err
}

// comingEnds is what the names of drives end with that are not yet in a bay. At a start none is
// on its way, and what has such a name is taken away.
const comingEnds = ".coming"

// attached puts a drive into its bay and enters that in the trail. Its image is at path as yet, and
// is looked at there: what is no drive stays where it is.
func (s *Server) attached(act *shop.Act, path string, id survey.Identity, who, how string) (string, error) {
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
	act.Files = append(act.Files, shop.File{Name: filepath.Join("drives", *act.Image+identityEnds), Data: append(identity, '\n')})
	if act.Job == nil && !id.ReadOnly && looksLikeShelf(&drive{sv: sv}) {
		act.Shelf = true
		how += "; backups are on it, so it is a shelf"
	}
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	act.ID = "attach-" + tail
	act.Entry = trail.Entry{ID: "e-attach-" + tail, Time: s.now(), Who: who, Act: trail.ActAttach, Drive: trail.Drive{DiskID: sv.Layout.DiskID, Model: id.Model, Serial: id.Serial}, After: sv.Layout,
		Text: fmt.Sprintf("Drive of %s attached in bay %s, %s", im.Size().Maker(), act.Bay, how)}
	if act.Job != nil {
		act.Entry.Job = *act.Job
	}
	if err := s.books.Do(*act); err != nil {
		return "", err
	}
	return fmt.Sprintf("Bay %s has the drive %s with %s.", act.Bay, id.Serial, words.Plural(len(sv.Layout.Partitions()), "partition", "partitions")), nil
}

// blankDrive makes a new empty drive.
func (s *Server) blankDrive(c *gin.Context) {
	sector := disk.Bytes(512)
	if c.PostForm("sector") == "4096" {
		sector = 4096
	}
	said, err := s.makeBlank(me(c), identityOf(c), c.PostForm("size"), sector, c.PostForm("bay"), c.PostForm("job"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// makeBlank makes a new empty drive of a size with its unit, and puts it into a bay, for a job; "" is for none.
func (s *Server) makeBlank(who *store.Technician, id survey.Identity, amount string, sector disk.Bytes, bay, number string) (string, error) {
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
	coming := filepath.Join(s.folder("drives"), name+comingEnds)
	im, err := disk.CreateImage(coming, size, sector)
	if err != nil {
		return "", err
	}
	im.Close()
	defer os.Remove(coming)
	act := shop.Act{Bay: bay, Image: &name, Job: job, Moves: []shop.Move{{From: filepath.Join("drives", name+comingEnds), To: filepath.Join("drives", name)}}}
	return s.attached(&act, coming, id, who.Name, "new and blank")
}

// detach takes a drive out of its bay; its image goes to the dock.
func (s *Server) detach(c *gin.Context) {
	said, err := s.takeOutOfBay(me(c), c.PostForm("bay"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// takeOutOfBay takes a drive out of its bay; its image goes to the dock.
func (s *Server) takeOutOfBay(who *store.Technician, letter string) (said string, err error) {
	b, err := s.bay(letter)
	if err != nil {
		return "", err
	}
	name := filepath.Base(*b.Image)
	path := filepath.Join(s.folder("drives"), name)
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	act := shop.Act{ID: "detach-" + tail, Bay: b.Letter}
	act.Entry = trail.Entry{ID: "e-detach-" + tail, Time: s.now(), Who: who.Name, Act: trail.ActDetach, Text: fmt.Sprintf("Drive taken out of bay %s", b.Letter)}
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
	return said, s.books.Do(act)
}

// leaving sees that a drive can leave its bay, and what of files goes with it.
func (s *Server) leaving(b *store.Bay, act *shop.Act, path string) error {
	if s.desk.Busy(path) || s.desk.Busy("dock") {
		return errors.New("work on this drive is under way; it stays in its bay. Wait until that is done, or stop it")
	}
	if b.Shelf && shelf.InUse(path) {
		return errors.New("a backup on this drive is just being made or taken away; the shelf stays in its bay. Wait until that is done")
	}
	name := filepath.Base(path)
	if _, err := os.Stat(filepath.Join(s.folder("dock"), name)); err == nil {
		return fmt.Errorf("the dock has a file %s already; the drive stays in its bay", name)
	}
	act.Moves = []shop.Move{{From: filepath.Join("drives", name), To: filepath.Join("dock", name)}}
	for _, ends := range append([]string{identityEnds}, besides...) {
		act.Moves = append(act.Moves, shop.Move{From: filepath.Join("drives", name+ends), To: filepath.Join("dock", name+ends), Maybe: true})
	}
	d, err := s.open(b, false)
	if err != nil { // a drive that cannot be read can be taken out all the same
		act.Entry.Text += "; it could not be read"
		return nil
	}
	defer d.close()
	pending, err := s.unfinished(d)
	if err == nil && pending != nil {
		err = errors.New("a run on this drive is not finished; it stays in its bay. Finish the run or take it back first")
	}
	act.Entry.Drive = trail.Drive{DiskID: d.sv.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}
	act.Entry.Before = d.sv.Layout
	return err
}

// bay is the bay of that letter, with a drive in it.
func (s *Server) bay(letter string) (*store.Bay, error) {
	bays, err := s.store.Bays()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == letter && b.Image != nil })
	if i < 0 {
		return nil, fmt.Errorf("bay %q has no drive", letter)
	}
	return &bays[i], nil
}

// inBay opens the drive in a bay.
func (s *Server) inBay(letter string) (*store.Bay, *drive, error) {
	b, err := s.bay(letter)
	if err != nil {
		return nil, nil, err
	}
	d, err := s.open(b, false)
	return b, d, err
}

// errEvidence tells that a drive that was attached for evidence stays so.
var errEvidence = fmt.Errorf("%w: the drive is attached read-only, for evidence, and stays so. Ask the lead to attach it for writing", run.ErrLead)

// howAttached changes whether a drive is attached for evidence.
func (s *Server) howAttached(c *gin.Context) {
	said, err := s.attachFor(me(c), c.PostForm("bay"), c.PostForm("read_only") != "")
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// attachFor changes whether the drive in a bay is attached read-only, for evidence: a lead alone lets it be
// written again.
func (s *Server) attachFor(who *store.Technician, letter string, readOnly bool) (said string, err error) {
	b, d, err := s.inBay(letter)
	if err != nil {
		return "", err
	}
	defer d.close()
	id := d.Identity
	id.ReadOnly = readOnly
	if d.Identity.ReadOnly && !id.ReadOnly && !who.Lead {
		return "", errEvidence
	}
	how := map[bool]string{true: "read-only: nothing on it can be changed", false: "for writing"}[id.ReadOnly]
	text, err := json.MarshalIndent(id, "", "  ")
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil && s.desk.Busy(d.path) {
		err = work.ErrBusy
	}
	if err == nil {
		err = s.books.Do(shop.Act{ID: "how-" + tail, Files: []shop.File{{Name: filepath.Join("drives", filepath.Base(d.path)+identityEnds), Data: append(text, '\n')}},
			Entry: trail.Entry{ID: "e-how-" + tail, Time: s.now(), Who: who.Name, Act: trail.ActAttach, Drive: driveName(d), Text: fmt.Sprintf("Drive in bay %s is attached %s from now on", b.Letter, how)}})
	}
	return fmt.Sprintf("The drive in bay %s is attached %s.", b.Letter, how), err
}

// handOut writes a drive out in a form that can be handed over.
func (s *Server) handOut(c *gin.Context) {
	if err := s.writeOut(c.PostForm("bay"), intake.Format(c.PostForm("format"))); err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	c.Redirect(http.StatusSeeOther, "/dock")
}

// writeOut begins to write the drive in a bay out in a form that can be handed over.
func (s *Server) writeOut(letter string, format intake.Format) error {
	if format.Ends() == "" {
		return errors.New("there is no such form; nothing was written")
	}
	b, d, err := s.inBay(letter)
	if err == nil {
		if err = s.settledDrive(d); err == nil && s.desk.Busy(d.path) {
			err = work.ErrBusy
		}
		if err != nil {
			d.close()
		}
	}
	if err != nil {
		return err
	}
	err = s.desk.Start("dock", "hand-out", "Handing bay "+b.Letter+" out", func(ctx context.Context, report func(work.Update)) (string, error) {
		defer d.close()
		if err := d.im.Share(); err != nil {
			return "", err
		}
		name := strings.TrimSuffix(filepath.Base(d.path), ".img") + format.Ends()
		path := filepath.Join(s.folder("handed-out"), name)
		f, err := os.Create(path + partEnds)
		if err != nil {
			return "", err
		}
		defer os.Remove(path + partEnds)
		err = intake.HandOut(ctx, d.im, f, format, func(p intake.Progress) {
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
		d.close()
	}
	return err
}

// handOutForms are the forms in which a drive can be handed out, in the order in which they are offered.
var handOutForms = []intake.Format{intake.Zstd, intake.Gzip, intake.VHDDynamic, intake.VHDFixed, intake.Qcow2, intake.Raw}

// partEnds is how the name of a file ends that is just being written out.
const partEnds = ".part"

// handOuts are the files into which a drive is, or was, written out.
func (s *Server) handOuts(d *drive) (out []string, err error) {
	name := strings.TrimSuffix(filepath.Base(d.path), ".img")
	its := map[string]bool{}
	for _, f := range handOutForms {
		its[name+f.Ends()], its[name+f.Ends()+partEnds] = true, true
	}
	list, err := os.ReadDir(s.folder("handed-out"))
	for _, f := range list {
		if its[f.Name()] {
			out = append(out, filepath.Join(s.folder("handed-out"), f.Name()))
		}
	}
	return out, err
}

func (s *Server) handedOut(c *gin.Context) {
	p, err := s.dockPath("handed-out", c.Param("file"))
	if err == nil {
		_, err = os.Stat(p)
	}
	if err != nil {
		s.fail(c, fmt.Errorf("this file does not exist: %w", store.ErrNotFound))
		return
	}
	c.FileAttachment(p, filepath.Base(p))
}

// upload is a file that comes in pieces.
type upload struct {
	Name     string     `json:"name"`
	Size     disk.Bytes `json:"size"`
	Received disk.Bytes `json:"received"`
	ID       string     `json:"id"`
	Trouble  string     `json:"trouble,omitempty"`
}

// maxPiece bounds one piece of an upload.
const maxPiece = 8 << 20

func (s *Server) part(id string) string {
	return filepath.Join(s.folder("dock"), ".coming-"+id)
}

func (s *Server) badUpload(c *gin.Context, status int, format string, args ...any) {
	c.AbortWithStatusJSON(status, upload{Trouble: run.Sentence(fmt.Errorf(format, args...))})
}

// beginUpload begins an upload, or tells how far one of the same file has come.
func (s *Server) beginUpload(c *gin.Context) {
	u := upload{Name: c.PostForm("name")}
	n, err := strconv.ParseInt(c.PostForm("size"), 10, 64)
	u.Size = disk.Bytes(n)
	free, e := room(s.folder("dock"))
	switch {
	case e != nil:
		s.badUpload(c, 500, "the dock cannot be used: %w", e)
		return
	case !fileForm.MatchString(u.Name):
		s.badUpload(c, 400, "a file's name has letters, digits, spaces and . _ ( ) + -, and %q has others; nothing was sent. Rename it", u.Name)
		return
	case err != nil || n <= 0 || u.Size > intake.MaxSize:
		s.badUpload(c, 400, "a file of %q bytes cannot be taken; nothing was sent", c.PostForm("size"))
		return
	}
	if _, err := os.Stat(filepath.Join(s.folder("dock"), u.Name)); err == nil {
		s.badUpload(c, 409, "the dock has a file %s already; nothing was sent. Rename it, or attach the one that is there", u.Name)
		return
	}
	h := sha256.Sum256([]byte(fmt.Sprintf("%s\x00%d\x00%s\x00%s", u.Name, u.Size, c.PostForm("stamp"), me(c).Login)))
	u.ID = hex.EncodeToString(h[:12])
	if st, err := os.Stat(s.part(u.ID)); err == nil {
		u.Received = min(disk.Bytes(st.Size()), u.Size)
	}
	if u.Size-u.Received > free-keepFree {
		s.badUpload(c, 507, "%w: the file has %s, and %s can be taken; nothing was sent", intake.ErrRoom, u.Size, max(free-keepFree, 0))
		return
	}
	s.sessions.Put(c.Request.Context(), "upload-"+u.ID, fmt.Sprintf("%d:%s", u.Size, u.Name))
	c.JSON(http.StatusOK, u)
}

// uploadOf is an upload that this person has begun.
func (s *Server) uploadOf(c *gin.Context) (*upload, bool) {
	id := c.Param("upload")
	size, name, ok := strings.Cut(s.sessions.GetString(c.Request.Context(), "upload-"+id), ":")
	if !ok {
		s.badUpload(c, 404, "there is no such upload; begin it again")
		return nil, false
	}
	n, _ := strconv.ParseInt(size, 10, 64)
	u := &upload{ID: id, Name: name, Size: disk.Bytes(n)}
	if st, err := os.Stat(s.part(id)); err == nil {
		u.Received = disk.Bytes(st.Size())
	}
	return u, true
}

// addPiece takes the piece of an upload that follows what was received. The last one
// puts the file into the dock.
func (s *Server) addPiece(c *gin.Context) {
	u, ok := s.uploadOf(c)
	if !ok {
		return
	}
	if at := c.Query("at"); at != strconv.FormatInt(int64(u.Received), 10) {
		c.JSON(http.StatusConflict, u) // tells where to go on
		return
	}
	f, err := os.OpenFile(s.part(u.ID), os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		s.badUpload(c, 500, "the dock cannot be written: %w", err)
		return
	}
	n, err := io.Copy(io.NewOffsetWriter(f, int64(u.Received)), io.LimitReader(c.Request.Body, min(maxPiece, int64(u.Size-u.Received))))
	if e := f.Close(); err == nil {
		err = e
	}
	u.Received += disk.Bytes(n)
	switch {
	case errors.Is(err, unix.ENOSPC):
		os.Remove(s.part(u.ID))
		s.badUpload(c, 507, "%w: the host is full; what had come was taken away", intake.ErrRoom)
		return
	case err != nil:
		s.badUpload(c, 500, "the piece did not arrive whole: %w", err)
		return
	case u.Received == u.Size:
		err := os.Link(s.part(u.ID), filepath.Join(s.folder("dock"), u.Name)) // fails where one is there
		if err == nil {
			err = os.Remove(s.part(u.ID))
		}
		if err != nil {
			s.badUpload(c, 409, "the file could not be put into the dock: %w", err)
			return
		}
		s.sessions.Remove(c.Request.Context(), "upload-"+u.ID)
	}
	c.JSON(http.StatusOK, u)
}

// forgetUploads removes what was sent in part and not gone on with for a week.
func (s *Server) forgetUploads() error {
	list, err := filepath.Glob(s.part("*"))
	for _, p := range list {
		if st, e := os.Stat(p); e == nil && s.now().Sub(st.ModTime()) > 7*24*time.Hour {
			err = errors.Join(err, os.Remove(p))
		}
	}
	return err
}

func dockLink(name string) string { return "/dock/handed/" + url.PathEscape(name) }
