package web

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/chance"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// token is what a person's file holds of which nothing may be lost.
func token(drive, n int) []byte {
	return bytes.Repeat(fmt.Appendf(nil, "letter %d of drive %d, which nobody else has. ", n, drive), 80)
}

// smallDrive makes a drive with two volumes of somebody's, a recovery and an OEM partition, and returns the
// tokens of what is somebody's.
func smallDrive(t *testing.T, path string, n int, serial string) [][]byte {
	t.Helper()
	im, err := disk.CreateImage(path, 320*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
	var theirs [][]byte
	at := disk.MiB
	for i, x := range []struct {
		label, typ string
		size       disk.Bytes
		file       string
	}{
		{"Letters", table.TypeBasic, 24 * disk.MiB, "Users/Ida/letter.txt"},
		{"Recovery", table.TypeRecovery, 16 * disk.MiB, "Recovery/WindowsRE/Winre.wim"},
		{"Pictures", table.TypeBasic, 32 * disk.MiB, "Pictures/picture.txt"},
		{"Maker", table.TypeOEM, 16 * disk.MiB, "Tools/tool.exe"},
	} {
		files := []volume.Source{{Path: x.file, Data: token(n, i)}}
		for k := range 20 {
			files = append(files, volume.Source{Path: fmt.Sprintf("More/file %d", k), Data: bytes.Repeat([]byte{byte(k)}, 900*k)})
		}
		o := ntfs.Options{Label: x.label, Serial: uint64(n*10 + i), Hidden: uint32(at.At(512)), Time: time.Now(), Files: files}
		if err := ntfs.Make(disk.NewWindow(im, at, x.size), o); err != nil {
			t.Fatal(err)
		}
		e := table.Entry{Slot: i + 1, TypeID: x.typ, UniqueID: smallID(n, i), Start: at.At(512), End: (at + x.size).At(512) - 1, Name: x.label}
		entries = append(entries, table.NewEntry(e))
		if at += x.size; x.typ == table.TypeBasic {
			theirs = append(theirs, token(n, i))
		}
	}
	made(t, im, path, smallID(n, 0xd0), serial, entries...)
	return theirs
}

// smallID is the id of a small drive, or of a partition of it.
func smallID(drive, n int) string {
	return fmt.Sprintf("5a1c77e0-%04d-4d0b-9c3e-0000000000%02x", drive, n)
}

// made gives a drive its table and what stands on its label.
func made(t *testing.T, im *disk.Image, path, id, serial string, entries ...table.Entry) {
	t.Helper()
	err := error(nil)
	if len(entries) > 0 {
		err = table.New(im, id, entries...).Apply(im, nil)
	}
	label, e := json.Marshal(survey.Identity{Model: "small drive", Serial: serial})
	if err = errors.Join(err, e, os.WriteFile(path+shop.IdentityEnds, label, 0o644)); err != nil {
		t.Fatal(err)
	}
}

// openSmall is open with small drives in the bays A and D, a small shelf, and nothing in the others.
func openSmall(t *testing.T) (*front, [][]byte) {
	t.Helper()
	var theirs [][]byte
	s := openWith(t, nil, func(dir string) {
		at := func(name string) string { return filepath.Join(dir, name+".img") }
		theirs = append(smallDrive(t, at("tidewater-reception"), 1, "TLX5-220-7F3K"), smallDrive(t, at("kiln-studio"), 2, "QPD4-305-1C8M")...)
		blank := func(name string, size disk.Bytes) *disk.Image {
			im, err := disk.CreateImage(at(name), size, 512)
			if err != nil {
				t.Fatal(err)
			}
			return im
		}
		im := blank("shelf", 512*disk.MiB)
		defer im.Close()
		if err := ntfs.Make(disk.NewWindow(im, disk.MiB, 510*disk.MiB), ntfs.Options{Label: "Shelf", Serial: 9, Hidden: 2048, Time: time.Now()}); err != nil {
			t.Fatal(err)
		}
		on := table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: smallID(42, 1), Start: 2048, End: (511 * disk.MiB).At(512) - 1, Name: "Shelf"}
		made(t, im, at("shelf"), smallID(42, 0xd0), "KRN9-771-0B42", table.NewEntry(on))
		for _, name := range []string{"fernhill-terminal", "saltmarsh-notebook", "brightwater-office", "mosslane-till"} {
			im := blank(name, 64*disk.MiB)
			made(t, im, at(name), "", strings.ToUpper(name[:4])+"-0001")
			im.Close()
		}
	})
	return s, theirs
}

// kept tells which of the tokens can be had: from a file of a volume on a drive that the shop has, or from a
// backup on a shelf, whichever way they came there.
func (s *front) kept(t *testing.T, theirs [][]byte) []bool {
	t.Helper()
	out := make([]bool, len(theirs))
	look := func(b []byte) {
		for i, x := range theirs {
			out[i] = out[i] || bytes.Contains(b, x)
		}
		if len(b) > 4 && bytes.Equal(b[:4], []byte{0x28, 0xb5, 0x2f, 0xfd}) { // RFC 8878, 3.1.1: a zstd frame
			if d, err := zstd.NewReader(bytes.NewReader(b)); err == nil {
				plain, _ := io.ReadAll(d)
				for i, x := range theirs {
					out[i] = out[i] || bytes.Contains(plain, x)
				}
				d.Close()
			}
		}
	}
	if err := filepath.WalkDir(filepath.Join(s.Data, "shelf"), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil // there need not be one
		}
		b, err := os.ReadFile(path)
		look(b)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{"drives", "dock"} {
		images, _ := filepath.Glob(filepath.Join(s.Data, dir, "*.img"))
		for _, path := range images {
			im, err := disk.OpenImage(path, 0, false)
			if err != nil {
				t.Fatal(err)
			}
			if sv, err := survey.Read(im, nil); err == nil {
				for _, v := range sv.Volumes() {
					files, _ := v.Files()
					for _, f := range files {
						if f.Kind != volume.Plain || f.Bytes > 64*disk.MiB {
							continue
						}
						r, err := v.Open(f)
						if err != nil {
							continue
						}
						b, err := io.ReadAll(io.NewSectionReader(r, 0, int64(f.Bytes)))
						if err != nil {
							continue
						}
						look(b)
					}
				}
			}
			im.Close()
		}
	}
	return out
}

// idle waits until no work is under way.
func (s *front) idle(t *testing.T) {
	t.Helper()
	for range 15000 {
		if len(s.Desk.Busies()) == 0 {
			return
		}
		time.Sleep(4 * time.Millisecond)
	}
	t.Fatal("the work does not end")
}

// act does one thing that a technician can do on some page; it returns what. Every form is sent with whatever
// any of them asks for, as chance fills it in: each page reads what it knows.
func (s *front) act(t *testing.T, rng *rand.Rand) string {
	t.Helper()
	one := func(list ...string) string { return list[rng.IntN(len(list))] }
	job := one("J-1042", "J-1042", "J-1042", "J-1043")
	st, err := s.state(job, "")
	if err != nil { // its drive was taken out
		st = &jobState{}
	} else {
		defer st.Drive.Close()
	}
	form := s.anyForm(rng, st)
	at := "/jobs/" + job
	backups, releases, blocked := st.Missing()
	path := at + one(
		"/steps", "/steps", "/steps", "/steps", "/steps", "/steps", "/steps", "/steps", "/steps", "/plan/use", "/plan/use", "/plan/use",
		"/steps/take-out", "/steps/move", "/steps/change", "/plan/undo", "/plan/redo", "/ask", "/anew", "/back-up", "/back-up", "/resume",
		"/compare", "/mend", "/finds", "/letter", "/pc/state", "/search", "/route", "/route", "carry-out", "carry-out", "carry-out", "carry-out",
	)
	if rng.IntN(6) == 0 { // of no job
		path = one(
			"/asks/"+s.anyAsk(rng), "/shelf/delete", "/shelf/verify", "/shelf/keep", "/shelf/own", "/shelf/onto",
			one("/dock/how", "/dock/detach", "/dock/attach", "/dock/attach", "/dock/no-shelf", "/dock/shelf"),
			"/records/"+form["record"]+"/bring-back", "/shelf/"+form["backup"]+"/put-back", "/shelf/"+form["backup"]+"/restore-image",
		)
	}
	// What leads on is done more often than chance would.
	switch k := rng.IntN(40); {
	case len(blocked) > 0 && k < 24:
		path = at + "/plan/undo"
	case len(backups) > 0 && k < 12:
		path, form["all"] = at+"/back-up", "yes"
	case len(st.Steps) > 0 && len(backups)+len(releases)+len(blocked) == 0 && k < 25:
		path, form["serial"] = at+"carry-out", map[string]string{"J-1042": "7F3K", "J-1043": "1C8M"}[job]
	}
	if path == at+"carry-out" {
		if st.Drive == nil {
			return "nothing"
		}
		path = s.shown(t, job, "carry-out")
	}
	var pairs []string
	for _, name := range slices.Sorted(maps.Keys(form)) {
		pairs = append(pairs, name, form[name])
	}
	s.post(t, path, pairs...)
	return path + " " + strings.Join(pairs, " ")
}

// anyForm fills in every field that any page asks for.
func (s *front) anyForm(rng *rand.Rand, st *jobState) map[string]string {
	one := func(list ...string) string { return list[rng.IntN(len(list))] }
	number := func() string { return strconv.Itoa(1 + rng.IntN(5)) }
	if st.Drive != nil {
		if parts := st.Drive.Survey.Layout.Partitions(); len(parts) > 0 {
			number = func() string { return strconv.Itoa(parts[rng.IntN(len(parts))].Number) }
		}
	}
	reason := func() string { return one("", "not wanted", "empty") }
	form := map[string]string{
		"do":        one("delete", "delete", "delete", "absorb", "absorb", "retag", "clear", "label", "grow", "shrink", "slide", "create", "rebuild"),
		"partition": number(), "into": number(), "release": reason(), "waiver": reason(), "damaged": reason(), "reason": reason(),
		"type": one("recovery", "oem", "basic", "efi", "swap"), "format": "ntfs", "label": one("Other", "Shelf"), "lead": "Odile Farrow",
		"by": one("all", "1 MiB", "-all"), "size": one("all", "20 MiB"), "scheme": one("gpt", "mbr", "none"),
		"start": one("182272", "2048", "51200"), "step": number(), "way": one("earlier", "later"), "amount": "4 MiB",
		"answer": "yes", "why": "it is so", "kind": one("image", "files"), "serial": one("7F3K", "1C8M"), "compare": one("", "yes"),
		"run": "r-1", "undo": one("", "yes"), "backup": "b-none", "record": "d-none", "onto": "", "bay": one("A", "A", "B", "C", "C", "D"),
		"file": "none.img", "model": "m", "job": one("J-1042", "J-1043", ""), "here": number(), "there": number(), "with": one("A:*", "D:*"),
		"letter": "Q", "state": "off", "target": "J-1042 5", "folder": "x", "text": anyPlanText(rng, number),
		"goal": one("gain", "remove", "combine", "room", "clear"), "receiver": number(), "from": number(), "gain": "4 MiB",
		"gone": number(), "giver": number(), "may": number(), "route": "1",
	}
	if rng.IntN(5) == 0 {
		form["erase"], form["backups"] = "yes", one("keep", "delete")
	}
	if all, err := s.Shelf().List(); err == nil && len(all) > 0 {
		form["backup"] = all[rng.IntN(len(all))].ID
	}
	if all, err := s.Records.All(); err == nil && len(all) > 0 {
		form["record"] = all[rng.IntN(len(all))].ID
	}
	if list, _ := filepath.Glob(filepath.Join(s.Data, "dock", "*.img")); len(list) > 0 {
		form["file"] = filepath.Base(list[rng.IntN(len(list))])
	}
	return form
}

// anyPlanText is a plan as it can be written down: a deletion, or files that go somewhere which then goes too.
func anyPlanText(rng *rand.Rand, number func() string) string {
	from, to := number(), number()
	gone := func(n string) plan.Step {
		return plan.Step{Partition: n, Body: plan.Deletion{Release: "r", Waiver: "w"}}
	}
	steps := [][]plan.Step{
		{gone(from)},
		{{Partition: from, Body: plan.Absorbing{Into: to, Release: "r"}}, gone(to)},
		{
			{Partition: from, Body: plan.CopyingOut{Volume: to, As: "h"}}, gone(from),
			{Body: plan.Creation{Size: "20 MiB", Type: "basic", Format: "ntfs", As: "n"}},
			{Partition: "n", Body: plan.CopyingBack{Backup: "h"}}, gone("n"),
		},
	}[rng.IntN(3)]
	b, _ := json.Marshal(plan.Plan{Version: 1, Steps: steps[:1+rng.IntN(len(steps))]})
	return string(b)
}

// anyAsk is the id of something that the lead is asked.
func (s *front) anyAsk(rng *rand.Rand) string {
	all, err := s.Store.Waiting()
	if err != nil || len(all) == 0 {
		return "ask-none"
	}
	return all[rng.IntN(len(all))].ID
}

// TestNoPageRoundTheLead lets a technician do anything on any page while the lead never answers. Whatever is
// carried out, what may be somebody's can still be had from a volume or from a backup.
func TestNoPageRoundTheLead(t *testing.T) {
	rng := chance.Of(t)
	most, each := 160, 80
	if os.Getenv("JADETRAIL_PROVE") != "" {
		most, each = 100_000, 250
		if n, err := strconv.Atoi(os.Getenv("JADETRAIL_ACTS")); err == nil {
			most = n
		}
	}
	acts, looked := 0, 0
	entered := map[trail.Act]int{}
	for acts < most {
		t.Run("", func(t *testing.T) {
			s, theirs := openSmall(t)
			var done []string
			for range each {
				acts++
				before := s.entered(t)
				did := s.act(t, rng)
				s.idle(t)
				if done = append(done, did); s.entered(t) == before {
					continue
				}
				looked++
				for i, there := range s.kept(t, theirs) {
					if !there {
						t.Fatalf("%.40q cannot be had any more after:\n%s", theirs[i], strings.Join(done, "\n"))
					}
				}
			}
			all, err := s.Store.Entries(store.Filter{})
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range all {
				entered[e.Act]++
			}
			if r, err := s.Store.Verify(t.Context(), nil, nil); err != nil || !r.Sound() {
				t.Fatalf("the trail: %+v, %v", r, err)
			}
		})
		if t.Failed() {
			return
		}
	}
	t.Logf("%d acts, %d after which all was looked for, nothing of anybody's lost; entered: %v", acts, looked, entered)
	if most > 1000 && entered[trail.ActDelete] == 0 {
		t.Error("the test deletes nothing")
	}
}

// entered is how many entries the trail has.
func (s *front) entered(t *testing.T) int64 {
	t.Helper()
	n, _, err := s.Store.Head()
	if err != nil {
		t.Fatal(err)
	}
	return n
}
