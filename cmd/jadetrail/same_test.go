package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadetrail/app/demo"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// recording is what the terminal said and did of one plan, with what differs from run to run taken out.
type recording struct {
	t    *testing.T
	dir  string
	rng  *rand.Rand
	out  bytes.Buffer
	step int
	// small tells that the drive is one of 200 MiB.
	small bool
	// as is where the drive is opened, once its image is made; nil for the image itself.
	as func(image string) string
	at string // where as says
}

var (
	tookTags = regexp.MustCompile(`(?s)"seconds": ?\{.*?\}`) // how long it took, here
	testDirs = regexp.MustCompile(`jadetrail-test-[0-9]+`)
)

// asked runs a command, with a clock that stands still and randomness that is the same each time.
func (r *recording) asked(args ...string) (out string) {
	r.t.Helper()
	r.step++
	seed := sha256.Sum256(fmt.Appendf(nil, "%d", r.step))
	at := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC).Add(time.Duration(r.step) * time.Hour)
	defer func(n func() time.Time, x io.Reader) { now, random = n, x }(now, random)
	now, random = func() time.Time { return at }, rand.NewChaCha8(seed)
	status, out, trouble := bin(r.t, args...)
	fmt.Fprintf(&r.out, "$ %s\n%s%s= %d\n", strings.Join(args, " "), out, trouble, status)
	return out
}

// text is what was recorded.
func (r *recording) text() string {
	s := r.out.String()
	if r.as != nil {
		s = strings.ReplaceAll(s, r.at, filepath.Join(r.dir, "drive.img"))
	}
	s = strings.ReplaceAll(s, r.dir, "DIR")
	return testDirs.ReplaceAllString(tookTags.ReplaceAllString(s, `"seconds": {}`), "TEMP")
}

// contents is a sum of what a drive holds: every block of 4 KiB that is not zeros.
func contents(t *testing.T, path string) string {
	t.Helper()
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	h, zeros, b := sha256.New(), make([]byte, disk.MiB), make([]byte, disk.MiB)
	for at := disk.Bytes(0); ; {
		from, to, more := im.Data(at)
		if !more {
			break
		}
		for at = from.Down(4096); at < to; at += disk.Bytes(len(b)) {
			n, err := im.ReadAt(b[:min(disk.Bytes(len(b)), im.Size()-at)], int64(at))
			if err != nil && err != io.EOF {
				t.Fatal(err)
			}
			for i := 0; i < n; i += 4096 {
				if block := b[i:min(i+4096, n)]; !bytes.Equal(block, zeros[:len(block)]) {
					fmt.Fprintln(h, int64(at)+int64(i))
					h.Write(block)
				}
			}
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// kept are the files below a folder that the application made, in words where they are short.
func (r *recording) kept(below string) {
	r.t.Helper()
	err := filepath.WalkDir(below, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || e.Name() == "manifest.json" { // it has the times of files
			return err
		}
		b, err := os.ReadFile(path)
		if strings.HasSuffix(path, ".jsonl") {
			fmt.Fprintf(&r.out, "%s:\n%s", path, b)
		} else if !strings.Contains(path, "/runs/") {
			fmt.Fprintf(&r.out, "%s: %x\n", path, sha256.Sum256([]byte(strings.ReplaceAll(string(b), r.dir, "DIR"))))
		}
		return err
	})
	if err != nil && !os.IsNotExist(err) {
		r.t.Fatal(err)
	}
}

// randomDrive makes a drive with an MBR or a GPT, with volumes that hold somebody's files.
func (r *recording) randomDrive(path string) {
	r.t.Helper()
	im, err := disk.CreateImage(path, 200*disk.MiB, 512)
	if err != nil {
		r.t.Fatal(err)
	}
	defer im.Close()
	old, at := r.rng.IntN(3) == 0, disk.MiB
	var entries []table.Entry
	for n := 1; n <= 2+r.rng.IntN(4); n++ {
		at += disk.Bytes(r.rng.IntN(3)*r.rng.IntN(9)) * disk.MiB
		size, small := disk.Bytes(14+r.rng.IntN(26))*disk.MiB, r.rng.IntN(5) == 0
		if small {
			size = 40 * disk.MiB
		}
		if at+size > 198*disk.MiB || old && n > 4 {
			break
		}
		kind := []string{table.TypeBasic, table.TypeBasic, table.TypeBasic, table.TypeRecovery, table.TypeOEM}[r.rng.IntN(5)]
		e := table.Entry{Slot: n, TypeID: kind, UniqueID: fmt.Sprintf("5a1c77e0-0018-4d0b-9c3e-0000000000%02x", n), Name: fmt.Sprint("part ", n), Start: at.At(512), End: (at + size).At(512) - 1}
		if old {
			e = table.Entry{Slot: n, TypeID: "07", Start: e.Start, End: e.End}
		}
		var files []volume.Source
		for i := range 3 + r.rng.IntN(30) {
			path := fmt.Sprintf("%s/paper %d.txt", []string{"Papers", "Users/Ida/Letters", "Recovery/WindowsRE"}[r.rng.IntN(3)], i)
			files = append(files, volume.Source{Path: path, Data: bytes.Repeat(fmt.Appendf(nil, "%d of %d. ", i, n), 1+r.rng.IntN(9000))})
		}
		w, day := disk.NewWindow(im, at, size), time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)
		if small {
			err = fat.Make(w, fat.Options{Label: "SMALL", Cluster: 512, Serial: r.rng.Uint32(), Hidden: uint32(e.Start), Time: day, Files: files})
		} else {
			err = ntfs.Make(w, ntfs.Options{Label: fmt.Sprint("Volume ", n), Serial: r.rng.Uint64(), Hidden: uint32(e.Start), Time: day, Files: files})
		}
		if err != nil {
			r.t.Fatal(err)
		}
		if entries, at = append(entries, e), at+size; old {
			entries[n-1] = table.MBREntry(e, 512)
		} else {
			entries[n-1] = table.NewEntry(e)
		}
	}
	var s script.Script
	if s = table.New(im, "5a1c77e0-0018-4d0b-9c3e-0000000000d0", entries...); old {
		s = table.NewMBR(im, 0x7f3b1046, entries...)
	}
	label, err := json.Marshal(survey.Identity{Model: "small drive", Serial: "SML0-018-5A3E"})
	if err == nil {
		err = os.WriteFile(path+".drive.json", label, 0o644)
	}
	if e := s.Apply(im, nil); err != nil || e != nil {
		r.t.Fatal(err, e)
	}
}

// steps makes up a plan with every kind of step there is.
func (r *recording) steps(numbers, records, backups []string) (out []plan.Step) {
	one := func(list ...string) string { return list[r.rng.IntN(len(list))] }
	if len(numbers) == 0 || r.rng.IntN(20) == 0 {
		numbers = append(numbers, "9")
	}
	number := func() string { return one(numbers...) }
	amount := func() string { return one("all", "1 MiB", "4 MiB", "20 MiB", "1 GiB") }
	waiver := func() string { return one("", "a copy is kept elsewhere", "a copy is kept elsewhere") }
	for i := range 1 + r.rng.IntN(2)*r.rng.IntN(3) {
		x := plan.Step{Partition: number()}
		do := plan.Do(one("delete", "delete", "delete", "delete", "grow", "grow", "shrink", "shrink", "slide", "create", "create", "absorb", "label", "retag", "copy-out", "copy-back",
			"letter", "note-identity", "park-recovery", "use-recovery", "start-order", "drop-start-entry", "restart", "container", "clear", "bring-back", "bring-back", "rebuild", "mend"))
		switch x.Body = plan.Blank(do); do {
		case plan.Delete:
			x.Body = plan.Deletion{Release: "not wanted", Waiver: waiver(), Erase: r.small && r.rng.IntN(6) == 0}
		case plan.Grow, plan.Shrink, plan.Slide:
			switch by, edge := amount(), one("", "", "head"); do {
			case plan.Grow:
				x.Body = plan.Growth{By: by, Edge: edge}
			case plan.Shrink:
				x.Body = plan.Shrinking{By: by, Edge: edge}
			default:
				x.Body = plan.Sliding{By: one("", "-") + one("1 MiB", "6 MiB")}
			}
		case plan.Create:
			x = plan.Step{Body: plan.Creation{Size: amount(), Type: one("basic", "recovery", "efi"), Format: one("ntfs", "ntfs", "fat32", "none"), Label: "NEW", As: fmt.Sprint("n", i)}}
		case plan.Absorb:
			x.Body = plan.Absorbing{Into: number(), Folder: one("", "Taken in"), Release: "not wanted", Waiver: waiver()}
		case plan.Label:
			x.Body = plan.Labelling{Label: one("OTHER", "Ida's")}
		case plan.Retag:
			x.Body = plan.Retagging{Type: one("recovery", "basic", "oem")}
		case plan.CopyOut:
			x.Body = plan.CopyingOut{Volume: one("", number()), As: "h"}
		case plan.CopyBack:
			x.Body = plan.CopyingBack{Backup: one(append(backups, "h")...), Folder: "Back"}
		case plan.Letter:
			x.Body = plan.Lettering{Letter: one("Q", "")}
		case plan.StartOrder:
			wait := 7
			x.Body = plan.Ordering{Wait: &wait}
		case plan.ParkRecovery, plan.Restart:
			x.Partition = ""
		case plan.Container:
			x.Body = plan.Containing{Act: plan.ContainerAct(one("grow", "shrink", "dissolve")), By: "all"}
		case plan.Clear:
			x = plan.Step{Body: plan.Clearing{Scheme: one("gpt", "mbr", "none"), Release: "all of it", Waiver: "w"}}
		case plan.BringBack, plan.Rebuild:
			record, damaged := one(append(records, "d-none")...), waiver()
			if x = (plan.Step{Body: plan.Rebuilding{Record: record}}); do == plan.BringBack {
				x.Body = plan.BringingBack{Record: record, Damaged: damaged}
			}
		case plan.Mend:
			x = plan.Step{Body: plan.Mending{Keep: r.rng.IntN(2)}}
		}
		out = append(out, x)
	}
	return out
}

// goal makes up a goal.
func (r *recording) goal() route.Goal {
	number := func() string { return strconv.Itoa(1 + r.rng.IntN(6)) }
	return []route.Goal{
		{Version: 1, Receiver: number(), Gain: []string{"3 MiB", "1 GiB", "all"}[r.rng.IntN(3)]},
		{Version: 1, Receiver: number(), Gain: "5 MiB", MayDelete: []string{number(), number()}},
		{Version: 1, Remove: []string{number()}, GiveTo: number()},
		{Version: 1, Combine: []string{number(), number()}},
		{Version: 1, Room: "10 MiB"},
		{Version: 1, Clear: true},
		{Version: 1, Split: number(), Parts: []string{"8 MiB"}},
	}[r.rng.IntN(7)]
}

// TestSame carries plans out at the terminal, from seeds that are the same each time, and writes what was said
// and what lies on the drive then into the folder that JADETRAIL_SAME names: see scripts/same.sh.
func TestSame(t *testing.T) {
	into := os.Getenv("JADETRAIL_SAME")
	if into == "" {
		t.Skip("scripts/same.sh records what the program does, and compares")
	}
	plans, err := strconv.Atoi(os.Getenv("JADETRAIL_PLANS"))
	if err != nil {
		plans = 300
	}
	dir := t.TempDir()
	if _, err := demo.Make(dir); err != nil {
		t.Fatal(err)
	}
	drives, _ := filepath.Glob(filepath.Join(dir, "*.img"))
	carried := map[plan.Do]int{}
	for n := range plans {
		t.Run(strconv.Itoa(n), func(t *testing.T) {
			r := &recording{t: t, dir: t.TempDir(), rng: rand.New(rand.NewPCG(uint64(n), 18))}
			for do := range r.record(drives) {
				carried[do]++
			}
			if err := os.WriteFile(filepath.Join(into, fmt.Sprintf("terminal-%03d.txt", n)), []byte(r.text()), 0o644); err != nil {
				t.Fatal(err)
			}
		})
	}
	t.Logf("carried out: %v", carried)
}

// record has a few plans carried out on one drive; carried are the steps that were.
func (r *recording) record(drives []string) (carried map[plan.Do]int) {
	t := r.t
	image := filepath.Join(r.dir, "drive.img")
	pcArgs, last := []string(nil), "5A3E"
	if n := r.rng.IntN(max(2*len(drives), 1)); n >= len(drives) {
		r.small = true
		r.randomDrive(image)
	} else {
		for _, ends := range []string{"", ".drive.json", ".pc.json"} {
			if _, err := os.Stat(drives[n] + ends); err != nil {
				continue
			}
			if out, err := exec.Command("cp", "--sparse=always", drives[n]+ends, image+ends).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			if ends == ".pc.json" {
				pcArgs = []string{"--pc", image + ends}
			}
		}
		if id, err := survey.ReadIdentity(image); err == nil {
			last = id.Serial[max(len(id.Serial)-4, 0):]
		}
	}
	numbers := func(text string) (out []string) {
		var l struct{ Spans []struct{ Number int } }
		json.Unmarshal([]byte(text), &l)
		for _, x := range l.Spans {
			if x.Number > 0 {
				out = append(out, strconv.Itoa(x.Number))
			}
		}
		return out
	}
	if r.at = image; r.as != nil {
		r.at = r.as(image)
	}
	on := func(args ...string) string { return r.asked(slices.Concat(args, pcArgs, []string{r.at})...) }
	there := numbers(on("inspect", "--json"))
	on("inspect")
	r.asked("check", "--json", r.at)
	goal, err := json.Marshal(r.goal())
	if err != nil {
		t.Fatal(err)
	}
	goalPath := filepath.Join(r.dir, "goal.json")
	if err := os.WriteFile(goalPath, goal, 0o644); err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(&r.out, "%s\n", goal)
	on("routes", "--json", "--goal", goalPath)
	on("routes", "--goal", goalPath)
	var records, backups []string
	carried = map[plan.Do]int{}
	for range 3 {
		if r.rng.IntN(2) == 0 {
			kind := "files" // all of a large drive takes its time
			if r.small && r.rng.IntN(2) == 0 {
				kind = "image"
			}
			var made struct{ Backup string }
			json.Unmarshal([]byte(r.asked("back-up", "--json", "--who", "Ines Marsh", "--partition", strconv.Itoa(1+r.rng.IntN(6)), "--kind", kind, r.at)), &made)
			if made.Backup != "" {
				backups = append(backups, made.Backup)
			}
		}
		var res struct {
			Run     string
			Records []string
		}
		for range 10 { // until one can be carried out
			steps := r.steps(there, records, backups)
			b, err := json.Marshal(plan.Plan{Version: 1, Steps: steps})
			planPath := filepath.Join(r.dir, "plan.json")
			if err == nil {
				err = os.WriteFile(planPath, b, 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&r.out, "%s\n", b)
			on("carry-out", "--rehearse", "--who", "Ines Marsh", "--serial", last, "--plan", planPath)
			json.Unmarshal([]byte(on("carry-out", "--json", "--who", "Ines Marsh", "--serial", last, "--plan", planPath)), &res)
			if res.Run != "" {
				for _, x := range steps {
					carried[x.Do()]++
				}
				records = append(records, res.Records...)
				break
			}
		}
		fmt.Fprintln(&r.out, "the drive:", contents(t, image))
		there = numbers(on("inspect", "--json"))
	}
	r.asked("verify-trail", image+".trail/trail.jsonl")
	r.kept(image + ".trail")
	for _, do := range slices.Sorted(maps.Keys(carried)) {
		fmt.Fprintln(&r.out, do, carried[do])
	}
	return carried
}
