package rehearse

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// mostPortions bounds in how many portions files go over: each slides what is left of the
// volume that they leave.
const mostPortions = 40

// unit is files that go over together, because they are one file with several names, or a
// file and its streams.
type unit struct {
	paths []string
	bytes disk.Bytes
}

// taking is about how much room a unit takes where it arrives: whole clusters, its record,
// and its names in their folders.
func (u unit) taking(cluster disk.Bytes) disk.Bytes {
	return u.bytes.Up(cluster) + 2*disk.KiB + disk.Bytes(len(u.paths))*512
}

// units are the files of a volume that go along, the largest first.
func units(v volume.Volume) ([]unit, error) {
	files, err := below(v, "")
	if err != nil {
		return nil, err
	}
	byID := map[uint64]*unit{}
	seen := map[[2]string]bool{}
	counted := map[uint64]map[string]bool{} // streams, once however many names the file has
	for _, f := range files {
		if f.Kind == volume.Folder || f.Stream != "" && isFolder(files, f.Path) {
			continue
		}
		u := byID[f.ID]
		if u == nil {
			u, counted[f.ID] = &unit{}, map[string]bool{}
			byID[f.ID] = u
		}
		if key := [2]string{f.Path, ""}; !seen[key] {
			seen[key] = true
			u.paths = append(u.paths, f.Path)
		}
		if !counted[f.ID][f.Stream] {
			counted[f.ID][f.Stream] = true
			u.bytes += f.Bytes
		}
	}
	out := make([]unit, 0, len(byID))
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		out = append(out, *byID[id])
	}
	slices.SortStableFunc(out, func(a, b unit) int { return int(min(max(b.bytes-a.bytes, -1), 1)) })
	return out, nil
}

// isFolder tells whether a path is a folder's; the files are sorted by their paths.
func isFolder(files []volume.File, path string) bool {
	i, _ := slices.BinarySearchFunc(files, path, func(f volume.File, p string) int { return strings.Compare(f.Path, p) })
	for ; i < len(files) && files[i].Path == path; i++ {
		if files[i].Stream == "" {
			return files[i].Kind == volume.Folder
		}
	}
	return false
}

// inPortion leaves of files those that go over in this portion: all folders, for the files to
// lie in, and the files that it takes. Streams of folders go with the first.
func inPortion(a *ran.Arrival, files []volume.File) []volume.File {
	if a.Take == nil && len(a.Sums) > 0 { // the run was begun by another process
		a.Take = map[string]bool{}
		for _, s := range a.Sums {
			a.Take[s.Path] = true
		}
	}
	var out []volume.File
	for _, f := range files {
		folder := f.Kind == volume.Folder || f.Stream != "" && isFolder(files, f.Path)
		if folder && f.Stream != "" && a.Portion > 1 {
			continue
		}
		if folder || a.Take == nil || a.Take[f.Path] {
			out = append(out, f)
		}
	}
	return out
}

// portions brings over files of the volume that is absorbed until the rest has room all at
// once: what is free in it, and what files have left, goes to the volume that takes it, which
// then has room for more. It returns the number of the portion that is left, and under which
// names those before it arrived.
func (p *Run) portions(o Options, i int, c plan.Column, facts plan.Facts) (portion int, onto map[string]string, err error) {
	from, to := c.Absorbed, c.Number
	facts.Insides, facts.PC = nil, p.pc
	p.Script = append(p.Script, script.Op{Kind: script.NoReturn, Step: i, Text: "from here on " + c.NoReturn})
	p.promised.over = true
	var own []string
	for _, name := range notFiles { // these go with the volume
		if f, err := p.Survey.Volume(from).Stat(name); err == nil && f.Kind == volume.Folder {
			own = append(own, f.Path)
		}
	}
	if len(own) > 0 {
		if s, err := compile.TakeOut(p.Survey, from, own, o.Now()); err == nil {
			if err := p.also(i, c, s); err != nil {
				return 0, nil, err
			}
		}
	}
	for portion = 1; portion <= mostPortions; portion++ {
		if err := p.giveOver(i, from, to, facts); err != nil {
			return 0, nil, err
		}
		left, err := units(p.Survey.Volume(from))
		if err != nil {
			return 0, nil, err
		}
		info, err := p.Survey.Volume(to).Info()
		if err != nil {
			return 0, nil, err
		}
		room := info.Free() - info.Free()/64 - 256*disk.KiB
		all := disk.Bytes(0)
		for _, u := range left {
			all += u.taking(info.ClusterBytes)
		}
		if all <= room {
			return portion, onto, nil
		}
		for ; ; room /= 2 {
			var some []unit
			rest := room
			for _, u := range left {
				if n := u.taking(info.ClusterBytes); n <= rest {
					some, rest = append(some, u), rest-n
				}
			}
			if len(some) == 0 {
				small := left[len(left)-1]
				return 0, nil, fmt.Errorf(
					"%w: it would go over in portions, and there is room for %s, but the smallest of the files left, %s, takes %s. Move large files away first",
					compile.ErrCannot, max(room, 0), small.paths[0], small.bytes,
				)
			}
			err = p.goOver(o, i, c, portion, some, &onto)
			if !errors.Is(err, ntfs.ErrFull) {
				break
			}
		}
		if err != nil {
			return 0, nil, err
		}
	}
	return 0, nil, fmt.Errorf(
		"%w: its files would go over in more than %d portions. Move some of them away first", compile.ErrCannot,
		mostPortions,
	)
}

// also does a script on the copy, as a further part of a step.
func (p *Run) also(i int, c plan.Column, s script.Script) error {
	s, after, err := p.do(i, c, s)
	if err == nil {
		p.Script, p.Survey = append(p.Script, s...), after
	}
	return err
}

// giveOver makes one volume as small as it can be, at its head, and gives what that frees to
// the other.
func (p *Run) giveOver(i, from, to int, facts plan.Facts) error {
	for _, s := range []plan.Step{
		{Partition: fmt.Sprint(from), Body: plan.Shrinking{By: "all", Edge: "head"}},
		{Partition: fmt.Sprint(to), Body: plan.Growth{By: "all"}},
	} {
		col := plan.Lay(p.Survey.Layout, facts, []plan.Step{s})[0]
		if col.Layout == nil { // there is nothing to give, or to take
			continue
		}
		given := compile.Given{Dev: p.Over}
		done, err := compile.Step(p.Survey, col, given)
		if err != nil {
			return err
		}
		script, after, err := p.through(i, col, done.Script, given)
		if err != nil {
			return err
		}
		p.Script, p.Survey = append(p.Script, script...), after
	}
	return nil
}

// goOver brings a portion over, and takes it out of the volume that it leaves.
func (p *Run) goOver(o Options, i int, c plan.Column, portion int, some []unit, onto *map[string]string) error {
	a := ran.Arrival{Number: c.Number, From: c.From, Folder: c.Step.Folder(), Portion: portion, Take: map[string]bool{}}
	var paths []string
	for _, u := range some {
		for _, f := range u.paths {
			paths = append(paths, f)
			a.Take[f] = true
		}
	}
	if err := p.across(&a); err != nil {
		return err
	}
	if len(a.Lost) > 0 {
		return wouldBeLost(&a)
	}
	in, err := compile.Load(p.Survey, c, compile.Given{Files: a.In, Source: a.Source(), Now: o.Now(), Onto: *onto})
	if err != nil {
		return err
	}
	if err := p.also(i, c, in.Script); err != nil {
		return err
	}
	if a.Renamed, a.Notes = in.Arrival.Renamed, in.Arrival.Notes; portion > 1 {
		a.Folders = 0 // they were made with the first
	}
	if *onto == nil {
		*onto = map[string]string{}
	}
	maps.Copy(*onto, a.Renamed)
	p.Meta.Arrivals = append(p.Meta.Arrivals, a)
	out, err := compile.TakeOut(p.Survey, c.From, paths, o.Now())
	if err != nil {
		return err
	}
	return p.also(i, c, out)
}
