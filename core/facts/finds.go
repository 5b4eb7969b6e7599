package facts

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// ErrNoFind tells that nothing is found where a find is said to be.
var ErrNoFind = errors.New("there is no such find")

// Find judges a find again on a drive as it is: that which begins at sector start and is told of
// at byte told. What else can be found counts too, for it may tell that this one is a ghost: what
// lies where partitions are likeliest, and what an earlier search has seen. dev is the drive, or
// a copy of it on paper.
func Find(o Sources, dev disk.Device, sv *survey.Survey, start disk.LBA, told disk.Bytes) (*seek.Find, error) {
	of, err := o.Records.Of(o.Named(sv.Layout))
	if err != nil {
		return nil, err
	}
	var seen []disk.Bytes
	if o.Seen != nil {
		if seen, err = o.Seen(); err != nil {
			return nil, err
		}
	}
	f, err := seek.Again(dev, sv, start, told, Hints(of), seen)
	if err == nil && f == nil {
		err = fmt.Errorf("%w: nothing is found any more that begins at sector %d", ErrNoFind, start)
	}
	return f, err
}

// FindStands works out how the place of a find stands. Of what nothing is known to have taken, only a
// record of its deletion can tell that it is as it was.
func FindStands(o Sources, sv *survey.Survey, x *seek.Find) (*seek.Stand, error) {
	return asItIs(o, sv).Find(o, x)
}

// AsFound is what a plan must know of a find.
func AsFound(o Sources, sv *survey.Survey, x *seek.Find) (plan.Found, error) {
	p := x.Span()
	if p.Role = survey.RoleOf(p.TypeID, x.Volume()); p.TypeID == "" && survey.HoldsLoaders(x.Kind, x.Volume()) {
		p.Role = layout.EFI
	}
	out := plan.Found{Span: p, Ghost: x.Ghost && !x.Inferred, Mend: x.Mend}
	if x.Confidence == seek.Doubtful {
		out.Doubtful = strings.Join(x.Reasons, " ")
	}
	switch x.Kind {
	case volume.Unknown, volume.Swap, volume.Sealed, volume.LVM, volume.Member: // nobody looks into these
	default:
		if out.Listed = x.Volume() != nil; !x.Opens {
			out.Shut = "its root folder cannot be read."
		} else if !x.Own() {
			out.Shut = "what can be read where its tables were is another's."
		}
	}
	s, err := FindStands(o, sv, x)
	if err != nil {
		return out, err
	}
	out.Stand = StandOfFind(s, x, sv.Layout.Sector)
	return out, nil
}

// StandOfFind is what a plan must know of a find's place. Its files are looked at where something has
// taken some of it, as far as they can be listed.
func StandOfFind(s *seek.Stand, x *seek.Find, sector disk.Bytes) plan.Stand {
	out := plan.Stand{Used: s.Used, Untouched: s.Untouched, Taken: s.Taken, Unknown: s.Unknown, Whole: s.Whole}
	if s.Taken == 0 {
		return out
	}
	var files []volume.File
	if x.Volume() != nil {
		out.Partly = volume.WalkPlaces(x.Volume(), func(v volume.File) error {
			if v.Kind == volume.Plain {
				files = append(files, v)
			}
			return nil
		}) != nil
	}
	ofFiles(&out, s, files, x.Start.Offset(sector))
	return out
}

// Needs is what of a stand may still be as it was.
func Needs(s *seek.Stand) disk.Set {
	var ranges []disk.Range
	for _, p := range s.Pieces {
		if p.State != seek.Taken {
			ranges = append(ranges, disk.Range{Start: p.Off, End: p.Off + p.Len})
		}
	}
	return disk.NewSet(ranges)
}

// Hints are the places that records of deletions tell a search of.
func Hints(of []*trail.Record) []seek.Hint {
	var out []seek.Hint
	for _, rec := range of {
		if !rec.Erased {
			out = append(out, seek.Hint{Record: rec.ID, Span: rec.Span})
		}
	}
	return out
}

// recordOf is the record of a find's deletion, as the trail has it; nil where there is none.
func recordOf(o Sources, x *seek.Find) (*trail.Record, error) {
	if x.Record == "" {
		return nil, nil
	}
	rec, hash, err := o.Records.Load(x.Record)
	if errors.Is(err, trail.ErrNoRecord) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	bad, err := altered(o, rec, hash)
	if err != nil || bad || rec.Erased || rec.Span.Start != x.Start {
		return nil, err
	}
	return rec, nil
}
