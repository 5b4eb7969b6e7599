package web

import (
	"bytes"
	"database/sql"
	"encoding/base64"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/traces"
	"jadetrail/core/volume"
)

// everything gives all that the shop keeps: every file of its data folder but the drives themselves,
// unpacked where it is packed, and every row of its database.
func (s *front) everything(t *testing.T, visit func(where string, b []byte)) {
	t.Helper()
	drives := func(p string) bool {
		return filepath.Dir(p) == filepath.Join(s.Data, "drives") && strings.HasSuffix(p, ".img")
	}
	if err := traces.Files(s.Data, drives, func(p string, b []byte) { visit(strings.TrimPrefix(p, s.Data), b) }); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	tables, err := db.Query("SHOW TABLES")
	if err != nil {
		t.Fatal(err)
	}
	defer tables.Close()
	for tables.Next() {
		var name string
		if err := tables.Scan(&name); err != nil {
			t.Fatal(err)
		}
		rows, err := db.Query("SELECT * FROM `" + name + "`")
		if err != nil {
			t.Fatal(err)
		}
		columns, _ := rows.Columns()
		for rows.Next() {
			cells, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
			for i := range cells {
				into[i] = &cells[i]
			}
			if err := rows.Scan(into...); err != nil {
				t.Fatal(err)
			}
			for i, c := range cells {
				visit("the table "+name+", "+columns[i], c)
			}
		}
		rows.Close()
	}
}

// found tells in which places any of the needles stands.
func (s *front) found(t *testing.T, needles traces.Needles) (out []string) {
	t.Helper()
	s.everything(t, func(where string, b []byte) {
		if n := needles.In(b); n != nil {
			out = append(out, fmt.Sprintf("%s (%q)", where, n))
		}
	})
	return out
}

// shelved are pieces of what the backups hold as they are kept, packed.
func (s *front) shelved(t *testing.T) traces.Needles {
	t.Helper()
	out := traces.Needles{}
	for _, m := range s.backups(t) {
		packed := []byte(s.get(t, "/shelf/"+m.ID+"/contents.zst"))
		for at := 2048; at+32 <= len(packed); at += 16 << 10 {
			different := map[byte]bool{}
			for _, c := range packed[at : at+32] {
				different[c] = true
			}
			if len(different) >= 24 { // of nothing else than this backup
				out.Add(packed[at : at+32])
			}
		}
	}
	return out
}

// onDrive tells how many pieces of a MiB of the drive in a bay hold any of the needles.
func (s *front) onDrive(t *testing.T, image string, needles traces.Needles) (n int) {
	t.Helper()
	im, err := disk.OpenImage(filepath.Join(s.Data, "drives", image), 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	const piece, over = disk.MiB, 64
	for at := disk.Bytes(0); at < im.Size(); at += piece {
		from, _, any := im.Data(at)
		if !any {
			break
		}
		at = max(at, from/piece*piece)
		b, err := disk.ReadFull(im, at, min(piece+over, im.Size()-at))
		if err != nil {
			t.Fatal(err)
		}
		if needles.In(b) != nil {
			n++
		}
	}
	return n
}

// carry gives J-1042 a plan and carries it out.
func (s *front) carry(t *testing.T, steps ...plan.Step) {
	t.Helper()
	s.planned(t, steps...)
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K", "compare", "yes")
	if out := s.settle(t); !strings.Contains(out, "Carried out and read back") {
		t.Fatal(out)
	}
}

// known are names, and ends of contents, of at most so many files of a partition of J-1042, in all the ways
// in which they may stand somewhere; and one of its folders.
func (s *front) known(t *testing.T, number, most int) (needles traces.Needles, names, held int, folder string) {
	t.Helper()
	_, d, err := s.OpenJob("J-1042", "", false)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	v := d.Survey.Volume(number)
	files, err := v.Files()
	if err != nil {
		t.Fatal(err)
	}
	needles = traces.Needles{}
	for _, f := range files {
		if f.Kind == volume.Folder && !strings.HasPrefix(f.Path, "System") && !strings.HasPrefix(f.Path, "$") && folder == "" {
			folder = f.Path
		}
		base := path.Base(f.Path)
		if !f.IsFile() || len(base) < 9 || f.Bytes < 24 || strings.HasPrefix(f.Path, "$") || strings.HasPrefix(f.Path, "System Volume") || names >= most {
			continue
		}
		r, err := v.Open(f)
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 24)
		if _, err := r.ReadAt(b, int64(f.Bytes)-24); err != nil && err != io.EOF {
			t.Fatal(err)
		}
		needles.Add(traces.Forms(base)...)
		names++
		if bytes.Count(b, b[:1]) < 12 { // not all alike
			needles.Add(b, []byte(base64.StdEncoding.EncodeToString(b)))
			held++
		}
	}
	return needles, names, held, folder
}

// TestNothingLeftInTheShop gives a partition a history in the shop, and erases it with its backups: no name of
// its files, and nothing of what they held, is then in any file or table of the shop, nor on the shelf's drive.
func TestNothingLeftInTheShop(t *testing.T) {
	number, least := 4, 25
	if os.Getenv("JADETRAIL_PROVE") != "" {
		number, least = 3, 2000
	}
	p := fmt.Sprint(number)
	s := open(t)
	if number == 3 { // what the PC starts by default cannot be deleted; of this drive nobody knows a PC
		if err := os.Remove(filepath.Join(s.Data, "drives", "tidewater-reception.img.pc.json")); err != nil {
			t.Fatal(err)
		}
	}
	needles, names, held, folder := s.known(t, number, 2200)
	if names < least || folder == "" {
		t.Fatalf("%d names in %q", names, folder)
	}
	s.post(t, "/jobs/J-1042/back-up", "partition", p, "kind", "files")
	s.settle(t)
	s.post(t, "/jobs/J-1042/back-up", "partition", p, "kind", "image")
	s.settle(t)
	for _, m := range s.backups(t) {
		if m.From.Span.Number == number && string(m.Kind) == "files" {
			s.post(t, "/shelf/"+m.ID+"/to-folder", "all", "yes")
			s.wait(t, "shelf")
		}
	}
	// A plan that names a folder of it, and is given up; a deletion that is brought back.
	s.planned(t, plan.Step{Partition: p, Body: plan.CopyingOut{As: "some", Only: []string{folder}}})
	s.post(t, "/jobs/J-1042/steps/take-out", "step", "1")
	s.carry(t, plan.Step{Partition: p, Body: plan.Deletion{Release: "not wanted"}})
	kept, err := s.Store.Entries(store.Filter{Act: "delete", Limit: 1})
	if err != nil || len(kept) != 1 {
		t.Fatal(kept, err)
	}
	s.carry(t, plan.Step{Body: plan.BringingBack{Record: kept[0].Record}})
	s.get(t, "/jobs/J-1042/holds?p="+p) // into memory
	if before := s.found(t, needles); len(before) < 5 {
		t.Fatalf("the history has left only %v", before)
	}
	packed, bay := s.shelved(t), "shelf.img"
	if n := s.onDrive(t, bay, packed); n < 10 {
		t.Fatalf("on the shelf's drive are only %d pieces of its backups", n)
	}
	s.planned(t, plan.Step{Partition: p, Body: plan.Deletion{Release: "not wanted", Erase: true, Backups: "delete", Waiver: "the owner wants it gone"}})
	if page := s.get(t, "/jobs/J-1042/safeguard"); !strings.Contains(page, "This bench also holds of it") || !strings.Contains(page, "1 restored folder") {
		t.Error("what is held is not named beforehand")
	}
	s.carry(t, plan.Step{Partition: p, Body: plan.Deletion{Release: "not wanted", Erase: true, Backups: "delete", Waiver: "the owner wants it gone"}})
	for _, f := range s.found(t, needles) {
		t.Errorf("it is still in %s", f)
	}
	if n := s.onDrive(t, bay, packed); n > 0 {
		t.Errorf("%d pieces of its backups are still on the shelf's drive", n)
	}
	t.Logf("%d names and %d contents looked for", names, held)
}

// TestRestoredGoWithTheirPartition restores files of a partition, whose number may be another's later:
// they go with the partition, not with its number, whether its backup is still there or not.
func TestRestoredGoWithTheirPartition(t *testing.T) {
	s := open(t)
	deeds["backup"].do(t, s)
	deeds["files restored"].do(t, s)
	of := func(change func(p *layout.Span)) int {
		t.Helper()
		_, d, err := s.OpenJob("J-1042", "", false)
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		p, _ := d.Survey.Layout.Find(4)
		span, volume := *p, *p.Volume
		span.Volume = &volume
		change(&span)
		found, err := s.Restored(shop.NameOf(d), span)
		if err != nil {
			t.Fatal(err)
		}
		return len(found)
	}
	check := func(when string) {
		t.Helper()
		if n := of(func(*layout.Span) {}); n != 1 {
			t.Errorf("%s: %d folders of it", when, n)
		}
		if n := of(func(p *layout.Span) { p.Number = 9 }); n != 1 {
			t.Errorf("%s: %d folders of it with another number", when, n)
		}
		if n := of(func(p *layout.Span) { p.UniqueID, p.Volume.Serial = "another", "another" }); n != 0 {
			t.Errorf("%s: %d folders of another with its number", when, n)
		}
	}
	check("with its backup")
	deeds["backup deleted"].do(t, s)
	check("without its backup")
	// Of an older one nobody noted the partition: its number must do.
	if err := os.RemoveAll(s.Folder(shop.OriginsFolder)); err != nil {
		t.Fatal(err)
	}
	if n := of(func(*layout.Span) {}); n != 1 {
		t.Errorf("%d folders go by their number", n)
	}
	if n := of(func(p *layout.Span) { p.Number = 9 }); n != 0 {
		t.Errorf("%d folders go by another number", n)
	}
}

// TestHandOutsOfOneDrive writes drives out whose names begin alike: each has its own files.
func TestHandOutsOfOneDrive(t *testing.T) {
	s := open(t)
	for _, name := range []string{"kontor.qcow2", "kontor.img.zst.part", "kontor.2019.vhd", "kontor.2019.img", "kontor-2.img"} {
		if err := os.WriteFile(filepath.Join(s.Folder("handed-out"), name), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]int{"kontor": 2, "kontor.2019": 2, "kontor-2": 1, "kont": 0} {
		if found, err := s.HandOuts(&shop.Drive{Path: filepath.Join(s.Data, "drives", name+".img")}); err != nil || len(found) != want {
			t.Errorf("%s has %q, %v", name, found, err)
		}
	}
}

// TestStrayFiles puts what cannot be read among the runs, records, searches and comparisons: every page
// is there all the same.
func TestStrayFiles(t *testing.T) {
	s := open(t)
	for _, p := range []string{"runs/notes.txt", "runs/r-20260101-000000-aaaaaa/run.json", "runs/r-20260101-000000-aaaaaa/journal", "runs/r-20260101-000000-bbbbbb/ended.json",
		"records/notes.txt", "records/d-20260101-000000-aaaaaa/record.json", "searches/tidewater-reception.img.json", "coverage/c-20260101-000000-aaaaaaaa-p5.json", "acts/broken.json"} {
		at := filepath.Join(s.Data, p)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte("{"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Server.Settle(); err != nil {
		t.Fatal(err)
	}
	for _, page := range []string{"/", "/dock", "/jobs/J-1042", "/jobs/J-1042/safeguard", "/jobs/J-1042/confirm", "/jobs/J-1042/hand-over", "/jobs/J-1042/search", "/jobs/J-1042/compare?p=5", "/jobs/J-1045", "/shelf", "/trail"} {
		r, err := s.client.Get(s.url + page)
		if err != nil {
			t.Fatal(err)
		}
		body := read(t)(r, nil)
		if r.StatusCode != 200 {
			t.Errorf("%s: %d, %.300s", page, r.StatusCode, body)
		}
		if page == "/" && (!strings.Contains(body, "r-20260101-000000-aaaaaa") || !strings.Contains(body, "the act broken cannot be read")) {
			t.Errorf("the bench does not tell of it")
		}
	}
}
