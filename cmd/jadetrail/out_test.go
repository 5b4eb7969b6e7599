package main

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// TestTerminalIsSafe has a volume whose label and file names would command a terminal: they are shown, and
// do nothing, and programs get them as they are.
func TestTerminalIsSafe(t *testing.T) {
	image := filepath.Join(t.TempDir(), "d.img")
	im, err := disk.CreateImage(image, 64*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	label, name := "a\u202eb\u009b31m", "c\u009bJ\u2066.txt"
	if err := ntfs.Make(disk.NewWindow(im, disk.MiB, 32*disk.MiB), ntfs.Options{Label: label, Serial: 7, Hidden: 2048, Time: time.Unix(1780000000, 0), Files: []volume.Source{{Path: name, Data: []byte("x")}}}); err != nil {
		t.Fatal(err)
	}
	e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: "5a1c77e0-1042-4d0b-9c3e-000000000001", Start: 2048, End: 67583, Name: "p\u009b2J"})
	if err := table.New(im, "5a1c77e0-1042-4d0b-9c3e-0000000000d0", e).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	im.Close()
	for _, args := range [][]string{{"inspect", image}, {"files", "--partition", "1", image}, {"inspect", "--json", image}, {"files", "--json", "--partition", "1", image}, {"check", image}} {
		status, out, trouble := bin(t, args...)
		if status != 0 || strings.ContainsFunc(out+trouble, hidden) {
			t.Errorf("%v: %d, %q %q", args, status, out, trouble)
		}
	}
	var list struct{ Files []struct{ Path string } }
	if err := json.Unmarshal([]byte(ends(t, 0, "files", "--json", "--partition", "1", image)), &list); err != nil || len(list.Files) == 0 || list.Files[len(list.Files)-1].Path != name {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestSaidInSentences has what is wrong said in sentences, without what a decoder or the system says.
func TestSaidInSentences(t *testing.T) {
	image := reception(t)
	empty := write(t, "empty.jsonl", "")
	if out := ends(t, 1, "verify-trail", empty); !strings.Contains(out, "holds no entries") {
		t.Errorf("an empty trail: %s", out)
	}
	ends(t, 1, "verify-trail", "--json", empty)
	for text, says := range map[string]string{
		`{"version": 1, "steps": [{"do": 5}]}`: `its field "steps.do" holds a number`,
		`xx`:                                   "something is wrong at byte 1",
		``:                                     "it is empty",
		`{"version": 1,`:                       "it breaks off in the middle",
		`{"version": 1, "melt": true}`:         `a field "melt", which is not known`,
		`[1]`:                                  "of the kind array",
		`{"version": 1, "steps": [{"do": "grow", "partition": "6", "by": "242085789696 B"}]}`:  "225.5 GiB is more than the",
		`{"version": 1, "steps": [{"do": "grow", "partition": "6", "by": "99999999999 TiB"}]}`: "more than any drive has",
	} {
		_, _, trouble := bin(t, "carry-out", "--rehearse", "--plan", write(t, "p.json", text), image)
		if !strings.Contains(trouble, says) || strings.Contains(trouble, "json:") || strings.Contains(trouble, "unmarshal") || strings.Contains(trouble, "not an amount") {
			t.Errorf("%s: %s", text, trouble)
		}
	}
	gone := filepath.Join(t.TempDir(), "gone.img")
	if status, _, trouble := bin(t, "inspect", gone); status != 2 || !strings.Contains(trouble, "There is no file "+gone) {
		t.Errorf("%d, %s", status, trouble)
	}
	out := ends(t, 0, "inspect", "--pc", image+".pc.json", image)
	for _, w := range []string{"serial number", "C: ntfs System"} {
		if !strings.Contains(out, w) {
			t.Errorf("inspect does not say %q:\n%s", w, out)
		}
	}
}
