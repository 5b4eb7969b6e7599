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

// CopyingOut is what is said of files that are copied out.
type CopyingOut struct {
	As     string   `json:"as,omitempty"`     // the name by which later steps speak of it
	Only   []string `json:"only,omitempty"`   // the one folder that is moved, none for all files
	Folder string   `json:"folder,omitempty"` // "" for one that is named after the volume
	Volume string   `json:"volume,omitempty"` // the partition on the same drive that they go to, "" for the shelf
	// Move tells that the folder is gone from where it was once it has been compared.
	Move bool `json:"move,omitempty"`
}

func (CopyingOut) Do() Do { return CopyOut }

func (b CopyingOut) named() string { return b.As }

func (b CopyingOut) folder() string { return b.Folder }

func (b CopyingOut) withFolder(path string) Body {
	b.Folder = path
	return b
}

func (b CopyingOut) refers() string { return b.Volume }

func (b CopyingOut) referringTo(partition string) Body {
	b.Volume = partition
	return b
}

// copyingOut copies a volume's files to the shelf or into another volume, or moves one folder there.
var copyingOut = kind{
	blank: CopyingOut{},
	valid: validCopyOut, lay: layCopyOut, copies: copiedOut, priced: priceOfCopyOut,
	fills: func(c *Column) int {
		if c.From == 0 { // to the shelf
			return 0
		}
		return c.Number
	},
}

func validCopyOut(s Step) error {
	step := Of[CopyingOut](s)
	switch {
	case step.Move && (len(step.Only) != 1 || strings.Trim(step.Only[0], "/") == "" || step.Volume == ""):
		return errors.New("what is moved is one folder, and it goes into another volume")
	case !step.Move && len(step.Only) > 0:
		return errors.New("copy-out copies all of a volume, or moves one folder")
	case s.Partition == "":
		return s.named()
	}
	return validFolder(step.Folder)
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
	step := Of[CopyingOut](c.Step)
	c.Title = "Copy the files of " + p.Title() + " out"
	block := func(o *Obstacle) { c.Obstacles = append(c.Obstacles, *o) }
	if o := FilesOf(p, f); o != nil {
		block(o)
		return
	}
	if step.Move {
		moveFolder(c, l, p, f)
		return
	}
	if step.Volume == "" {
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
	to, o := Named(l, step.Volume)
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
	if step.Folder == "" {
		step.Folder = HoldFolder(p)
		c.Step.Body = step
	}
	c.Number, c.From = to.Number, p.Number
	c.Detail = fmt.Sprintf("into the folder %s of %s", step.Folder, to.Title())
	c.Hold = &Hold{to.Number, strings.Trim(step.Folder, "/"), need}
	c.less(p.Volume.Kind, to, -1)
	c.Layout = fuller(l, to.Number, need)
}

// moveFolder moves a folder of a volume into another volume of the drive.
func moveFolder(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[CopyingOut](c.Step)
	path := strings.Trim(step.Only[0], "/")
	c.Title = fmt.Sprintf("Move %s out of %s", path, p.Title())
	var bytes disk.Bytes
	for _, x := range f.Insides[p.Number].Folders {
		if x.Path == path {
			bytes = x.Bytes
		}
	}
	to, o := Named(l, step.Volume)
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
	if step.Folder == "" {
		step.Folder = "From " + strings.TrimPrefix(HoldFolder(p), "Kept from ") + "/" + path[strings.LastIndex(path, "/")+1:]
		c.Step.Body = step
	}
	c.Number, c.From, c.Base, c.Moves, c.Waits = to.Number, p.Number, path, true, bytes
	c.Detail = fmt.Sprintf("into the folder %s of %s", step.Folder, to.Title())
	c.Notes = append(c.Notes, *NewObstacle(
		PathsChange,
		fmt.Sprintf(
			"What was in %s of %s is in %s of %s afterwards. Programs that know the old path must be told.", path,
			p.Title(), step.Folder, to.Title(),
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
	case Of[CopyingOut](c.Step).Move:
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
	case !Of[CopyingOut](c.Step).Move:
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
		b := backups[n]
		switch step := s.Body.(type) {
		case CopyingOut:
			if step.Volume == "" && step.As != "" && b.Verified && b.Same && !b.Coverage {
				ids[step.As] = b.ID
			}
		case CopyingBack:
			if id := ids[step.Backup]; id != "" {
				step.Backup = id
				out = append(out, Step{Partition: s.Partition, Body: step})
			}
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
