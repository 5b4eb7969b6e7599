package volume_test

import (
	"bytes"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

func TestName(t *testing.T) {
	for raw, want := range map[string]string{
		"a": "a", "ä ö.txt": "ä ö.txt", "..a": "..a", "": "\uFFFD", ".": "\uFFFD", "..": "\uFFFD\uFFFD",
		"../../etc/passwd": "..\uFFFD..\uFFFDetc\uFFFDpasswd", "a\x00b": "a\uFFFDb",
	} {
		got, trouble := volume.Name(raw)
		if got != want || (trouble != "") != (raw != want) {
			t.Errorf("Name(%q) is %q, %q; want %q", raw, got, trouble, want)
		}
	}
}

func wide(s string) (out []byte) {
	for _, c := range utf16.Encode([]rune(s)) {
		out = append(out, byte(c), byte(c>>8))
	}
	return out
}

// Names that lead out of the volume, or end in the middle, are damage and are told; what is listed leads nowhere.
func TestNamesThatLeadOut(t *testing.T) {
	files := []volume.Source{{Path: "qXXqX.txt", Data: []byte("one")}, {Path: "plain.txt", Data: []byte("two")}}
	for kind, open := range map[string]func(t *testing.T, dev disk.Device) volume.Volume{
		"ntfs": func(t *testing.T, dev disk.Device) volume.Volume {
			v, err := ntfs.Open(dev)
			if err != nil {
				t.Fatal(err)
			}
			return v
		},
		"fat": func(t *testing.T, dev disk.Device) volume.Volume {
			v, err := fat.Open(dev)
			if err != nil {
				t.Fatal(err)
			}
			return v
		},
	} {
		for named, to := range map[string]string{"a slash": "q//q/", "NUL": "q\x00\x00q\x00", "parents": "../.."} {
			t.Run(kind+", "+named, func(t *testing.T) {
				size := disk.Bytes(80 * disk.MiB)
				im, err := disk.CreateImage(filepath.Join(t.TempDir(), "v.img"), size, 512)
				if err != nil {
					t.Fatal(err)
				}
				defer im.Close()
				if kind == "ntfs" {
					err = ntfs.Make(im, ntfs.Options{Files: files})
				} else {
					err = fat.Make(im, fat.Options{Files: files})
				}
				if err != nil {
					t.Fatal(err)
				}
				raw, err := disk.ReadFull(im, 0, size)
				if err != nil {
					t.Fatal(err)
				}
				from, found := wide("qXXqX"), 0
				for at := bytes.Index(raw, from); at >= 0; at = bytes.Index(raw, from) {
					copy(raw[at:], wide(to))
					found++
				}
				if found == 0 {
					t.Fatal("the name does not stand on the volume")
				}
				if _, err := im.WriteAt(raw, 0); err != nil {
					t.Fatal(err)
				}
				v := open(t, im)
				told, plain := false, false
				if err := v.Walk(func(f volume.File) error {
					if !filepath.IsLocal(f.Path) || strings.ContainsAny(f.Path, "/\x00") {
						t.Errorf("%q leads out", f.Path)
					}
					told = told || f.Unreadable == volume.Misnamed
					plain = plain || f.Path == "plain.txt" && f.Unreadable == ""
					return nil
				}); err != nil {
					t.Fatal(err)
				}
				if named != "NUL" || kind == "ntfs" { // a long name of FAT ends at NUL, and is another then
					if !told {
						t.Error("it is not told of the file")
					}
					if list := v.Check(); list.FirstError() == nil || !strings.Contains(list.FirstError().Text, "name") && !strings.Contains(list.FirstError().Code, "folder") {
						t.Errorf("the check says %v", list)
					}
				}
				if !plain {
					t.Error("the file beside it is not there")
				}
			})
		}
	}
}
