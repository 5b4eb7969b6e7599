package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrTooLong tells that a small file is none.
var ErrTooLong = errors.New("the file is longer than such a file may be")

// ReadSmall reads a file whole, of at most most bytes, that somebody else may have put there: what is no file, and what
// is longer, is not read.
func ReadSmall(path string, most Bytes) ([]byte, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w", filepath.Base(path), ErrNotImage)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, int64(most)+1))
	if err == nil && Bytes(len(b)) > most {
		err = fmt.Errorf("%s: %w, %s", filepath.Base(path), ErrTooLong, most)
	}
	return b, err
}

// WriteDurably puts a file in place whole or not at all, and returns when it is
// durable.
func WriteDurably(path string, b []byte) error {
	tmp := path + ".part"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		os.Remove(tmp)
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// SyncDir makes the names in a folder durable.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Shred overwrites a file with zeros, makes that durable, and takes the file away; of a folder all that
// is in it. What is not there is no error. A file system that keeps former blocks elsewhere may still
// have them: nobody can tell from above.
func Shred(path string) error {
	st, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if st.IsDir() {
		list, err := os.ReadDir(path)
		if err != nil {
			return err
		}
		for _, e := range list {
			if err := Shred(filepath.Join(path, e.Name())); err != nil {
				return err
			}
		}
	} else if st.Mode().IsRegular() {
		if err := blank(path, Bytes(st.Size())); err != nil {
			return err
		}
	}
	if err := os.Remove(path); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// blank overwrites a file.
func blank(path string, size Bytes) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	zeros := make([]byte, min(size, MiB))
	for at := Bytes(0); at < size && err == nil; {
		n := min(size-at, Bytes(len(zeros)))
		_, err = f.WriteAt(zeros[:n], int64(at))
		at += n
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return err
}
