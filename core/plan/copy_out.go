package plan

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// copyingOut copies a volume's files to the shelf or into another volume, or moves one folder there.
var copyingOut = kind{
	valid: validCopyOut, lay: layCopyOut, copies: copiedOut, priced: priceOfCopyOut,
	fills: func(c *Column) int {
		if c.From == 0 { // to the shelf
			return 0
		}
		return c.Number
	},
}

func validCopyOut(s Step) error {
	switch {
	case s.Move && (len(s.Only) != 1 || strings.Trim(s.Only[0], "/") == "" || s.Volume == ""):
		return errors.New("what is moved is one folder, and it goes into another volume")
	case !s.Move && len(s.Only) > 0:
		return errors.New("copy-out copies all of a volume, or moves one folder")
	case s.Partition == "":
		return s.named()
	}
	return validFolder(s.Folder)
}

// Hold is where a step that copies out puts a volume's files when no backup takes them: a
// folder of another volume of the drive.
type Hold struct {
	Number int // of the volume
	Folder string
	Bytes  disk.Bytes // about what they take there
}

// HoldFolder is the folder that files wait in, unless the step names another.
func HoldFolder(p *layout.Span) string {
	name := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`\/:*?"<>|`, r) {
			return '-'
		}
		return r
	}, strings.TrimSpace(p.Called()))
	letters := []rune(name)
	return "Kept from " + strings.TrimRight(string(letters[:min(len(letters), 60)]), " .")
}

// layCopyOut takes a volume's files to the shelf, or into a folder of another volume of the
// drive. The step is named, and a later one brings them back.
func layCopyOut(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Copy the files of " + p.Title() + " out"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if o := FilesOf(p, f); o != nil {
		block(o)
		return
	}
	if c.Step.Move {
		moveFolder(c, l, p, f)
		return
	}
	if c.Step.Volume == "" {
		b, ok := f.Backups[p.Number]
		switch {
		case ok && b.Coverage || !ok:
			c.Missing = append(c.Missing, *NewObstacle(
				BackupMissing,
				fmt.Sprintf(
					"The files of %s are to come back from the shelf, and are not there yet. Make the backup.",
					p.Title(),
				),
				p.Number,
			).ClearedBy("back-up"))
		case !b.Verified || !b.Same:
			c.Missing = append(c.Missing, *NewObstacle(
				BackupMissing,
				fmt.Sprintf(
					"%s has changed since its backup was made, or the backup is not verified. Make it again.",
					p.Title(),
				),
				p.Number,
			).ClearedBy("back-up"))
		default:
			c.Backup = b.ID
		}
		c.Detail, c.Waits, c.Layout = "to the shelf", p.Volume.UsedBytes, l
		return
	}
	to, o := Named(l, c.Step.Volume)
	if o == nil && to.Number == p.Number {
		o = NewObstacle(NoNeighbour, "Its files would be copied onto itself.", p.Number)
	}
	need := p.Volume.UsedBytes
	if o == nil {
		o = MayTake(to, need)
	}
	if o != nil {
		block(o)
		return
	}
	if c.Step.Folder == "" {
		c.Step.Folder = HoldFolder(p)
	}
	c.Number, c.From = to.Number, p.Number
	c.Detail = fmt.Sprintf("into the folder %s of %s", c.Step.Folder, to.Title())
	c.Hold = &Hold{to.Number, strings.Trim(c.Step.Folder, "/"), need}
	c.less(p.Volume.Kind, to, -1)
	c.Layout = fuller(l, to.Number, need)
}

// moveFolder moves a folder of a volume into another volume of the drive.
func moveFolder(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	path := strings.Trim(c.Step.Only[0], "/")
	c.Title = fmt.Sprintf("Move %s out of %s", path, p.Title())
	var bytes disk.Bytes
	for _, x := range f.Insides[p.Number].Folders {
		if x.Path == path {
			bytes = x.Bytes
		}
	}
	to, o := Named(l, c.Step.Volume)
	switch {
	case o != nil:
	case to.Number == p.Number:
		o = NewObstacle(NoNeighbour, "It would be moved onto its own volume.", p.Number)
	case p.Volume.Kind != volume.NTFS:
		o = NewObstacle(
			NotYet, fmt.Sprintf("%s is %s; files are taken out of NTFS volumes only.", p.Title(), p.Volume.Kind),
			p.Number,
		).ClearedBy("copy-out")
	default:
		if o = MayTake(p, 0); o == nil {
			o = MayTake(to, bytes)
		}
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	if c.Step.Folder == "" {
		c.Step.Folder = "From " + strings.TrimPrefix(HoldFolder(p), "Kept from ") + "/" + path[strings.LastIndex(path, "/")+1:]
	}
	c.Number, c.From, c.Base, c.Moves, c.Waits = to.Number, p.Number, path, true, bytes
	c.Detail = fmt.Sprintf("into the folder %s of %s", c.Step.Folder, to.Title())
	c.Notes = append(c.Notes, *NewObstacle(
		PathsChange,
		fmt.Sprintf(
			"What was in %s of %s is in %s of %s afterwards. Programs that know the old path must be told.", path,
			p.Title(), c.Step.Folder, to.Title(),
		),
		p.Number, to.Number,
	))
	c.less(p.Volume.Kind, to, -1)
	c.Layout = fuller(fuller(l, to.Number, bytes), p.Number, -bytes)
}

func copiedOut(c Column, is *layout.Span, _ *layout.Layout, _ Facts) disk.Bytes {
	switch {
	case c.Hold != nil:
		return c.Hold.Bytes
	case c.Step.Move:
		return c.Waits
	}
	return whatCameAcross(c, is)
}

// whatCameAcross is how much a volume has that came from another volume of the drive.
func whatCameAcross(c Column, is *layout.Span) disk.Bytes {
	if c.From == 0 || is == nil || is.Volume == nil {
		return 0
	}
	return is.Volume.UsedBytes
}

func priceOfCopyOut(sum *tally, c Column, _ *layout.Span, before *layout.Layout) {
	switch {
	case c.Hold != nil:
		sum.beside += sum.copied
	case !c.Step.Move:
		if from, ok := before.Find(Number(c.Step.Partition)); ok && from.Volume != nil {
			sum.beside += from.Volume.UsedBytes
		}
	}
}

// Resolved are the steps that bring files back from the shelf which earlier ones copy out,
// as far as backups stand for them.
func Resolved(steps []Step, backups map[int]Backup) (out []Step) {
	ids := map[string]string{}
	for _, s := range steps {
		n, _ := strconv.Atoi(s.Partition)
		if b := backups[n]; s.Do == CopyOut && s.Volume == "" && s.As != "" && b.Verified && b.Same && !b.Coverage {
			ids[s.As] = b.ID
		}
		if id := ids[s.Backup]; s.Do == CopyBack && id != "" {
			s.Backup = id
			out = append(out, s)
		}
	}
	return out
}

// FilesOf is what stands against taking the files of a volume to another place.
func FilesOf(p *layout.Span, f Facts) *Obstacle {
	a := look(p)
	switch {
	case a.Obstacle != nil:
		return a.Obstacle
	case p.Held != "":
		return heldOpen(p)
	case p.Volume.Hibernated:
		return asleep(p, f)
	}
	return nil
}
