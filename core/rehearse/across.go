package rehearse

import (
	"fmt"
	"strings"
	"sync"

	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// notFiles are the folders of a system's own at the root of a volume, which do not go
// along when files are taken from it.
var notFiles = []string{"System Volume Information", "$RECYCLE.BIN"}

// below lists the files of a volume in a folder, "" for all, without the folder itself.
func below(v volume.Volume, base string) ([]volume.File, error) {
	all, err := v.Files()
	if err != nil {
		return nil, err
	}
	var out []volume.File
	for _, f := range all {
		rest, inside := f.Path, true
		if base != "" {
			rest, inside = strings.CutPrefix(f.Path, base+"/")
		}
		if !inside {
			continue
		}
		top, _, _ := strings.Cut(rest, "/")
		skip := false
		for _, n := range notFiles {
			skip = skip || strings.EqualFold(top, n)
		}
		if !skip {
			out = append(out, f)
		}
	}
	return out, nil
}

// gatherOn gathers the files that come from a volume of the drive.
func gatherOn(a *ran.Arrival, v volume.Volume) (*volume.Together, error) {
	files, err := below(v, a.Base)
	if err != nil {
		return nil, err
	}
	if a.Portion > 0 {
		files = inPortion(a, files)
	}
	in, all, lost, err := volume.Gather(v, files, a.Base)
	a.In, a.Lost = in, lost
	a.Count(in)
	return all, err
}

// across puts the files of another volume of the drive among the sources, as they are in
// the copy now: it is left as it is, and the run goes on with a copy of it. What they
// hold is noted, for their place may be written over before they are compared.
func (p *Run) across(a *ran.Arrival) error {
	span, ok := p.Survey.Layout.Find(a.From)
	v := p.Survey.Volume(a.From)
	if !ok || v == nil {
		return fmt.Errorf("%w: the volume in partition %d cannot be read", compile.ErrCannot, a.From)
	}
	a.Span = span
	all, err := gatherOn(a, v)
	if err != nil {
		return err
	}
	if len(a.In) == 0 && a.Base != "" { // a whole volume may be empty
		return fmt.Errorf(
			"%w: %s has no files in the folder %s, or an earlier step of the plan takes them away. Leave this step out, or name another folder",
			compile.ErrCannot, span.Title(), a.Base,
		)
	}
	b := make([]byte, 1<<20)
	for _, x := range a.In {
		if x.Kind != volume.Plain {
			continue
		}
		s := ran.Sum{Path: x.Path, Stream: x.Stream, Bytes: x.Bytes, SameAs: x.SameAs}
		r, err := x.Open()
		if err == nil {
			s.Hash, err = prove.HashOf(r, x.Bytes, b)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", x.Path, err)
		}
		a.Sums = append(a.Sums, s)
	}
	if err := p.freeze(p.Over); err != nil {
		return err
	}
	p.Sources[a.Source()] = all
	return nil
}

// wouldBeLost refuses to take a place away from which files cannot come along.
func wouldBeLost(a *ran.Arrival) error {
	return fmt.Errorf(
		"%w: %d of its files cannot be read and would be lost. Take them out on their own PC, or back the partition up as an image",
		compile.ErrCannot, len(a.Lost),
	)
}

// Opened gathers the files of an arrival, where that was not done already, and puts their
// contents among the sources.
func (p *Run) Opened(sh *shelf.Shelf, a *ran.Arrival) ([]volume.Incoming, error) {
	key := plan.CopyingBack{Backup: a.Backup, Only: a.Only}.Arrival()
	g := p.gathered[key]
	if g == nil {
		var err error
		if g, err = sh.Gather(a.Backup, a.Only); err != nil {
			return nil, err
		}
		p.close = append(p.close, g.Close)
	}
	a.Takes(g)
	a.Origin, a.In = g.Volume, g.In
	p.Sources[a.Source()] = g.All
	return g.In, nil
}

// FromDrive makes the drive itself the source of what comes from its own volumes. Each is
// opened when it is first read: only then is what earlier steps put there in its place.
func (p *Run) FromDrive(dev disk.Device) {
	for i := range p.Meta.Arrivals {
		if a := p.Meta.Arrivals[i]; a.From != 0 {
			p.Sources[a.Source()] = &onDrive{dev: dev, a: a}
		}
	}
}

// onDrive reads the files of an arrival from the drive.
type onDrive struct {
	dev  disk.Device
	a    ran.Arrival
	once sync.Once
	all  *volume.Together
	err  error
}

func (s *onDrive) ReadAt(b []byte, off int64) (int, error) {
	s.once.Do(func() {
		found, err := recognise.Open(survey.Window(s.dev, *s.a.Span))
		switch {
		case err != nil:
			s.err = err
		case found.Volume == nil:
			s.err = fmt.Errorf("the volume in partition %d cannot be read", s.a.From)
		default:
			s.all, s.err = gatherOn(&s.a, found.Volume)
		}
	})
	if s.err != nil {
		return 0, s.err
	}
	return s.all.ReadAt(b, off)
}
