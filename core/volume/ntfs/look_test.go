package ntfs

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

func made(t *testing.T, files ...volume.Source) *Volume {
	t.Helper()
	dev := image(t, 32*disk.MiB, 512)
	if err := Make(dev, Options{Time: day, Files: files}); err != nil {
		t.Fatal(err)
	}
	v, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestStates tells a hibernated system and kept earlier states by what lies in the
// volume, and not by names alone.
func TestStates(t *testing.T) {
	page := func(mark string) []byte { return append([]byte(mark), make([]byte, 8192)...) }
	points := "System Volume Information/{5a1c77e0-1043-11ee-9c3e-7f3ba1043001}{3808876b-c176-4e48-b7ae-04046e6cc752}"
	for name, c := range map[string]struct {
		files       []volume.Source
		asleep, old bool
	}{
		"nothing":              {nil, false, false},
		"hibernated":           {[]volume.Source{{Path: "hiberfil.sys", Data: page("HIBR")}}, true, false},
		"in small letters":     {[]volume.Source{{Path: "HIBERFIL.SYS", Data: page("hibr")}}, true, false},
		"woken up":             {[]volume.Source{{Path: "hiberfil.sys", Data: page("\x00\x00\x00\x00")}}, false, false},
		"too short":            {[]volume.Source{{Path: "hiberfil.sys", Data: []byte("HIBR")}}, false, false},
		"in a folder":          {[]volume.Source{{Path: "old/hiberfil.sys", Data: page("HIBR")}}, false, false},
		"restore points":       {[]volume.Source{{Path: points, Data: []byte("x")}}, false, true},
		"only their catalogue": {[]volume.Source{{Path: "System Volume Information/{3808876b-c176-4e48-b7ae-04046e6cc752}", Data: []byte("x")}}, false, false},
	} {
		i, err := made(t, c.files...).Info()
		if err != nil || i.Hibernated != c.asleep || i.RestorePoints != c.old || i.BadClusters != 0 {
			t.Errorf("%s: %+v, %v", name, i, err)
		}
	}
}

// TestPages reads a large folder page by page, from any name on, and finds files in it
// without reading it all.
func TestPages(t *testing.T) {
	var files []volume.Source
	for i := range 3000 {
		files = append(files, volume.Source{Path: fmt.Sprintf("many/Name %04d of the many", (i*7919)%3000), Data: []byte{byte(i)}})
	}
	files = append(files, volume.Source{Path: "empty", Folder: true}, volume.Source{Path: "many/Zülpich/b.txt", Data: []byte("b")})
	v := made(t, files...)
	var all []string
	for from := ""; ; {
		page, next, err := v.List("MANY", from, 137)
		if err != nil || len(page) > 137 {
			t.Fatal(len(page), err)
		}
		for _, f := range page {
			all = append(all, f.Path)
		}
		if from = next; next == "" {
			break
		}
	}
	if len(all) != 3001 || !slices.IsSorted(all) || all[7] != "many/Name 0007 of the many" || all[3000] != "many/Zülpich" {
		t.Errorf("%d entries, the first %q, the last %q", len(all), all[0], all[len(all)-1])
	}
	if page, next, err := v.List("many", "name 1499 OF the many", 2); err != nil || len(page) != 2 || page[0].Path != "many/Name 1500 of the many" || next != "Name 1501 of the many" {
		t.Errorf("from the middle: %v, %q, %v", page, next, err)
	}
	if page, next, err := v.List("empty", "", 10); err != nil || len(page) != 0 || next != "" {
		t.Errorf("an empty folder: %v, %q, %v", page, next, err)
	}
	for path, want := range map[string]string{"many/NAME 2999 of the MANY": "many/Name 2999 of the many", "/many/zülpich/B.TXT/": "many/Zülpich/b.txt", "many": "many"} {
		if f, err := v.Stat(path); err != nil || f.Path != want {
			t.Errorf("%s: %+v, %v", path, f, err)
		}
	}
	for _, path := range []string{"", "many/none", "many/Name 0001 of the many/x", "$MFT", "none/x"} {
		if f, err := v.Stat(path); !errors.Is(err, volume.ErrNotFound) {
			t.Errorf("%q: %+v, %v", path, f, err)
		}
		if path == "" {
			continue
		}
		if _, _, err := v.List(path, "", 5); !errors.Is(err, volume.ErrNotFound) {
			t.Errorf("the folder %q: %v", path, err)
		}
	}
}

// TestReparsePoints lists files whose contents another program gives.
func TestReparsePoints(t *testing.T) {
	v := made(t, volume.Source{Path: "a.txt", Data: bytes.Repeat([]byte("a"), 9000)})
	link := func(tag uint32, target string) []byte {
		head := 8
		if tag == tagSymlink {
			head = 12
		}
		name := bytes16(target)
		b := make([]byte, head, head+len(name))
		le.PutUint16(b[2:], uint16(len(name)))
		return append(b, name...)
	}
	wof := func(version, form uint32) []byte {
		b := make([]byte, 16)
		for i, x := range []uint32{version, 2, 1, form} {
			le.PutUint32(b[4*i:], x)
		}
		return b
	}
	for _, c := range []struct {
		tag          uint32
		data         []byte
		folder       bool
		kind         volume.FileKind
		target, says string
		stored       string
	}{
		{tagSymlink, link(tagSymlink, `\??\C:\Users\Clover`), false, volume.Link, "C:/Users/Clover", "", ""},
		{tagMount, link(tagMount, `\??\D:\`), true, volume.Link, "D:/", "", ""},
		{tagUnixLink, append(make([]byte, 4), "../there"...), false, volume.Link, "../there", "", ""},
		{tagSymlink, []byte{1, 2}, false, volume.Link, "", "", ""},
		{tagPlaceholder | 0x3000, nil, false, volume.Plain, "", "placeholder", ""},
		{tagDeduped, nil, false, volume.Plain, "", "shared with other files", ""},
		{0x80000999, nil, false, volume.Plain, "", "another program", ""},
		{tagStart, nil, false, volume.Plain, "", "", ""},
		{tagSystem, wof(1, 0), false, volume.Plain, "", "", "compressed by the system"},
		{tagSystem, wof(1, 9), false, volume.Plain, "", "form 9", "compressed by the system"},
		{tagSystem, wof(2, 0), false, volume.Plain, "", "another file", "compressed by the system"},
	} {
		n := &node{num: 70, reparse: c.tag, link: c.data, streams: []streamOf{{size: 9000}, {name: packedStream, size: 10}}}
		if c.folder {
			n.flags, n.streams = isFolder, nil
		}
		list := v.describe(n, "x")
		f := list[0]
		if f.Kind != c.kind || f.Target != c.target || (f.Unreadable != "") != (c.says != "") || !strings.Contains(f.Unreadable, c.says) || f.Stored != c.stored {
			t.Errorf("%x: %+v", c.tag, f)
		}
		if c.tag == tagSystem && len(list) != 1 {
			t.Errorf("where the system keeps the contents is listed too: %+v", list)
		}
		if f.Unreadable != "" {
			if _, err := v.Open(f); !errors.Is(err, volume.ErrUnreadable) {
				t.Errorf("%x: opened, %v", c.tag, err)
			}
		}
	}
}

func TestLastFile(t *testing.T) {
	v := made(t, volume.Source{Path: "small.txt", Data: []byte("s")}, volume.Source{Path: "Folder/the last.bin", Data: bytes.Repeat([]byte("x"), 2<<20)})
	name, fixed, err := v.LastFile()
	if err != nil || fixed || name == "" {
		t.Errorf("%q, %v, %v", name, fixed, err)
	}
	i, _ := v.Info()
	files, _ := v.Files()
	for _, f := range files {
		for _, e := range f.Extents {
			if e.Off+e.Len == i.ShrinkCut-v.boot.sector && f.Path != name {
				t.Errorf("%s reaches to the last used cluster, not %s", f.Path, name)
			}
		}
	}
}
