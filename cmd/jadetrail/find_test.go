package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// TestBringBackOneOfTwo has two volumes begin at one sector, the later over the earlier: the terminal tells
// them apart, says of the earlier what is gone of it, and asks why it comes back all the same.
func TestBringBackOneOfTwo(t *testing.T) {
	image := filepath.Join(t.TempDir(), "d.img")
	im, err := disk.CreateImage(image, 200*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	const at = 10 * disk.MiB
	for serial, size := range []disk.Bytes{30 * disk.MiB, 50 * disk.MiB} {
		o := ntfs.Options{Label: fmt.Sprint("Volume ", serial), Serial: uint64(0x7f3b0000 + serial), Hidden: uint32(at.At(512)), Time: time.Unix(1780000000, 0), Files: []volume.Source{{Path: "a.txt", Data: make([]byte, 100<<10)}}}
		if err := ntfs.Make(disk.NewWindow(im, at, size), o); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.New(im, "5a1c77e0-1042-4d0b-9c3e-0000000000d0").Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	im.Close()
	start := fmt.Sprint(int64(at.At(512)))
	ends(t, 1, "bring-back", "--find", "77", image)
	var found struct {
		Finds []struct {
			Start int64      `json:"start_lba"`
			Told  disk.Bytes `json:"told_at"`
			Bytes disk.Bytes
			Ghost bool
		}
	}
	if err := json.Unmarshal([]byte(ends(t, 0, "search", "--json", "--until", "whole", image)), &found); err != nil {
		t.Fatal(err)
	}
	told := map[disk.Bytes]disk.Bytes{}
	for _, f := range found.Finds {
		if f.Start == int64(at.At(512)) && !f.Ghost {
			told[f.Bytes] = f.Told
		}
	}
	if len(told) != 2 {
		t.Fatalf("%+v", found)
	}
	earlier := fmt.Sprint(int64(told[30*disk.MiB]))
	status, _, trouble := bin(t, "bring-back", "--find", start, "--told", earlier, image)
	if status != 1 || !strings.Contains(trouble, "will not open as what it was") {
		t.Errorf("%d, %s", status, trouble)
	}
	ends(t, 1, "bring-back", "--find", start, "--told", "512", image)
	if status, _, trouble := bin(t, "bring-back", "--find", start, image); status != 1 || !strings.Contains(trouble, "say which with --told") {
		t.Errorf("%d, %s", status, trouble)
	}
	if out := ends(t, 0, "bring-back", "--find", start, "--told", fmt.Sprint(int64(told[50*disk.MiB])), image); !strings.Contains(out, "Bring back Volume 1") || !strings.Contains(out, "nobody knows whether they are as they were") {
		t.Errorf("says %s", out)
	}
}

// TestAllBackWithASerial brings everything back to a drive without a table that has a serial number: a table
// is made, so it is asked for.
func TestAllBackWithASerial(t *testing.T) {
	image := filepath.Join(t.TempDir(), "d.img")
	im, err := disk.CreateImage(image, 100*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	if err := ntfs.Make(disk.NewWindow(im, disk.MiB, 40*disk.MiB), ntfs.Options{Label: "Plots", Serial: 0x7f3b0000, Hidden: 2048, Time: time.Unix(1780000000, 0)}); err != nil {
		t.Fatal(err)
	}
	im.Close()
	if err := os.WriteFile(image+".drive.json", []byte(`{"model": "Quayline 64", "serial": "QL-77-4D7C"}`), 0o644); err != nil {
		t.Fatal(err)
	}
	ends(t, 1, "bring-back", "--all", image)
	if out := ends(t, 0, "bring-back", "--all", "--serial", "4d7c", image); !strings.Contains(out, "Bring back Plots") {
		t.Errorf("says %s", out)
	}
	ends(t, 0, "check", image)
}
