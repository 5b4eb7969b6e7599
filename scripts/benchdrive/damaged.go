package main

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
)

// damaged writes every image of the corpus of damaged ones into a folder and prints
// their paths.
func damaged(dir string) error {
	const corpus = "core/survey/testdata/"
	z, err := os.Open(corpus + "kinds.img.zst")
	if err != nil {
		return err
	}
	defer z.Close()
	d, err := zstd.NewReader(z)
	if err != nil {
		return err
	}
	defer d.Close()
	base := filepath.Join(dir, "sound.img")
	f, err := os.Create(base)
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, d); err != nil {
		return err
	}
	f.Close()
	im, err := disk.OpenImage(base, 512, false)
	if err != nil {
		return err
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil {
		return err
	}
	b, err := os.ReadFile(corpus + "damaged.json")
	if err != nil {
		return err
	}
	var list []struct {
		Patches []struct {
			Partition int
			Off       int64
			Hex       string
			Repeat    int
		}
	}
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	for i, x := range list {
		path := filepath.Join(dir, fmt.Sprintf("damaged-%02d.img", i))
		if err := exec.Command("cp", "--sparse=always", base, path).Run(); err != nil {
			return err
		}
		out, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		for _, p := range x.Patches {
			raw, err := hex.DecodeString(p.Hex)
			if err != nil {
				return err
			}
			start, size := int64(0), int64(im.Size())
			if s, ok := sv.Layout.Find(p.Partition); ok {
				start, size = int64(s.Start.Offset(512)), int64(s.Bytes)
			}
			if p.Off < 0 {
				p.Off += size
			}
			for k := range max(p.Repeat, 1) {
				if _, err := out.WriteAt(raw, start+p.Off+int64(k*len(raw))); err != nil {
					return err
				}
			}
		}
		out.Close()
		fmt.Println(path)
	}
	return nil
}
