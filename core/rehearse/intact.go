package rehearse

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// Intact follows every file that stays in its volume through the script: it must be there
// afterwards with the same name, size and time, and each of its clusters must hold what the
// clusters held that it had before. What the clusters hold is never read for that: what was
// moved is compared when it is moved, and nothing else is written. The contents of small
// files that the file system keeps in its own tables are compared.
//
// before is the drive as it is, p the copy after all steps.
func (p *Run) Intact(before *survey.Survey) error {
	o := p.Script.Origins()
	in := &p.Meta.Intact
	planned := p.Columns[len(p.Columns)-1].Layout
	for _, was := range before.Layout.Partitions() {
		now, stays := planned.Find(was.Number)
		a, b := before.Volume(was.Number), p.Survey.Volume(was.Number)
		if !stays || a == nil || now.Volume == nil || now.Volume.Serial != was.Volume.Serial || now.Volume.Kind != was.Volume.Kind {
			continue
		}
		sec := before.Layout.Sector
		if now.Start == was.Start && now.End == was.End && !o.Touches(was.Start.Offset(sec), was.Bytes) {
			in.Untouched++
			continue
		}
		if b == nil {
			return fmt.Errorf("the volume in partition %d could not be read any more", was.Number)
		}
		in.Volumes++
		f := &following{
			a: a, b: b, from: was.Start.Offset(sec), to: now.Start.Offset(sec), origins: o, in: in,
			taken: p.TakenFrom(was.Number),
		}
		if err := f.all(); err != nil {
			return fmt.Errorf("partition %d: %w", was.Number, err)
		}
		before.Forget(was.Number) // what it has read is not needed any more
	}
	return nil
}

// TakenFrom are the folders that steps take out of a volume.
func (p *Run) TakenFrom(number int) []string {
	var out []string
	for _, c := range p.Columns {
		if c.Moves && c.From == number {
			out = append(out, c.Base)
		}
		if plan.Of[plan.Shrinking](c.Step).DropRestorePoints && c.Number == number {
			out = append(out, "System Volume Information")
		}
	}
	return out
}

// IsBelow tells that a path is one of the folders, or in one of them.
func IsBelow(path string, folders []string) bool {
	return slices.ContainsFunc(folders, func(f string) bool {
		return len(path) > len(f) && path[len(f)] == '/' && strings.EqualFold(path[:len(f)], f)
	})
}

// following is a volume whose files are followed.
type following struct {
	a, b     volume.Volume // before and after
	from, to disk.Bytes    // where it begins on the drive
	origins  *script.Origins
	taken    []string // folders that a step takes out
	in       *ran.Intact
	was      map[[16]byte][16]byte // by name, what is known of a file
}

func (f *following) all() error {
	f.was = map[[16]byte][16]byte{}
	err := volume.WalkPlaces(f.a, func(x volume.File) error {
		if x.Kind == volume.Folder && x.Stream == "" {
			return nil
		}
		d, err := f.digest(f.a, x, func(e volume.Extent) []script.Piece { return []script.Piece{{From: f.from + e.Off, Len: e.Len}} })
		f.was[key(x)] = d
		return err
	})
	if err != nil {
		return err
	}
	err = volume.WalkPlaces(f.b, func(x volume.File) error {
		was, there := f.was[key(x)]
		if !there {
			return nil // it is new
		}
		delete(f.was, key(x))
		f.in.Files++
		f.in.Bytes += x.Bytes
		moved := false
		d, err := f.digest(f.b, x, func(e volume.Extent) []script.Piece {
			ps := f.origins.Of(f.to+e.Off, e.Len)
			moved = moved || len(ps) != 1 || ps[0].From != f.to+e.Off
			return ps
		})
		if moved {
			f.in.Moved++
		}
		if err != nil || d == was {
			return err
		}
		return f.compare(x)
	})
	if err != nil || len(f.was) == 0 {
		return err
	}
	// What is missing must be what a step takes out.
	return volume.WalkPlaces(f.a, func(x volume.File) error {
		if _, missing := f.was[key(x)]; missing && !IsBelow(x.Path, f.taken) {
			return fmt.Errorf("the file %s would be lost", x.Path)
		}
		return nil
	})
}

// digest is what is known of a file: size, time, attributes, and the places on the drive as
// it was in which its contents lie; where it has none, the contents themselves.
func (f *following) digest(v volume.Volume, x volume.File, places func(volume.Extent) []script.Piece) (d [16]byte, err error) {
	h := blake3.New()
	fmt.Fprintf(
		h, "%d\x00%s\x00%s\x00%s\x00%s\x00", x.Bytes, volume.Stamp(x.Modified), x.Stored, x.Target, x.Unreadable,
	)
	var last script.Piece
	put := func(p script.Piece) {
		var b [16]byte
		binary.LittleEndian.PutUint64(b[:], uint64(p.From))
		binary.LittleEndian.PutUint64(b[8:], uint64(p.Len))
		h.Write(b[:])
	}
	for _, e := range x.Extents {
		ps := []script.Piece{{From: -2, Len: e.Len}} // a hole of the file
		if e.Off >= 0 {
			ps = places(e)
		}
		for _, p := range ps {
			switch {
			case last.Len > 0 && (p.From == -2 && last.From == -2 || p.From >= 0 && last.From >= 0 && last.From+last.Len == p.From):
				last.Len += p.Len
			default:
				put(last)
				last = p
			}
		}
	}
	put(last)
	if len(x.Extents) == 0 && x.Bytes > 0 && x.Unreadable == "" && x.Kind == volume.Plain {
		r, e := v.Open(x)
		if e == nil {
			_, e = io.Copy(h, io.NewSectionReader(r, 0, int64(x.Bytes)))
		}
		if err = e; err != nil {
			err = fmt.Errorf("%s: %w", x.Path, err)
		}
	}
	return [16]byte(h.Sum(nil)[:16]), err
}

// compare reads a file on both sides, where it cannot be told from its clusters that it is
// the same.
func (f *following) compare(now volume.File) error {
	var was volume.File
	found := false
	err := volume.WalkPlaces(f.a, func(x volume.File) error {
		if key(x) == key(now) {
			was, found = x, true
			return io.EOF
		}
		return nil
	})
	if !found {
		return fmt.Errorf("the file %s cannot be found: %v", now.Path, err)
	}
	if now.Bytes != was.Bytes || !now.Modified.Equal(was.Modified) || now.Target != was.Target || now.Unreadable != was.Unreadable {
		return fmt.Errorf("the file %s would have another size, time or target", now.Path)
	}
	if now.Unreadable != "" {
		return nil
	}
	a, err := f.a.Open(was)
	if err != nil {
		return err
	}
	b, err := f.b.Open(now)
	if err != nil {
		return err
	}
	sums := [2]*blake3.Hasher{blake3.New(), blake3.New()}
	for i, r := range []io.ReaderAt{a, b} {
		if _, err := io.Copy(sums[i], io.NewSectionReader(r, 0, int64(now.Bytes))); err != nil {
			return fmt.Errorf("%s: %w", now.Path, err)
		}
	}
	if string(sums[0].Sum(nil)) != string(sums[1].Sum(nil)) {
		return fmt.Errorf("the file %s would have other contents", now.Path)
	}
	f.in.Compared++
	return nil
}

func key(f volume.File) (k [16]byte) {
	h := blake3.Sum256([]byte(f.Path + "\x00" + f.Stream + "\x00" + string(f.Kind)))
	return [16]byte(h[:16])
}
