// Package compare compares what two volumes or folders hold, file by file. That
// everything of one side is on the other too is proven coverage: it may stand in for a
// backup.
package compare

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Verdict on one path.
type Verdict string

// The verdicts.
const (
	Same      Verdict = "same"
	OnlyHere  Verdict = "only-here"
	OnlyThere Verdict = "only-there"
	Different Verdict = "different"
	Unknown   Verdict = "unreadable" // on one side at least
)

// Side is a volume, or a folder of one.
type Side struct {
	Volume volume.Volume `json:"-"`
	Dir    string        `json:"dir"`
	Place  Place         `json:"place"`
}

// Place names a volume for people and for later.
type Place struct {
	DiskID      string      `json:"disk_id"`
	Model       string      `json:"model"`
	Serial      string      `json:"serial"`
	Span        layout.Span `json:"span"`
	Fingerprint string      `json:"fingerprint"`
}

// Drive is the one that the volume lies on.
func (p Place) Drive() layout.Drive {
	return layout.Drive{DiskID: p.DiskID, Model: p.Model, Serial: p.Serial}
}

// Line is one path that is not the same on both sides, and why.
type Line struct {
	Path    string     `json:"path"`
	Verdict Verdict    `json:"verdict"`
	Why     string     `json:"why,omitempty"`
	Here    disk.Bytes `json:"here_bytes"`
	There   disk.Bytes `json:"there_bytes"`
}

// Result of a comparison. Of the lines at most MaxLines are kept; the counts are
// whole.
type Result struct {
	Version int                    `json:"version"`
	ID      string                 `json:"id"`
	Time    time.Time              `json:"time"`
	Who     string                 `json:"who"`
	Here    Side                   `json:"here"`
	There   Side                   `json:"there"`
	Counts  map[Verdict]volume.Sum `json:"counts"`
	Lines   []Line                 `json:"lines"`
	// Covered tells that every file here is there too, with the same contents.
	Covered bool `json:"covered"`
}

// Count is how many paths have a verdict.
func (r *Result) Count(v string) int { return r.Counts[Verdict(v)].Files }

// MaxLines bounds the differences that a result lists.
const MaxLines = 5000

// Progress of a comparison, in bytes of contents.
type Progress struct{ Done, Total disk.Bytes }

// Run compares two sides: paths, lengths, and the contents of what agrees in both.
// Names count whatever their case when both sides' file systems say so.
func Run(ctx context.Context, here, there Side, report func(Progress)) (*Result, error) {
	a, err := list(here)
	if err != nil {
		return nil, fmt.Errorf("the first side cannot be read: %w", err)
	}
	b, err := list(there)
	if err != nil {
		return nil, fmt.Errorf("the second side cannot be read: %w", err)
	}
	r := &Result{Version: 1, Here: here, There: there, Counts: map[Verdict]volume.Sum{}, Lines: []Line{}}
	var mu sync.Mutex
	say := func(path string, v Verdict, why string, x, y *volume.File) {
		mu.Lock()
		defer mu.Unlock()
		l := Line{Path: path, Verdict: v, Why: why}
		if x != nil {
			l.Here = x.Bytes
		}
		if y != nil {
			l.There = y.Bytes
		}
		sum := r.Counts[v]
		sum.Files++
		sum.Bytes += max(l.Here, l.There)
		r.Counts[v] = sum
		if v != Same && len(r.Lines) < 4*MaxLines {
			r.Lines = append(r.Lines, l)
		}
	}
	type pair struct {
		path string
		x, y volume.File
	}
	var pairs []pair
	var total disk.Bytes
	for path, x := range a {
		y, ok := b[path]
		delete(b, path)
		switch {
		case !ok:
			say(x.Path, OnlyHere, "", &x, nil)
		case x.Kind != y.Kind:
			say(x.Path, Different, fmt.Sprintf("a %s here, a %s there", x.Kind, y.Kind), &x, &y)
		case x.Kind == volume.Link:
			if x.Target == y.Target {
				say(x.Path, Same, "", &x, &y)
			} else {
				say(x.Path, Different, "the links lead to different places", &x, &y)
			}
		case x.Unreadable != "" || y.Unreadable != "":
			say(x.Path, Unknown, strings.TrimSpace(x.Unreadable+" "+y.Unreadable), &x, &y)
		case x.Bytes != y.Bytes:
			say(x.Path, Different, "another length", &x, &y)
		default:
			pairs = append(pairs, pair{x.Path, x, y})
			total += x.Bytes
		}
	}
	for _, y := range b {
		say(y.Path, OnlyThere, "", nil, &y)
	}
	slices.SortFunc(pairs, func(a, b pair) int { return strings.Compare(a.path, b.path) })
	var done disk.Bytes
	next := make(chan pair)
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(next)
		for _, p := range pairs {
			select {
			case next <- p:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	for range 2 {
		g.Go(func() error {
			bufs := [2][]byte{make([]byte, 1<<20), make([]byte, 1<<20)}
			for p := range next {
				v, why, err := contents(ctx, here.Volume, there.Volume, p.x, p.y, bufs)
				if err != nil {
					return err
				}
				say(p.path, v, why, &p.x, &p.y)
				mu.Lock()
				done += p.x.Bytes
				if report != nil {
					report(Progress{done, total})
				}
				mu.Unlock()
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	slices.SortFunc(r.Lines, func(a, b Line) int { return strings.Compare(a.Path, b.Path) })
	r.Lines = r.Lines[:min(len(r.Lines), MaxLines)]
	r.Covered = r.Counts[OnlyHere].Files+r.Counts[Different].Files+r.Counts[Unknown].Files == 0 && r.Counts[Same].Files > 0
	return r, nil
}

// list returns the files of a side by their paths below its folder, in lower case.
func list(s Side) (map[string]volume.File, error) {
	prefix := strings.Trim(s.Dir, "/")
	if prefix != "" {
		if f, err := s.Volume.Stat(prefix); err != nil || f.Kind != volume.Folder {
			return nil, fmt.Errorf("%w: folder %s", volume.ErrNotFound, s.Dir)
		}
		prefix += "/"
	}
	out := map[string]volume.File{}
	err := s.Volume.Walk(func(f volume.File) error {
		if len(f.Path) < len(prefix) || !strings.EqualFold(f.Path[:len(prefix)], prefix) || f.Kind == volume.Folder {
			return nil
		}
		rest := f.Path[len(prefix):]
		if f.Stream != "" {
			rest += ":" + f.Stream
		}
		first, _, _ := strings.Cut(rest, "/")
		if prefix == "" && bookkeeping[strings.ToLower(first)] {
			return nil
		}
		out[strings.ToLower(rest)] = f
		return nil
	})
	return out, err
}

// bookkeeping at a root is the system's own and is on no two volumes the same.
var bookkeeping = map[string]bool{
	"system volume information": true, "$recycle.bin": true, "lost+found": true, "$extend": true,
}

func contents(ctx context.Context, a, b volume.Volume, x, y volume.File, bufs [2][]byte) (Verdict, string, error) {
	// Files of a walk come without their places.
	if f, err := a.Stat(x.Path); err == nil && x.Stream == "" {
		x = f
	}
	if f, err := b.Stat(y.Path); err == nil && y.Stream == "" {
		y = f
	}
	p, err := a.Open(x)
	if err != nil {
		return unreadable(err)
	}
	q, err := b.Open(y)
	if err != nil {
		return unreadable(err)
	}
	for at := disk.Bytes(0); at < x.Bytes; {
		if ctx.Err() != nil {
			return "", "", ctx.Err()
		}
		n := min(disk.Bytes(len(bufs[0])), x.Bytes-at)
		i, e1 := p.ReadAt(bufs[0][:n], int64(at))
		j, e2 := q.ReadAt(bufs[1][:n], int64(at))
		if e := firstBad(e1, e2); e != nil || disk.Bytes(i) < n || disk.Bytes(j) < n {
			return unreadable(errors.Join(e, volume.ErrUnreadable))
		}
		if !bytes.Equal(bufs[0][:n], bufs[1][:n]) {
			k := 0
			for bufs[0][k] == bufs[1][k] {
				k++
			}
			return Different, fmt.Sprintf("other contents from byte %s on", disk.Grouped(int64(at)+int64(k))), nil
		}
		at += n
	}
	return Same, "", nil
}

func firstBad(errs ...error) error {
	for _, e := range errs {
		if e != nil && e != io.EOF {
			return e
		}
	}
	return nil
}

// unreadable makes contents that cannot be decoded a verdict, and passes on that a
// drive fails.
func unreadable(err error) (Verdict, string, error) {
	if errors.Is(err, volume.ErrUnreadable) || errors.Is(err, volume.ErrDamaged) || errors.Is(err, volume.ErrNotFound) {
		return Unknown, err.Error(), nil
	}
	return "", "", err
}

// Store keeps results in a folder.
type Store struct{ Dir string }

var idForm = regexp.MustCompile(`^c-[a-z0-9-]{2,60}$`)

// ErrNone is returned for a result that does not exist.
var ErrNone = errors.New("no such comparison")

// Save keeps a result durably.
func (s Store) Save(r *Result) error {
	if !idForm.MatchString(r.ID) {
		return fmt.Errorf("%w: %q", ErrNone, r.ID)
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return err
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(s.Dir, r.ID+".json"), b)
}

// Path is the file of a result.
func (s Store) Path(id string) string { return filepath.Join(s.Dir, filepath.Base(id)+".json") }

// Load reads a result.
func (s Store) Load(id string) (*Result, error) {
	if !idForm.MatchString(id) {
		return nil, fmt.Errorf("%w: %q", ErrNone, id)
	}
	b, err := os.ReadFile(filepath.Join(s.Dir, id+".json"))
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrNone, id)
	}
	var r Result
	if err := json.Unmarshal(b, &r); err != nil || r.Version != 1 || r.ID != id {
		return nil, fmt.Errorf("%w: %s cannot be read", ErrNone, id)
	}
	return &r, nil
}

// List returns all results, the newest first.
func (s Store) List() ([]*Result, error) {
	if s.Dir == "" {
		return nil, nil
	}
	files, err := filepath.Glob(filepath.Join(s.Dir, "c-*.json"))
	if err != nil {
		return nil, err
	}
	var out []*Result
	for _, f := range files {
		if r, err := s.Load(strings.TrimSuffix(filepath.Base(f), ".json")); err == nil {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *Result) int { return b.Time.Compare(a.Time) })
	return out, nil
}

// Elsewhere tells that the other side lies on another drive. A copy of a whole drive has the same ids;
// the serial number tells it apart.
func (r *Result) Elsewhere() bool {
	here, there := r.Here.Place, r.There.Place
	return there.Serial != here.Serial || !strings.EqualFold(there.DiskID, here.DiskID)
}

// Stands tells whether a result proved that a volume's contents as they are now were on another volume
// too. Whether they still are is for the caller to tell. going are the unique ids of partitions that are to
// be deleted.
func (r *Result) Stands(on layout.Drive, p layout.Span, fingerprint string, going []string) bool {
	here, there := r.Here.Place, r.There.Place
	if there.Serial == here.Serial && (there.Span.UniqueID == p.UniqueID || slices.Contains(going, there.Span.UniqueID)) {
		return false
	}
	return r.Covered && r.Here.Dir == "" && here.Drive().Same(on) && here.Span.UniqueID == p.UniqueID && here.Fingerprint == fingerprint && fingerprint != ""
}
