package shop

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// shelves are the volumes on the shop's shelf drives, found once for each drive.
type shelves struct {
	mu    sync.Mutex
	known map[string][]*shelf.OnVolume // by bay and image
}

// Shelf is all places for backups, as the drives are in their bays now. New backups go to
// the first of the shelf drives, or where there is none to the bench's own folder.
func (s *Shop) Shelf() *shelf.Shelf {
	sh := &shelf.Shelf{Dir: s.Folder("shelf"), Key: s.Store.Key, Keys: s.Keys}
	bays, err := s.Store.Bays()
	if err != nil {
		sh.Unsure = fmt.Errorf("which drives are shelves cannot be told: %w", err)
		return sh
	}
	for _, b := range bays {
		if !b.Shelf || b.Image == nil {
			continue
		}
		on, err := s.shelvesOn(&b)
		if err != nil {
			sh.Unsure = errors.Join(sh.Unsure, fmt.Errorf("bay %s cannot be looked into: %w", b.Letter, err))
		}
		sh.Volumes = append(sh.Volumes, on...)
	}
	if len(sh.Volumes) > 0 {
		sh.To = sh.Volumes[0].Title
	}
	return sh
}

// shelvesOn are the volumes for backups on a drive. Their titles say in which bay, under
// what label, and how the drive's serial number ends.
func (s *Shop) shelvesOn(b *store.Bay) ([]*shelf.OnVolume, error) {
	s.shelves.mu.Lock()
	defer s.shelves.mu.Unlock()
	key := b.Letter + " " + *b.Image
	var since time.Time
	if b.Since != nil {
		since = *b.Since
		key += " " + since.String()
	}
	if v, ok := s.shelves.known[key]; ok {
		return v, nil
	}
	d, err := s.Open(b, false)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var out []*shelf.OnVolume
	for _, p := range d.Survey.Layout.Partitions() {
		if _, ok := d.Survey.Volume(p.Number).(volume.Keeper); ok && p.Role == layout.Data {
			title := fmt.Sprintf("Bay %s, %s (%s)", b.Letter, p.Title(), d.Ending())
			if slices.ContainsFunc(out, func(v *shelf.OnVolume) bool { return v.Title == title }) {
				title += fmt.Sprintf(", partition %d", p.Number)
			}
			out = append(out, &shelf.OnVolume{
				Title: title, Image: d.Path, Partition: p.UniqueID, Since: since, Now: s.Now,
			})
		}
	}
	if s.shelves.known == nil {
		s.shelves.known = map[string][]*shelf.OnVolume{}
	}
	s.shelves.known[key] = out
	return out, nil
}

// UseAsShelf makes a drive of the shop's own a shelf: one that has an NTFS volume as it is, and a blank one by
// giving it a table and a volume with a label.
func (s *Shop) UseAsShelf(who *store.Technician, letter, label string) (said string, err error) {
	b, d, err := s.inBay(letter)
	if err != nil {
		return "", err
	}
	defer d.Close()
	blank := len(d.Survey.Layout.Partitions()) == 0
	switch {
	case b.Job != nil:
		err = fmt.Errorf(
			"the drive in bay %s belongs to %s; a shelf is a drive of the shop's own. Nothing was changed", b.Letter,
			*b.Job,
		)
	case d.Identity.ReadOnly:
		err = fmt.Errorf("the drive in bay %s is attached read-only; nothing was changed", b.Letter)
	case s.Desk.Busy(d.Path):
		err = errors.New("work on this drive is under way; nothing was changed")
	case blank:
		err = s.Distinct(label)
	case len(Keepers(d)) == 0:
		err = fmt.Errorf(
			"the drive in bay %s has no NTFS volume that backups could be kept in; nothing was changed. Use a blank drive",
			b.Letter,
		)
	}
	l := d.Survey.Layout
	if err == nil && blank {
		l, err = s.prepare(d, label)
	}
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil {
		err = s.Books.Do(Act{ID: "shelf-" + tail, Bay: b.Letter, Image: b.Image, Job: b.Job, Shelf: true,
			Entry: trail.Entry{ID: "e-shelf-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActShelf, After: l, Text: fmt.Sprintf("Drive in bay %s is a shelf from now on", b.Letter),
				Drive: trail.Drive{DiskID: l.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}}})
	}
	return fmt.Sprintf("The drive in bay %s is a shelf: backups can be kept on it.", b.Letter), err
}

// Keepers are the volumes of a drive that backups can be kept in.
func Keepers(d *Drive) []int {
	var out []int
	for _, p := range d.Survey.Layout.Partitions() {
		if _, ok := d.Survey.Volume(p.Number).(volume.Keeper); ok && p.Role == layout.Data {
			out = append(out, p.Number)
		}
	}
	return out
}

// Distinct refuses a label that could be confused with that of another shelf.
func (s *Shop) Distinct(label string) error {
	if label == "" || len([]rune(label)) > 32 {
		return errors.New("the shelf needs a label of 1 to 32 letters; nothing was made")
	}
	plain := func(t string) string {
		return strings.Map(func(r rune) rune {
			switch r {
			case ' ', '-', '_', '.':
				return -1
			case 'o', 'O':
				return '0'
			case 'l', 'I', 'i', 'L':
				return '1'
			}
			return r
		}, strings.ToLower(t))
	}
	bays, err := s.Store.Bays()
	if err != nil {
		return err
	}
	for _, b := range bays {
		if !b.Shelf || b.Image == nil {
			continue
		}
		d, err := s.Open(&b, false)
		if err != nil {
			continue
		}
		d.Close()
		for _, p := range d.Survey.Layout.Partitions() {
			if p.Volume != nil && plain(p.Volume.Label) == plain(label) {
				return fmt.Errorf(
					"the shelf in bay %s is labelled %q: the two could be confused; nothing was made. Give another label",
					b.Letter, p.Volume.Label,
				)
			}
		}
	}
	return nil
}

// prepare gives a blank drive its table and volume.
func (s *Shop) prepare(d *Drive, label string) (*layout.Layout, error) {
	var random [2][16]byte
	for i := range random {
		if _, err := io.ReadFull(s.Random, random[i][:]); err != nil {
			return nil, err
		}
	}
	id := compile.UniqueID(random[1])
	serial, err := strconv.ParseUint(plan.Serial(id), 16, 64)
	if err != nil {
		return nil, err
	}
	im, err := disk.OpenImage(d.Path, 0, true)
	if err != nil {
		return nil, err
	}
	defer im.Close()
	return shelf.Prepare(
		im, d.Path,
		shelf.NewVolume{Label: label, DiskID: compile.UniqueID(random[0]), UniqueID: id, Serial: serial, Now: s.Now()},
	)
}

// UseAsShelfNoMore takes the drive in a bay out of the shelves; what lies on it stays.
func (s *Shop) UseAsShelfNoMore(who *store.Technician, letter string) (said string, err error) {
	b, d, err := s.inBay(letter)
	if err != nil {
		return "", err
	}
	defer d.Close()
	n := 0
	list, err := s.Shelf().List()
	for _, m := range list {
		if m.On(d.Survey.Layout) {
			n++
		}
	}
	if err == nil && n > 0 {
		err = fmt.Errorf(
			"%s on the drive in bay %s; it stays a shelf. Delete them first",
			words.Either(n == 1, "a backup lies", fmt.Sprintf("%d backups lie", n)), b.Letter,
		)
	}
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil {
		err = s.Books.Do(Act{ID: "no-shelf-" + tail, Bay: b.Letter, Image: b.Image, Job: b.Job,
			Entry: trail.Entry{ID: "e-no-shelf-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActShelf, Drive: NameOf(d), Text: fmt.Sprintf("Drive in bay %s is no shelf any more", b.Letter)}})
	}
	return fmt.Sprintf("The drive in bay %s is no shelf any more.", b.Letter), err
}

// looksLikeShelf tells whether a drive has backups on it.
func looksLikeShelf(d *Drive) bool {
	return slices.ContainsFunc(Keepers(d), func(n int) bool {
		return shelf.Holds(d.Survey.Volume(n))
	})
}
