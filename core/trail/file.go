package trail

import (
	"bufio"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// File is a trail in a file of JSON lines.
type File struct {
	Path string
	Key  ed25519.PrivateKey // nil to leave entries unsigned
}

// Append implements Sink. The file is locked against another writer meanwhile; a
// last line that a power cut left unfinished is cut off first.
func (t File) Append(entries ...Entry) error {
	if len(entries) == 0 {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(t.Path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(t.Path, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	have := map[string]bool{}
	seq, previous, end := int64(0), First, int64(0)
	r := bufio.NewReaderSize(f, 64<<10)
	for {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			break // an unfinished line, or nothing
		}
		if err != nil {
			return err
		}
		var e struct {
			Seq      int64
			ID, Hash string
		}
		if err := json.Unmarshal(line, &e); err != nil || e.Hash == "" {
			return fmt.Errorf("%w: %s: line %d is not an entry; nothing was added", ErrChain, t.Path, seq+1)
		}
		have[e.ID] = true
		seq, previous, end = e.Seq, e.Hash, end+int64(len(line))
	}
	if err := f.Truncate(end); err != nil {
		return err
	}
	for _, e := range entries {
		if have[e.ID] {
			continue
		}
		line, sealed, err := Seal(e, seq+1, previous, t.Key)
		if err != nil {
			return err
		}
		if _, err := f.WriteAt(append(line, '\n'), end); err != nil {
			return err
		}
		have[e.ID] = true
		seq, previous, end = sealed.Seq, sealed.Hash, end+int64(len(line))+1
	}
	return f.Sync()
}

// Read returns the entries of a trail file, unchecked. A last line that a power cut left unfinished
// is none.
func (t File) Read() ([]Entry, error) {
	f, err := os.Open(t.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []Entry
	for r := bufio.NewReaderSize(f, 64<<10); ; {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		var e Entry
		if err := json.Unmarshal(line, &e); err != nil {
			return nil, fmt.Errorf("%s: line %d is not an entry: %w", t.Path, len(out)+1, err)
		}
		out = append(out, e)
	}
}
