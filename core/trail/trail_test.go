package trail

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func entries(n int) []Entry {
	var out []Entry
	for i := range n {
		out = append(out, Entry{ID: fmt.Sprint("e-", i), Time: time.Date(2026, 11, 24, 9, i, 0, 1234567, time.UTC), Who: "Ines Marsh", Act: ActDelete, Text: "<b> & „Quote“", Record: fmt.Sprint("d-", i)})
	}
	return out
}

func TestChain(t *testing.T) {
	public, key, _ := ed25519.GenerateKey(nil)
	f := File{filepath.Join(t.TempDir(), "a", "trail.jsonl"), key}
	if err := f.Append(entries(3)...); err != nil {
		t.Fatal(err)
	}
	if err := f.Append(entries(5)...); err != nil { // three of them are there already
		t.Fatal(err)
	}
	good, _ := os.ReadFile(f.Path)
	// A line that a power cut left unfinished is no entry.
	os.WriteFile(f.Path, append(bytes.Clone(good), `{"act":"del`...), 0o644)
	if err := f.Append(entries(6)...); err != nil {
		t.Fatal(err)
	}
	good, _ = os.ReadFile(f.Path)
	r, err := Verify(bytes.NewReader(good), public)
	if err != nil || !r.Sound() || r.Entries != 6 || r.Signed != 6 {
		t.Fatalf("%+v, %v", r, err)
	}
	lines := strings.SplitAfter(strings.TrimSuffix(string(good), "\n"), "\n")
	if !strings.Contains(lines[0], `"previous":"`+strings.Repeat("0", 64)) {
		t.Error("the first entry does not begin the chain")
	}
	other, _, _ := ed25519.GenerateKey(nil)
	if r, _ := Verify(bytes.NewReader(good), other); r.Sound() {
		t.Error("a foreign key was taken")
	}
	for name, text := range map[string]string{
		"altered":   strings.Replace(string(good), "Ines Marsh", "Tobias Wren", 1),
		"removed":   lines[0] + lines[2],
		"reordered": lines[0] + lines[2] + lines[1],
		"added":     lines[0] + lines[0] + lines[1],
		"not JSON":  lines[0] + "x\n",
		"respaced":  strings.Replace(string(good), `,"act"`, `, "act"`, 1) + strings.Replace(lines[0], `{"act"`, `{ "act"`, 1),
		"first cut": strings.Join(lines[1:], ""),
		"twice":     strings.Replace(string(good), `{"act":"delete",`, `{"act":"grow","act":"delete",`, 1),
	} {
		if r, err := Verify(strings.NewReader(text), nil); err != nil || r.Sound() || len(r.Problems[0]) < 20 {
			t.Errorf("%s: %+v, %v", name, r, err)
		}
	}
	os.WriteFile(f.Path, []byte("nonsense\n"), 0o644)
	if err := f.Append(entries(1)...); err == nil {
		t.Error("an entry was added to something that is no trail")
	}
}

func FuzzVerify(f *testing.F) {
	line, _, _ := Seal(entries(1)[0], 1, First, nil)
	f.Add(line)
	f.Add([]byte("{}\n[]\n1\n"))
	f.Fuzz(func(t *testing.T, b []byte) { Verify(bytes.NewReader(b), nil) })
}
