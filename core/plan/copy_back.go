package plan

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// CopyingBack is what is said of files that come back.
type CopyingBack struct {
	Backup string   `json:"backup,omitempty"` // from which, or the name of what an earlier step copied out
	Only   []string `json:"only,omitempty"`   // which of them, none for all
	Folder string   `json:"folder,omitempty"` // into which, "" for the root
}

func (CopyingBack) Do() Do { return CopyBack }

func (b CopyingBack) backup() string { return b.Backup }

func (b CopyingBack) folder() string { return b.Folder }

func (b CopyingBack) withFolder(path string) Body {
	b.Folder = path
	return b
}

// copyingBack puts files of a backup, or of an earlier step, into a volume.
var copyingBack = kind{
	blank: CopyingBack{},
	valid: validCopyBack, lay: layCopyBack, fills: itself, copies: copiedBack, priced: priceOfCopyBack,
	over: func(Column) bool { return true },
}

func validCopyBack(s Step) error {
	step := Of[CopyingBack](s)
	if s.Partition == "" || step.Backup == "" {
		return errors.New("copy-back needs a partition and a backup")
	}
	return validFolder(step.Folder)
}

// layCopyBack puts files of a backup into a volume.
func layCopyBack(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[CopyingBack](c.Step)
	c.Title = "Put files into " + p.Title()
	if f.names != nil {
		if h := f.names.holds[step.Backup]; h != nil {
			takeBack(c, l, p, h)
			return
		}
		if b, named := f.names.backups[step.Backup]; named && b.id == "" { // the gate asks for it
			if o := MayTake(p, b.bytes); o != nil {
				c.Obstacles = append(c.Obstacles, *o)
				return
			}
			c.Detail, c.Waits, c.Layout = "from the shelf, once they are there", b.bytes, fuller(l, p.Number, b.bytes)
			return
		} else if named {
			step.Backup = b.id
			c.Step.Body = step
		}
	}
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	a, ok := f.Arriving[step.Arrival()]
	room := a.Room
	if p.Volume != nil && p.Volume.Kind != volume.NTFS {
		room = a.Whole
	}
	full := MayTake(p, room)
	switch {
	case !ok:
		block(NewObstacle(
			NoBackup, fmt.Sprintf("There is no backup %s on the shelf whose files can be read.", step.Backup),
		))
	case !a.Verified:
		block(NewObstacle(BackupMissing, fmt.Sprintf("The backup %s has not been verified.", step.Backup)).ClearedBy("verify-backup"))
	case full != nil:
		block(full)
	default:
		c.Detail = fmt.Sprintf("%d files, %s, from backup %s", a.Files, a.Bytes, step.Backup)
		if a.Lost > 0 {
			c.Detail += fmt.Sprintf("; %d cannot be read in it and are left out", a.Lost)
		}
		c.less(volume.Unknown, p, a.Packed)
		c.Layout = fuller(l, p.Number, room)
	}
}

// MayTake says why files that take about so much room cannot be put into a volume, or
// nil.
func MayTake(p *layout.Span, room disk.Bytes) *Obstacle {
	switch {
	case p.Held != "":
		return NewObstacle(Held, fmt.Sprintf("%s is in use by %s.", p.Title(), p.Held), p.Number).ClearedBy("switch-off", "free-volume", "restart")
	case p.Volume == nil:
		return NewObstacle(NoVolume, fmt.Sprintf("%s holds no volume.", p.Title()), p.Number)
	case !p.Volume.Kind.Changes():
		return NewObstacle(NotYet, fmt.Sprintf("%s is %s; files are put into NTFS and FAT volumes only.", p.Title(), p.Volume.Kind), p.Number).ClearedBy("copy-to-folder")
	case p.Volume.Hibernated:
		return NewObstacle(
			Hibernated,
			fmt.Sprintf("The system in %s is hibernated and would write over what is changed.", p.Title()), p.Number,
		).ClearedBy("shut-down")
	case !p.Volume.Clean:
		return NewObstacle(NotClean, fmt.Sprintf("%s was not closed properly.", p.Title()), p.Number).ClearedBy("check")
	case room > p.Volume.Free():
		return NewObstacle(
			Full, fmt.Sprintf("The files take about %s, and %s has %s free.", room, p.Title(), p.Volume.Free()),
			p.Number,
		)
	}
	return nil
}

// takeBack puts files into a volume that an earlier step copied out to another one of the
// drive.
func takeBack(c *Column, l *layout.Layout, p *layout.Span, h *Hold) {
	c.Title = "Put the files back into " + p.Title()
	from, ok := l.Find(h.Number)
	switch {
	case !ok:
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			NoBackup, "The volume that the files were copied to is not there any more.", p.Number,
		))
		return
	case from.Number == p.Number:
		c.Obstacles = append(c.Obstacles, *NewObstacle(NoNeighbour, "The files wait in this volume itself.", p.Number))
		return
	case len(Of[CopyingBack](c.Step).Only) > 0:
		c.Obstacles = append(c.Obstacles, *NewObstacle(
			BadAmount, "Files that an earlier step copied out come back all together.", p.Number,
		))
		return
	}
	if o := MayTake(p, h.Bytes); o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	c.From, c.Base = from.Number, h.Folder
	c.less(from.Volume.Kind, p, -1)
	c.Layout = fuller(l, p.Number, h.Bytes)
	c.Detail = fmt.Sprintf("copied from the folder %s of %s, where the copy stays", h.Folder, from.Title())
	if from.Volume.Kind == volume.NTFS && MayTake(from, 0) == nil {
		c.Moves, c.Layout = true, fuller(c.Layout, from.Number, -h.Bytes)
		c.Detail = fmt.Sprintf("moved from the folder %s of %s", h.Folder, from.Title())
	}
}

// Arriving is files on their way into a volume.
type Arriving struct {
	Files    int
	Bytes    disk.Bytes
	Room     disk.Bytes // about what they take where sparse files stay sparse
	Whole    disk.Bytes // and where they do not
	Verified bool       // or what is damaged in it is known
	Lost     int        // that cannot be read in the backup
	Packed   int        // that were compressed
}

// Arrival names what is put into a volume.
func (b CopyingBack) Arrival() string { return b.Backup + "\x00" + strings.Join(b.Only, "\x00") }

func copiedBack(c Column, is *layout.Span, before *layout.Layout, f Facts) disk.Bytes {
	switch {
	case c.From != 0: // what it adds
		if was, ok := before.Find(c.Number); ok && is != nil && is.Volume != nil && was.Volume != nil {
			return is.Volume.UsedBytes - was.Volume.UsedBytes
		}
		return 0
	case c.Waits > 0:
		return c.Waits
	}
	return f.Arriving[Of[CopyingBack](c.Step).Arrival()].Bytes
}

func priceOfCopyBack(sum *tally, c Column, _ *layout.Span, _ *layout.Layout) {
	if c.Moves { // what was put aside is not there any more then
		sum.beside -= sum.copied
	}
}

// fuller is the layout with more used in one volume.
func fuller(l *layout.Layout, number int, by disk.Bytes) *layout.Layout {
	parts := l.Partitions()
	for i := range parts {
		if q := &parts[i]; q.Number == number {
			v := *q.Volume
			v.UsedBytes = max(min(v.UsedBytes+by, v.TotalBytes), 0)
			q.Volume = &v
		}
	}
	return l.With(parts)
}
