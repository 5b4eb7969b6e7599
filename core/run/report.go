package run

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"jadetrail/core/facts"

	"jadetrail/core/ran"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// startChecks tells from the bytes of a drive whether its PC will start.
func startChecks(dev disk.Device, before *layout.Layout, sv *survey.Survey, was, is *pc.Facts) ([]plan.Check, error) {
	if was == nil || is == nil {
		return nil, nil
	}
	f := plan.Facts{PC: was, StartsHere: facts.StartsHere(before, was)}
	if f.StartsHere {
		if err := facts.Loaders(&f, dev, sv); err != nil {
			return nil, err
		}
	}
	return plan.StartChecks(before, sv.Layout, f, is), nil
}

// content is what a file held before a run.
type content struct {
	Number int        `json:"p"`
	Path   string     `json:"path"`
	Stream string     `json:"stream,omitempty"`
	Bytes  disk.Bytes `json:"bytes"`
	Hash   string     `json:"hash,omitempty"` // empty where it could not be read
}

// noteContents reads every file that the plan leaves in its volume, and keeps the hashes in
// the run's folder for the comparison afterwards.
func (p *prepared) noteContents(dev disk.Device, dir string, report func(carry.Progress)) error {
	sv, err := survey.Read(dev, p.meta.PC)
	if err != nil {
		return err
	}
	total := disk.Bytes(0)
	if err := p.staying(sv, func(_ int, _ volume.Volume, x volume.File) error { total += x.Bytes; return nil }); err != nil {
		return err
	}
	at := counting("reading every file before the run", total, report)
	f, err := os.Create(filepath.Join(dir, ran.ContentsFile))
	if err != nil {
		return err
	}
	defer f.Close()
	w, b := bufio.NewWriter(f), make([]byte, disk.MiB)
	out := json.NewEncoder(w)
	err = p.staying(sv, func(number int, v volume.Volume, x volume.File) error {
		c := content{Number: number, Path: x.Path, Stream: x.Stream, Bytes: x.Bytes}
		if h, err := readWhole(v, x, b, at); err == nil {
			c.Hash = h
		}
		return out.Encode(c)
	})
	if err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Sync()
}

// staying visits every file that the plan leaves in its volume.
func (p *prepared) staying(sv *survey.Survey, visit func(number int, v volume.Volume, x volume.File) error) error {
	for _, was := range sv.Layout.Partitions() {
		now, stays := p.meta.After.Find(was.Number)
		v := sv.Volumes[was.Number]
		if !stays || v == nil || now.Volume == nil || now.Volume.Serial != was.Volume.Serial {
			continue
		}
		taken := p.takenFrom(was.Number)
		if err := v.Walk(func(x volume.File) error {
			if x.Kind != volume.Plain || isBelow(x.Path, taken) {
				return nil
			}
			return visit(was.Number, v, x)
		}); err != nil {
			return err
		}
	}
	return nil
}

// counting returns what reports how much of a total has been read.
func counting(phase string, total disk.Bytes, report func(carry.Progress)) func(n disk.Bytes) {
	pr := carry.Progress{Phase: phase, Total: total}
	return func(n disk.Bytes) {
		if pr.Done = min(pr.Done+n, pr.Total); report != nil {
			report(pr)
		}
	}
}

// readWhole is the hash of a file's contents.
func readWhole(v volume.Volume, x volume.File, b []byte, at func(disk.Bytes)) (string, error) {
	if x.Unreadable != "" {
		return "", volume.ErrUnreadable
	}
	r, err := v.Open(x)
	if err != nil {
		return "", err
	}
	defer at(x.Bytes)
	return hashOf(r, x.Bytes, b)
}

// compareContents reads every file again that was read before the run; nil when nobody
// asked for that.
func compareContents(dir string, sv *survey.Survey, report func(carry.Progress)) (*ran.Compared, error) {
	f, err := os.Open(filepath.Join(dir, ran.ContentsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	type name struct {
		number       int
		path, stream string
	}
	was, b, total := map[name]content{}, make([]byte, disk.MiB), disk.Bytes(0)
	in := json.NewDecoder(bufio.NewReader(f))
	for {
		var c content
		if err := in.Decode(&c); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		was[name{c.Number, c.Path, c.Stream}] = c
		total += c.Bytes
	}
	at := counting("reading every file after the run", total, report)
	out := &ran.Compared{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volumes[p.Number]
		if v == nil {
			continue
		}
		if err := v.Walk(func(x volume.File) error {
			k := name{p.Number, x.Path, x.Stream}
			c, known := was[k]
			if !known || x.Kind != volume.Plain {
				return nil
			}
			delete(was, k)
			if c.Hash == "" {
				out.Unread++
				return nil
			}
			if h, err := readWhole(v, x, b, at); err != nil || h != c.Hash || x.Bytes != c.Bytes {
				return fmt.Errorf("%w: %s in %s is not what it was before (%v)", ErrDiffers, x.Path, p.Title(), err)
			}
			out.Files++
			out.Bytes += x.Bytes
			return nil
		}); err != nil {
			return nil, err
		}
	}
	for k := range was {
		return nil, fmt.Errorf(
			"%w: %d files are not there any more, among them %s of partition %d", ErrDiffers, len(was), k.path,
			k.number,
		)
	}
	return out, nil
}

// states checks every volume; those that the copy showed sound are not checked again.
func states(sv *survey.Survey, sound map[int]bool) []ran.VolumeState {
	out := []ran.VolumeState{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volumes[p.Number]
		if v == nil {
			continue
		}
		s := ran.VolumeState{Number: p.Number, Title: p.Title(), Sound: true, Used: p.Volume.UsedBytes}
		if sound[p.Number] { // checked on the copy, and its fingerprint is the same
		} else if f := v.Check().FirstError(); f != nil {
			s.Sound, s.Text = false, f.Text
		}
		if s.Sound && !p.Volume.Clean {
			s.Text = "it was not closed properly"
		}
		out = append(out, s)
	}
	return out
}
