package prove

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// Content is what a file held before a run.
type Content struct {
	Number int        `json:"p"`
	Path   string     `json:"path"`
	Stream string     `json:"stream,omitempty"`
	Bytes  disk.Bytes `json:"bytes"`
	Hash   string     `json:"hash,omitempty"` // empty where it could not be read
}

// ReadWhole is the hash of a file's contents.
func ReadWhole(v volume.Volume, x volume.File, b []byte, at func(disk.Bytes)) (string, error) {
	if x.Unreadable != "" {
		return "", volume.ErrUnreadable
	}
	r, err := v.Open(x)
	if err != nil {
		return "", err
	}
	defer at(x.Bytes)
	return HashOf(r, x.Bytes, b)
}

// CompareContents reads every file again that was read before the run; nil when nobody
// asked for that.
func CompareContents(dir string, sv *survey.Survey, report func(carry.Progress)) (*ran.Compared, error) {
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
	was, b, total := map[name]Content{}, make([]byte, disk.MiB), disk.Bytes(0)
	in := json.NewDecoder(bufio.NewReader(f))
	for {
		var c Content
		if err := in.Decode(&c); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		was[name{c.Number, c.Path, c.Stream}] = c
		total += c.Bytes
	}
	at := Counting("reading every file after the run", total, report)
	out := &ran.Compared{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volume(p.Number)
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
			if h, err := ReadWhole(v, x, b, at); err != nil || h != c.Hash || x.Bytes != c.Bytes {
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
