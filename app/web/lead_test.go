package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"jadetrail/app/store"
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
	}{{"Letters", table.TypeBasic, 24 * disk.MiB, "Users/Ida/letter.txt"}, {"Recovery", table.TypeRecovery, 16 * disk.MiB, "Recovery/WindowsRE/Winre.wim"}, {"Pictures", table.TypeBasic, 32 * disk.MiB, "Pictures/picture.txt"}, {"Maker", table.TypeOEM, 16 * disk.MiB, "Tools/tool.exe"}} {
		files := []volume.Source{{Path: x.file, Data: token(n, i)}}
		for k := range 20 {
			files = append(files, volume.Source{Path: fmt.Sprintf("More/file %d", k), Data: bytes.Repeat([]byte{byte(k)}, 900*k)})
		}
		if err := ntfs.Make(disk.NewWindow(im, at, x.size), ntfs.Options{Label: x.label, Serial: uint64(n*10 + i), Hidden: uint32(at.At(512)), Time: time.Now(), Files: files}); err != nil {
			t.Fatal(err)
		}
		entries = append(entries, table.NewEntry(table.Entry{Slot: i + 1, TypeID: x.typ, UniqueID: fmt.Sprintf("5a1c77e0-%04d-4d0b-9c3e-0000000000%02x", n, i), Start: at.At(512), End: (at + x.size).At(512) - 1, Name: x.label}))
		if at += x.size; x.typ == table.TypeBasic {
			theirs = append(theirs, token(n, i))
		}
	}
	table.New(im, fmt.Sprintf("5a1c77e0-%04d-4d0b-9c3e-0000000000d0", n), entries...).Apply(im, nil)
	id, err := json.Marshal(survey.Identity{Model: "small drive", Serial: serial})
	if err == nil {
		err = os.WriteFile(path+identityEnds, id, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	return theirs
}

// openSmall is open with small drives in the bays of A and C, a small shelf, and nothing in the others.
func openSmall(t *testing.T) (*front, [][]byte) {
	t.Helper()
	var theirs [][]byte
	s := openWith(t, nil, func(dir string) {
		theirs = append(smallDrive(t, filepath.Join(dir, "tidewater-reception.img"), 1, "TLX5-220-7F3K"), smallDrive(t, filepath.Join(dir, "kiln-studio.img"), 2, "QPD4-305-1C8M")...)
		im, err := disk.CreateImage(filepath.Join(dir, "shelf.img"), 512*disk.MiB, 512)
		if err != nil {
			t.Fatal(err)
		}
		defer im.Close()
		if err := ntfs.Make(disk.NewWindow(im, disk.MiB, 510*disk.MiB), ntfs.Options{Label: "Shelf", Serial: 9, Hidden: 2048, Time: time.Now()}); err != nil {
			t.Fatal(err)
		}
		table.New(im, "5a1c77e0-0b42-4d0b-9c3e-7f3b00000b42", table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: "5a1c77e0-0b42-4d0b-9c3e-7f3b00000b43", Start: 2048, End: disk.Bytes(511*disk.MiB).At(512) - 1, Name: "Shelf"})).Apply(im, nil)
		id, _ := json.Marshal(survey.Identity{Model: "shelf drive", Serial: "KRN9-771-0B42"})
		os.WriteFile(filepath.Join(dir, "shelf.img"+identityEnds), id, 0o644)
		for _, name := range []string{"fernhill-terminal", "saltmarsh-notebook", "brightwater-office", "mosslane-till"} {
			if im, err := disk.CreateImage(filepath.Join(dir, name+".img"), 64*disk.MiB, 512); err == nil {
				im.Close()
			}
			id, _ := json.Marshal(survey.Identity{Model: "blank drive", Serial: strings.ToUpper(name[:4]) + "-0001"})
			os.WriteFile(filepath.Join(dir, name+".img"+identityEnds), id, 0o644)
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
	if err := filepath.WalkDir(filepath.Join(s.data, "shelf"), func(path string, e fs.DirEntry, err error) error {
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
		images, _ := filepath.Glob(filepath.Join(s.data, dir, "*.img"))
		for _, path := range images {
			im, err := disk.OpenImage(path, 0, false)
			if err != nil {
				t.Fatal(err)
			}
			if sv, err := survey.Read(im, nil); err == nil {
				for _, v := range sv.Volumes {
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
		if len(s.desk.Busies()) == 0 {
			return
		}
		time.Sleep(4 * time.Millisecond)
	}
	t.Fatal("the work does not end")
}

// act does one thing that a technician can do on some page, with what chance fills in; it returns what.
func (s *front) act(t *testing.T, rng *rand.Rand) string {
	t.Helper()
	one := func(list ...string) string { return list[rng.IntN(len(list))] }
	job := one("J-1042", "J-1042", "J-1042", "J-1043")
	st, err := s.state(job, "")
	if err != nil { // its drive was taken out
		st = &jobState{}
	} else {
		defer st.Drive.close()
	}
	number := func() string { return strconv.Itoa(1 + rng.IntN(5)) }
	if st.Drive != nil {
		if parts := st.Drive.sv.Layout.Partitions(); len(parts) > 0 {
			number = func() string { return strconv.Itoa(parts[rng.IntN(len(parts))].Number) }
		}
	}
	backups, releases, blocked := st.missing()
	reason := func() string { return one("", "not wanted", "empty") }
	backup := func() string {
		all, err := s.shelf().List()
		if err != nil || len(all) == 0 {
			return "b-none"
		}
		return all[rng.IntN(len(all))].ID
	}
	record := func() string {
		all, err := s.records.All()
		if err != nil || len(all) == 0 {
			return "d-none"
		}
		return all[rng.IntN(len(all))].ID
	}
	bay := func() string { return one("A", "A", "B", "C", "C", "D") }
	at := "/jobs/" + job
	path, form := "", []string(nil)
	switch k := rng.IntN(40); {
	case len(blocked) > 0 && k < 20:
		path = at + "/plan/undo"
	case len(backups) > 0 && k < 8:
		path, form = at+"/back-up", []string{"all", "yes", "kind", one("image", "files"), "onto", ""}
	case len(st.Steps) > 0 && len(backups)+len(releases)+len(blocked) == 0 && k < 25:
		path, form = s.shown(t, job, "carry-out"), []string{"serial", map[string]string{"J-1042": "7F3K", "J-1043": "1C8M"}[job], "compare", one("", "yes")}
	case k < 12:
		do := one("delete", "delete", "delete", "delete", "absorb", "absorb", "retag", "retag", "clear", "label", "grow", "shrink", "slide", "mend", "create", "rebuild")
		form = []string{"do", do, "partition", number(), "release", reason(), "waiver", reason(), "into", number(), "type", one("recovery", "oem", "basic", "efi", "swap"), "label", "Other",
			"by", one("all", "1 MiB", "-all"), "scheme", one("gpt", "mbr", "none"), "size", "all", "format", "ntfs", "start", one("182272", "2048", "51200"), "lead", "Odile Farrow"}
		if rng.IntN(5) == 0 {
			form = append(form, "erase", "yes", "backups", one("keep", "delete"))
		}
		path = at + "/steps"
	case k < 15: // any plan that can be written down
		steps := []plan.Step{{Do: plan.Delete, Partition: number(), Release: "r", Waiver: "w"}}
		switch rng.IntN(3) {
		case 0:
			to := number()
			steps = []plan.Step{{Do: plan.Absorb, Partition: number(), Into: to, Release: "r"}, {Do: plan.Delete, Partition: to, Release: "r", Waiver: "w"}}
		case 1:
			p := number()
			steps = []plan.Step{{Do: plan.CopyOut, Partition: p, Volume: number(), As: "h"}, {Do: plan.Delete, Partition: p}, {Do: plan.Create, Size: "20 MiB", Type: "basic", Format: "ntfs", As: "n"}, {Do: plan.CopyBack, Partition: "n", Backup: "h"}, {Do: plan.Delete, Partition: "n"}}
			steps = steps[:1+rng.IntN(5)]
		}
		b, _ := json.Marshal(plan.Plan{Version: 1, Steps: steps})
		path, form = at+"/plan/use", []string{"text", string(b)}
	case k == 15:
		path, form = at+"/steps/take-out", []string{"step", number()}
	case k == 16:
		path, form = at+"/steps/move", []string{"step", number(), "way", one("earlier", "later")}
	case k == 17:
		path, form = at+"/steps/change", []string{"step", number(), "amount", "4 MiB", "damaged", reason()}
	case k < 20:
		path = at + "/plan/" + one("undo", "redo", "redo")
	case k == 20:
		path = at + one("/ask", "/anew")
	case k == 21:
		path, form = "/asks/"+s.anyAsk(rng), []string{"answer", "yes", "why", "it is so"}
	case k < 24:
		path, form = at+"/back-up", []string{"partition", number(), "kind", one("image", "files")}
	case k < 31:
		if st.Drive == nil {
			return "nothing"
		}
		path, form = s.shown(t, job, "carry-out"), []string{"serial", one("7F3K", "1C8M"), "compare", one("", "yes")}
	case k == 31:
		path, form = at+"/resume", []string{"run", "r-1", "undo", one("", "yes")}
	case k == 32:
		path, form = "/shelf/delete", []string{"backup", backup(), "reason", reason()}
	case k == 33:
		path, form = one("/shelf/verify", "/shelf/keep"), []string{"backup", backup()}
	case k == 34:
		path, form = one("/dock/how", "/dock/detach", "/dock/no-shelf", "/dock/shelf"), []string{"bay", bay(), "label", one("New", "Shelf")}
	case k == 35:
		list, _ := filepath.Glob(filepath.Join(s.data, "dock", "*.img"))
		file := "none.img"
		if len(list) > 0 {
			file = filepath.Base(list[rng.IntN(len(list))])
		}
		path, form = "/dock/attach", []string{"file", file, "bay", bay(), "job", one("J-1042", "J-1043", ""), "model", "m", "serial", one("TLX5-220-7F3K", "S-9999")}
	case k == 36:
		path, form = "/records/"+record()+"/bring-back", []string{"damaged", reason()}
	case k == 37:
		path, form = at+one("/compare", "/mend", "/finds", "/letter", "/pc/state", "/search"), []string{"partition", number(), "here", number(), "there", number(), "with", "volume", "letter", "Q", "state", "off"}
	case k == 38:
		path, form = "/shelf/"+backup()+one("/put-back", "/restore-image"), []string{"target", "J-1042 5", "folder", "x", "size", "20 MiB"}
	default:
		path, form = at+"/route", []string{"goal", one("gain", "remove", "combine", "room", "clear"), "receiver", number(), "from", number(), "gain", "4 MiB", "gone", number(), "giver", number(), "may", number(), "size", "8 MiB", "route", "1"}
	}
	s.post(t, path, form...)
	return path + " " + strings.Join(form, " ")
}

// anyAsk is the id of something that the lead is asked.
func (s *front) anyAsk(rng *rand.Rand) string {
	all, err := s.store.Waiting()
	if err != nil || len(all) == 0 {
		return "ask-none"
	}
	return all[rng.IntN(len(all))].ID
}

// TestNoPageRoundTheLead lets a technician do anything on any page while the lead never answers. Whatever is
// carried out, what may be somebody's can still be had from a volume or from a backup.
func TestNoPageRoundTheLead(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("JADETRAIL_SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	t.Logf("JADETRAIL_SEED=%d", seed)
	rng := rand.New(rand.NewPCG(seed, 1))
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
			all, err := s.store.Entries(store.Filter{})
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range all {
				entered[e.Act]++
			}
			if r, err := s.store.Verify(t.Context(), nil, nil); err != nil || !r.Sound() {
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
	n, _, err := s.store.Head()
	if err != nil {
		t.Fatal(err)
	}
	return n
}
