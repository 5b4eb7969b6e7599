package main

import (
	"fmt"
	"io"
	"math/rand/v2"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// manyFiles are 200 000 small files, 50 000 of them in one folder, and one of a GiB.
func manyFiles(rng *rand.ChaCha8) []volume.Source {
	large := make([]byte, disk.GiB)
	rng.Read(large)
	out := []volume.Source{{Path: "large.bin", Data: large}}
	for i := range 200000 {
		p := fmt.Sprintf("Folder %d/Sub %d/file %d.txt", i%60, i%7, i)
		if i < 50000 {
			p = fmt.Sprintf("One folder/file number %d.txt", i)
		}
		out = append(out, volume.Source{Path: p, Data: []byte("a small file")})
	}
	return out
}

// counted counts what is read from a drive.
type counted struct {
	disk.Device
	bytes, reads int64
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	c.reads++
	return c.Device.ReadAt(p, off)
}

var reading *counted

func opened(path string, f func(*ntfs.Volume) error) error {
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		return err
	}
	defer im.Close()
	reading = &counted{Device: im}
	sv, err := survey.Read(reading, nil)
	if err != nil {
		return err
	}
	reading.bytes, reading.reads = 0, 0
	return f(sv.Volume(1).(*ntfs.Volume))
}

func summary(v *ntfs.Volume) error {
	s, err := volume.Summarise(v)
	if err == nil {
		fmt.Println(s.Files, "files,", s.Folders, "folders")
	}
	return err
}

// page reads the first page of the folder with 50 000 entries.
func page(v *ntfs.Volume) error {
	list, next, err := v.List("One folder", "", 200)
	if err == nil {
		fmt.Printf("%d entries, more from %q: %d reads of %.2f MiB in all\n", len(list), next, reading.reads, float64(reading.bytes)/float64(disk.MiB))
	}
	return err
}

func read(v *ntfs.Volume) error {
	f, err := v.Stat("large.bin")
	if err != nil {
		return err
	}
	r, err := v.Open(f)
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{io.NewSectionReader(r, 0, int64(f.Bytes))}, make([]byte, 1<<20))
	return err
}
