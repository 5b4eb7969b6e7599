package main

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/app/demo"
	"jadetrail/core/disk"
)

// bin runs a bench command and returns its exit status and what it printed.
func bin(t *testing.T, args ...string) (status int, out, trouble string) {
	t.Helper()
	capture := func(f **os.File) func() string {
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		old := *f
		*f = w
		text := make(chan string)
		go func() { b, _ := io.ReadAll(r); text <- string(b) }()
		return func() string { w.Close(); *f = old; return <-text }
	}
	o, e := capture(&os.Stdout), capture(&os.Stderr)
	status = execute(context.Background(), args)
	return status, o(), e()
}

// ends runs a bench command that must end with an exit status, and says no in one line.
func ends(t *testing.T, want int, args ...string) string {
	t.Helper()
	status, out, trouble := bin(t, args...)
	if status != want {
		t.Fatalf("%v: exit status %d, want %d\n%s%s", args, status, want, out, trouble)
	}
	if want != 0 && strings.Count(strings.TrimSpace(trouble), "\n") > 0 {
		t.Errorf("%v: more than one line: %q", args, trouble)
	}
	return out
}

func reception(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if _, err := demo.Make(dir); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "tidewater-reception.img")
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return p
}

func TestStory(t *testing.T) {
	image := reception(t)
	facts := image + ".pc.json"
	must := func(want int, args ...string) string { t.Helper(); return ends(t, want, args...) }
	var l struct {
		Scheme string `json:"scheme"`
		Size   int64  `json:"size_bytes"`
		Sector int    `json:"sector_bytes"`
		Spans  []map[string]any
	}
	decode := func(text string, v any) {
		t.Helper()
		if err := json.Unmarshal([]byte(text), v); err != nil {
			t.Fatalf("%v: %.200s", err, text)
		}
	}
	decode(must(0, "inspect", "--json", "--pc", facts, image), &l)
	if l.Scheme != "gpt" || l.Size != 512110190592 || l.Sector != 512 || len(l.Spans) != 10 {
		t.Errorf("inspect: %+v", l)
	}
	c := l.Spans[4]
	v, _ := c["volume"].(map[string]any)
	if c["number"] != 3.0 || c["role"] != "start-system" || c["protected"] != false || c["container"] != 0.0 || c["start_lba"] != 567296.0 || v["kind"] != "ntfs" || v["clean"] != true || v["cluster_bytes"] != 4096.0 {
		t.Errorf("inspect: C: is %v", c)
	}
	if g := l.Spans[8]; g["kind"] != "gap" || g["why"] != "free" || g["type_id"] != nil {
		t.Errorf("inspect: the gap is %v", g)
	}
	var fl struct{ Files []map[string]any }
	decode(must(0, "files", "--json", "--hash", "--partition", "4", image), &fl)
	hashed := 0
	for _, f := range fl.Files {
		if h, _ := f["sha256"].(string); len(h) == 64 {
			hashed++
		}
	}
	if len(fl.Files) != 35 || hashed != 33 {
		t.Errorf("files: %d, %d hashed", len(fl.Files), hashed)
	}
	decode(must(0, "files", "--json", "--partition", "4", "--path", "/recovery", image), &fl)
	if len(fl.Files) != 4 {
		t.Errorf("one level: %v", fl.Files)
	}
	var sound struct{ Sound bool }
	if decode(must(0, "check", "--json", image), &sound); !sound.Sound {
		t.Error("check: not sound")
	}
	var b struct{ Backup string }
	decode(must(0, "back-up", "--json", "--partition", "4", "--kind", "image", image), &b)
	must(0, "verify-backup", "--backup", b.Backup, "--shelf", image+".trail/shelf")
	must(2, "verify-backup", "--backup", b.Backup)
	t.Chdir(filepath.Dir(image))
	must(0, "verify-backup", "--backup", b.Backup)
	pl := write(t, "plan.json", `{"version": 1, "steps": [{"do": "delete", "partition": "4", "release": "not wanted", "erase": false}, {"do": "grow", "partition": "3", "by": "1 GiB", "edge": "end"}]}`)
	must(0, "carry-out", "--rehearse", "--pc", facts, "--plan", pl, image)
	if runs, _ := os.ReadDir(image + ".trail/runs"); len(runs) > 0 {
		t.Error("a rehearsal left a run behind")
	}
	must(1, "carry-out", "--pc", facts, "--plan", pl, image)
	must(1, "carry-out", "--pc", facts, "--serial", "0000", "--plan", pl, image)
	var r struct {
		Run     string
		Records []string
		Marks   []string
	}
	decode(must(0, "carry-out", "--json", "--pc", facts, "--serial", "7F3K", "--who", "Ines Marsh", "--plan", pl, image), &r)
	if r.Run == "" || len(r.Records) != 1 || len(r.Marks) != 1 {
		t.Errorf("carry-out: %+v", r)
	}
	must(1, "resume", image)
	must(0, "bring-back", "--record", r.Records[0], image)
	must(1, "bring-back", "--record", "d-unknown", image)
	must(0, "check", image)
	if out := must(0, "verify-trail", image+".trail/trail.jsonl"); !strings.Contains(out, "the chain is whole") {
		t.Errorf("verify-trail: %s", out)
	}
	lines, _ := os.ReadFile(image + ".trail/trail.jsonl")
	must(1, "verify-trail", write(t, "t.jsonl", strings.Replace(string(lines), "Ines Marsh", "Nobody", 1)))
	for line := range strings.SplitSeq(strings.TrimSpace(string(lines)), "\n") {
		var e map[string]any
		decode(line, &e)
		for _, k := range []string{"seq", "version", "time", "who", "act", "previous", "hash", "signature"} {
			if _, ok := e[k]; !ok {
				t.Errorf("an entry lacks %s", k)
			}
		}
		if e["act"] == "delete" && e["record"] != r.Records[0] {
			t.Errorf("the deletion names record %v", e["record"])
		}
	}
}

// TestRoutes has the routes to goals worked out, and carries one of them out as it is but
// for the reasons that a technician gives.
func TestRoutes(t *testing.T) {
	image := reception(t)
	facts := image + ".pc.json"
	must := func(want int, args ...string) string { t.Helper(); return ends(t, want, args...) }
	var a struct {
		Routes []struct {
			Title string
			Price map[string]int64
			Plan  struct {
				Version int
				Steps   []map[string]any
			}
		}
		Obstacles []struct {
			Code, Text string
			Partitions []int
		}
		Most int64 `json:"most_bytes"`
	}
	ask := func(want int, goal string) {
		t.Helper()
		a.Routes, a.Obstacles = nil, nil
		if err := json.Unmarshal([]byte(must(want, "routes", "--json", "--pc", facts, "--goal", write(t, "goal.json", goal), image)), &a); err != nil {
			t.Fatal(err)
		}
	}
	ask(1, `{"version": 1, "receiver": "3", "gain": "66 GiB", "keep": ["5"], "at_most": "5 GiB"}`)
	if len(a.Routes) > 0 || a.Most < 66<<30 || len(a.Obstacles) < 2 || a.Obstacles[0].Code != "too-much" {
		t.Errorf("66 GiB: %+v", a)
	}
	must(2, "routes", "--goal", write(t, "goal.json", `{"version": 1}`), image)
	must(2, "routes", image)
	ask(0, `{"version": 1, "receiver": "3", "gain": "1 GiB", "keep": ["5", "6"], "at_most": "5 GiB"}`)
	if len(a.Routes) != 2 || a.Routes[0].Price["deleted"] != 1 || a.Routes[0].Price["bytes_copied"] == 0 || a.Routes[1].Price["bytes_copied"] != 0 {
		t.Fatalf("1 GiB: %+v", a)
	}
	for _, s := range a.Routes[0].Plan.Steps {
		if s["do"] == "delete" {
			s["release"], s["waiver"] = "it moves", "it is parked"
		}
	}
	b, err := json.Marshal(a.Routes[0].Plan)
	if err != nil {
		t.Fatal(err)
	}
	must(0, "carry-out", "--pc", facts, "--serial", "7F3K", "--plan", write(t, "plan.json", string(b)), image)
	must(0, "check", image)
	if out := must(0, "inspect", "--pc", facts, image); strings.Contains(out, "warning") || !strings.Contains(out, "139 GiB") {
		t.Errorf("afterwards: %s", out)
	}
}

// TestPCAndShelf parks the recovery environment with the backups in a volume on another
// drive, and has the facts about the PC written back.
func TestPCAndShelf(t *testing.T) {
	image := reception(t)
	facts, on := image+".pc.json", filepath.Join(filepath.Dir(image), "shelf.img")+":1"
	must := func(want int, args ...string) string { t.Helper(); return ends(t, want, args...) }
	was, err := os.ReadFile(facts)
	if err != nil {
		t.Fatal(err)
	}
	var made struct{ Backup string }
	if err := json.Unmarshal([]byte(must(0, "back-up", "--json", "--kind", "files", "--partition", "4", "--shelf", on, image)), &made); err != nil {
		t.Fatal(err)
	}
	must(0, "verify-backup", "--backup", made.Backup, "--shelf", on)
	must(1, "verify-backup", "--backup", made.Backup, "--shelf", image+".trail/shelf")
	if out := must(0, "files", "--partition", "1", "--path", "Backups/"+made.Backup, strings.TrimSuffix(on, ":1")); !strings.Contains(out, "files.tar.zst") {
		t.Errorf("on the shelf's volume: %s", out)
	}
	must(2, "back-up", "--kind", "files", "--partition", "4", "--shelf", strings.TrimSuffix(on, "1")+"7", image)
	must(1, "back-up", "--kind", "files", "--partition", "1", "--shelf", on, strings.TrimSuffix(on, ":1"))
	pl := write(t, "plan.json", `{"version": 1, "steps": [{"do": "note-identity", "partition": "4"}, {"do": "park-recovery"}, {"do": "start-order", "wait_seconds": 12}]}`)
	must(1, "carry-out", "--plan", pl, "--shelf", on, image) // nothing is known of the PC
	must(0, "carry-out", "--rehearse", "--plan", pl, "--pc", facts, "--shelf", on, image)
	if now, err := os.ReadFile(facts); err != nil || string(now) != string(was) {
		t.Error("a rehearsal changed the facts about the PC")
	}
	must(0, "carry-out", "--plan", pl, "--pc", facts, "--shelf", on, image)
	var pc struct {
		Wait     int `json:"wait_seconds"`
		Recovery struct {
			Parked, InUse bool
			Folder        string
		}
	}
	if now, err := os.ReadFile(facts); err != nil || json.Unmarshal(now, &pc) != nil || pc.Wait != 12 || !pc.Recovery.Parked || pc.Recovery.Folder != "Parked recovery" {
		t.Errorf("the facts: %+v, %v", pc, err)
	}
	if out := must(0, "files", "--hash", "--partition", "3", "--path", "Parked recovery", image); strings.Count(out, "file ") < 33 {
		t.Errorf("parked: %s", out)
	}
	must(0, "check", image)
	again := write(t, "again.json", `{"version": 1, "steps": [{"do": "use-recovery", "partition": "4"}]}`)
	must(0, "carry-out", "--plan", again, "--pc", facts, image)
	must(1, "carry-out", "--plan", again, "--pc", facts, image) // it is in use from there
}

func TestFilesThere(t *testing.T) {
	image := reception(t)
	var made struct{ Backup string }
	must := func(want int, args ...string) string { t.Helper(); return ends(t, want, args...) }
	if err := json.Unmarshal([]byte(must(0, "back-up", "--json", "--kind", "files", "--partition", "5", "--folder", "X-rays/2025", image)), &made); err != nil || made.Backup == "" {
		t.Fatal(made, err)
	}
	must(0, "verify-backup", "--backup", made.Backup, "--shelf", image+".trail/shelf")
	var list struct {
		Files []struct{ Path, Kind, Sha256 string }
	}
	sums := func(partition, path string) map[string]string {
		t.Helper()
		if err := json.Unmarshal([]byte(must(0, "files", "--json", "--hash", "--partition", partition, "--path", path, image)), &list); err != nil {
			t.Fatal(err)
		}
		out := map[string]string{}
		for _, f := range list.Files {
			if f.Kind == "file" {
				out[f.Path[strings.LastIndexByte(f.Path, '/'):]] = f.Sha256
			}
		}
		return out
	}
	want := sums("5", "X-rays/2025")
	to := filepath.Join(t.TempDir(), "out")
	must(0, "restore", "--backup", made.Backup, "--to", to, image)
	there, err := os.ReadDir(filepath.Join(to, "X-rays", "2025"))
	if err != nil || len(there) != len(want) || len(want) == 0 {
		t.Errorf("%d files of %d, %v", len(there), len(want), err)
	}
	must(0, "restore", "--backup", made.Backup, "--partition", "3", "--path", "From X", image)
	if got := sums("3", "From X/X-rays/2025"); !maps.Equal(got, want) {
		t.Errorf("%d files arrived, of %d", len(got), len(want))
	}
	must(0, "check", image)
	must(0, "verify-trail", image+".trail/trail.jsonl")
	must(1, "restore", "--backup", "b-nowhere", "--partition", "3", image)
	must(2, "restore", "--backup", made.Backup, image)
	must(2, "restore", "--backup", made.Backup, "--to", to, "--partition", "3", image)
	// What is damaged in it does not come along: the answer is no, and what does not is named.
	frames := filepath.Join(image+".trail", "shelf", made.Backup, "files.tar.zst")
	b, err := os.ReadFile(frames)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 200 {
		b[len(b)/2+i] ^= 0x55
	}
	if err := os.WriteFile(frames, b, 0o644); err != nil {
		t.Fatal(err)
	}
	must(1, "restore", "--backup", made.Backup, "--only", "X-rays/2025/"+there[0].Name(), "--to", filepath.Join(t.TempDir(), "rest"), image)
}

func TestRefusals(t *testing.T) {
	image := reception(t)
	facts := image + ".pc.json"
	step := func(s string) string { return write(t, "p.json", `{"version": 1, "steps": [`+s+`]}`) }
	im, err := disk.OpenImage(image, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	before, err := disk.ReadFull(im, 0, 4*disk.MiB)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		want int
		says string
		args []string
	}{
		{2, "empty", []string{"inspect", write(t, "empty.img", "")}},
		{2, "not a drive image", []string{"inspect", write(t, "letter.txt", strings.Repeat("Dear customer, ", 999))}},
		{2, "there is no file", []string{"inspect", "/nowhere/at/all.img"}},
		{2, "name one image", []string{"inspect"}},
		{2, "unknown flag", []string{"inspect", "--frobnicate", image}},
		{2, "unknown command", []string{"frobnicate"}},
		{2, "name a plan", []string{"carry-out", image}},
		{2, "cannot be read", []string{"carry-out", "--plan", write(t, "x.json", "{"), image}},
		{2, "negative", []string{"carry-out", "--plan", step(`{"do": "grow", "partition": "3", "by": "-5"}`), image}},
		{2, "not an amount", []string{"carry-out", "--plan", step(`{"do": "grow", "partition": "3", "by": "lots"}`), image}},
		{2, "not files or image", []string{"back-up", "--partition", "4", "--kind", "photograph", image}},
		{2, "off or running", []string{"inspect", "--pc", write(t, "pc.json", `{"version": 1, "state": "asleep"}`), image}},
		{1, "can give up up to", []string{"carry-out", "--plan", step(`{"do": "shrink", "partition": "1", "by": "400 MiB"}`), image}},
		{1, "lie before", []string{"carry-out", "--pc", facts, "--plan", step(`{"do": "grow", "partition": "3", "by": "1GiB"}`), image}},
		{1, "The PC starts this system", []string{"carry-out", "--serial", "7F3K", "--pc", facts, "--plan", step(`{"do": "delete", "partition": "3", "waiver": "w"}`), image}},
		{1, "only EFI", []string{"carry-out", "--serial", "7F3K", "--pc", facts, "--plan", step(`{"do": "delete", "partition": "1", "release": "r", "waiver": "w"}`), image}},
		{1, "no partition 9", []string{"carry-out", "--serial", "7F3K", "--plan", step(`{"do": "delete", "partition": "9"}`), image}},
		{1, "more than the", []string{"carry-out", "--serial", "7F3K", "--plan", step(`{"do": "delete", "partition": "6", "release": "r", "waiver": "w"}, {"do": "grow", "partition": "5", "by": "500 GiB"}`), image}},
		{1, "cannot be looked into", []string{"files", "--partition", "2", image}},
		{1, "no such file or folder", []string{"files", "--partition", "3", "--path", "Nowhere", image}},
		{1, "no such backup", []string{"verify-backup", "--backup", "b-none", "--shelf", t.TempDir()}},
		{1, "no such partition", []string{"back-up", "--partition", "9", "--kind", "image", image}},
		{1, "no unfinished run", []string{"resume", image}},
	} {
		status, out, trouble := bin(t, c.args...)
		if status != c.want || !strings.Contains(strings.ToLower(trouble), strings.ToLower(c.says)) || strings.Count(strings.TrimSpace(trouble), "\n") > 0 || out != "" {
			t.Errorf("%v: exit status %d, says %q %q", c.args, status, trouble, out)
		}
	}
	if left, _ := filepath.Glob(image + ".trail/*"); len(left) > 0 {
		t.Errorf("refusals left behind %v", left)
	}
	if after, _ := disk.ReadFull(im, 0, 4*disk.MiB); string(before) != string(after) {
		t.Error("a refusal changed the drive")
	}
}
