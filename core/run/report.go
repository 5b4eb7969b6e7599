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
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Took is how long a run was at its parts, in seconds. Of a run that was cut short and
// finished, only what came after.
type Took struct {
	Prepare  float64 `json:"prepare"`   // reading, and doing every step on a copy
	Write    float64 `json:"write"`     // journal, writing, making it durable
	ReadBack float64 `json:"read_back"` // of what was moved
	Prove    float64 `json:"prove"`     // reading the drive again, and comparing
}

// Report is what a run says of itself when it has ended.
type Report struct {
	Ended Ended     `json:"ended"`
	Time  time.Time `json:"time"`
	Took  Took      `json:"took"`
	// Rewritten is what the plan puts in its place, Written what of it was written now.
	Rewritten disk.Bytes    `json:"bytes_rewritten"`
	Written   disk.Bytes    `json:"bytes_written"`
	Zeroed    disk.Bytes    `json:"bytes_zeroed"` // and what it makes zeros besides
	Proof     string        `json:"proof,omitempty"`
	Volumes   []VolumeState `json:"volumes,omitempty"` // as they check afterwards
	Start     []plan.Check  `json:"start,omitempty"`   // whether the PC will start
	Good      bool          `json:"good"`              // the state was marked as good
	Why       string        `json:"why,omitempty"`     // or else why not
	Compared  *Compared     `json:"compared,omitempty"`
	// Closing are the entries of the trail that end the run.
	Closing []trail.Entry `json:"closing,omitempty"`
}

// VolumeState is how a volume checks after a run.
type VolumeState struct {
	Number int        `json:"partition"`
	Title  string     `json:"title"`
	Sound  bool       `json:"sound"`
	Text   string     `json:"text,omitempty"`
	Used   disk.Bytes `json:"used_bytes"`
}

// Compared is what reading every file before and after a run showed.
type Compared struct {
	Files int        `json:"files"`
	Bytes disk.Bytes `json:"bytes"`
	// Unread could not be read before, and so not be compared.
	Unread int `json:"unread,omitempty"`
}

// Ran returns what is known of a run, by its id: how it was begun, and its report, nil
// while it has none. ErrNothing when there is no such run.
func Ran(runs, id string) (*Meta, *Report, error) {
	if id == "" || id != filepath.Base(id) {
		return nil, nil, ErrNothing
	}
	b, err := os.ReadFile(filepath.Join(runs, id, metaFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, ErrNothing
	}
	var m Meta
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the run %s cannot be read: %w", id, err)
	}
	b, err = os.ReadFile(filepath.Join(runs, id, endedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return &m, nil, nil
	}
	var r Report
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the run %s cannot be read: %w", id, err)
	}
	return &m, &r, nil
}

// startChecks tells from the bytes of a drive whether its PC will start.
func startChecks(dev disk.Device, before *layout.Layout, sv *survey.Survey, was, is *pc.Facts) ([]plan.Check, error) {
	if was == nil || is == nil {
		return nil, nil
	}
	f := plan.Facts{PC: was, StartsHere: startsHere(before, was)}
	if f.StartsHere {
		if err := loaders(&f, dev, sv); err != nil {
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
	f, err := os.Create(filepath.Join(dir, contentsFile))
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
func compareContents(dir string, sv *survey.Survey, report func(carry.Progress)) (*Compared, error) {
	f, err := os.Open(filepath.Join(dir, contentsFile))
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
	out := &Compared{}
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
func states(sv *survey.Survey, sound map[int]bool) []VolumeState {
	out := []VolumeState{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volumes[p.Number]
		if v == nil {
			continue
		}
		s := VolumeState{Number: p.Number, Title: p.Title(), Sound: true, Used: p.Volume.UsedBytes}
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

func writeReport(o Options, run string, r *Report) error {
	r.Time = o.Now()
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(o.Runs, run, endedFile), b)
}
