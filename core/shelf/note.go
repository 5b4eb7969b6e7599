package shelf

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// KeepNote keeps a small file on the shelf, in every place of it, in the stead of one of the
// same name. Places that cannot be written to are told in the error; the others have it.
func (s *Shelf) KeepNote(name string, b []byte) error {
	var errs []error
	if s.Dir != "" {
		errs = append(errs, disk.WriteDurably(filepath.Join(s.Dir, name), b))
	}
	for _, v := range s.Volumes {
		if err := v.keepNote(name, b); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", v.Title, err))
		}
	}
	return errors.Join(errs...)
}

// Notes reads a small file in every place of the shelf that has it.
func (s *Shelf) Notes(name string) ([][]byte, error) {
	var out [][]byte
	var errs []error
	if s.Dir != "" {
		b, err := os.ReadFile(filepath.Join(s.Dir, name))
		if err == nil {
			out = append(out, b)
		} else if !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	for _, v := range s.Volumes {
		b, err := v.note(name)
		if err == nil && b != nil {
			out = append(out, b)
		} else if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", v.Title, err))
		}
	}
	return out, errors.Join(errs...)
}

func (p *OnVolume) note(name string) ([]byte, error) {
	d, err := p.attach(false)
	if err != nil {
		return nil, err
	}
	defer d.im.Close()
	b, err := readAll(d.v, path.Join(VolumeFolder, name))
	if errors.Is(err, volume.ErrNotFound) {
		return nil, nil
	}
	return b, err
}

func (p *OnVolume) keepNote(name string, b []byte) error {
	was, err := p.note(name)
	if err != nil || bytes.Equal(was, b) {
		return err
	}
	release, err := p.tryLock() // nobody waits for a note
	if err != nil {
		return err
	}
	defer release()
	return p.replace(VolumeFolder, name, b, was != nil)
}

// replace puts a small file into a folder, in the stead of one of the same name where it is there.
// The place is locked.
func (p *OnVolume) replace(folder, name string, b []byte, there bool) error {
	d, err := p.attach(true)
	if err != nil {
		return err
	}
	defer d.im.Close()
	var steps []func(v volume.Keeper) (script.Script, error)
	if there {
		steps = append(steps, func(v volume.Keeper) (script.Script, error) {
			return v.Remove([]string{path.Join(folder, name)}, p.Now())
		})
	}
	steps = append(steps, p.files(folder, []volume.Incoming{inline(name, b, 0, p.Now())}))
	return p.act(d, map[string]io.ReaderAt{"files": bytes.NewReader(b)}, steps...)
}
