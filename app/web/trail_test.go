package web

import (
	"archive/zip"
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"mime/multipart"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// send uploads a file on the trail's page.
func (s *front) send(t *testing.T, name string, b []byte) string {
	t.Helper()
	var body bytes.Buffer
	m := multipart.NewWriter(&body)
	w, err := m.CreateFormFile("file", name)
	if err != nil {
		t.Fatal(err)
	}
	w.Write(b)
	m.Close()
	return read(t)(s.client.Post(s.url+"/trail/take-in", m.FormDataContentType(), &body))
}

// TestKeptIsTold deletes partitions, and has the report say what is left of each: from the shelf and
// the drive as they are, not as they were.
func TestKeptIsTold(t *testing.T) {
	s := open(t)
	s.post(t, "/sign-in", "login", "odile", "password", "lantern-odile")
	for _, p := range []string{"4", "6"} {
		s.post(t, "/jobs/J-1042/back-up", "partition", p, "kind", "image")
		s.settle(t)
	}
	told := func(want ...string) {
		t.Helper()
		page := s.get(t, "/jobs/J-1042/hand-over")
		for _, w := range want {
			if !strings.Contains(page, w) {
				t.Errorf("the report does not say %q", w)
			}
		}
		if strings.Contains(page, "keeps nothing of its contents") != slices.Contains(want, "keeps nothing of its contents") {
			t.Errorf("of the contents it says otherwise than: %q", want)
		}
	}
	s.carry(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "not wanted", Erase: true, Backups: "keep"}}, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted"}})
	all := s.backups(t)
	told("written over and read back. Its backup "+all[1].ID+" is kept.", "No partition has its place. It can be brought back at its own place; ", "Its backup "+all[0].ID+" is kept.")
	s.post(t, "/sign-in", "login", "odile", "password", "lantern-odile")
	for _, m := range all {
		s.post(t, "/shelf/delete", "backup", m.ID, "reason", "no longer wanted")
	}
	told("written over and read back. Its backup "+all[1].ID+" is not on the shelf.", "Its backup "+all[0].ID+" is not on the shelf.")
	_, d, err := s.OpenJob("J-1042", "", false)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Survey.Layout.Find(5)
	d.Close()
	s.carry(t, plan.Step{Partition: "5", Body: plan.Growth{By: "all"}})
	told(p.Title() + " has its place now, or a part of it.")
}

// TestHandOver deletes a partition, and hands the job over: a report, tables, and an archive
// that another installation takes in, with the record of the deletion.
func TestHandOver(t *testing.T) {
	s := open(t)
	s.post(t, "/sign-in", "login", "odile", "password", "lantern-odile")
	s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "4", "release", "=the customer has a stick", "waiver", "it can be had again")
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7f3k")
	if end := s.settle(t); !strings.Contains(end, "as planned") {
		t.Fatal(end)
	}
	page := s.get(t, "/jobs/J-1042/hand-over")
	for _, want := range []string{"Tidewater Vets, reception PC", "it is not on the drive any more", "Released because: =the customer has a stick", "Its record</a>", "How this can be checked"} {
		if !strings.Contains(page, want) {
			t.Errorf("the report does not say %q", want)
		}
	}
	s.post(t, "/jobs/J-1047/letter", "partition", "4", "letter", "Q")
	if page := s.get(t, "/jobs/J-1047/hand-over"); !strings.Contains(page, "What else was done") || !strings.Contains(page, "Q:") {
		t.Error("the report leaves out a letter that was given")
	}
	if pdf := s.get(t, "/jobs/J-1042/report.pdf"); !strings.HasPrefix(pdf, "%PDF-") || !strings.Contains(pdf, "%%EOF") || len(pdf) < 10000 {
		t.Errorf("the PDF: %d bytes, %.20q", len(pdf), pdf)
	}
	if table := s.get(t, "/jobs/J-1042/tables/trail.csv"); !strings.Contains(table, ",'=the customer has a stick,") || strings.Count(table, "\n") < 6 {
		t.Errorf("the table: %s", table)
	}
	if table := s.get(t, "/jobs/J-1042/tables/records.csv"); strings.Count(table, "\n") != 2 || !strings.Contains(table, "Recovery") {
		t.Errorf("the records: %s", table)
	}
	archive := []byte(s.get(t, "/jobs/J-1042/archive.zip"))
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	names := map[string]bool{}
	for _, f := range z.File {
		names[f.Name] = true
	}
	for _, want := range []string{"job.json", "report.pdf", "report.json", "trail.jsonl"} {
		if !names[want] {
			t.Errorf("the archive has no %s", want)
		}
	}
	other := open(t)
	said := other.send(t, "J-1042.zip", archive)
	if !strings.Contains(said, "Archive of job J-1042 taken in") || !strings.Contains(said, "1 record") {
		t.Fatalf("%.600s", said)
	}
	list, err := os.ReadDir(other.Records.Dir)
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	if page := other.get(t, "/records/"+list[0].Name()); !strings.Contains(page, "Record of Recovery") {
		t.Errorf("%.300s", page)
	}
	// What was altered on the way is refused, and nothing is kept of it.
	third := open(t)
	for what, change := range map[string]func(name string, b []byte) (string, []byte){
		"an entry": func(n string, b []byte) (string, []byte) {
			if n == "trail.jsonl" {
				b = bytes.Replace(b, []byte("the customer has a stick"), []byte("the customer has no stick"), 1)
			}
			return n, b
		},
		"a record": func(n string, b []byte) (string, []byte) {
			if strings.HasSuffix(n, "/record.json") {
				b = bytes.Replace(b, []byte(`"number":4`), []byte(`"number":5`), 1)
			}
			return n, b
		},
		"a file of a record": func(n string, b []byte) (string, []byte) {
			if strings.HasSuffix(n, "first.bin.zst") {
				b = append([]byte{1}, b...)
			}
			return n, b
		},
		"a name": func(n string, b []byte) (string, []byte) {
			return strings.Replace(n, "report.json", "../report.json", 1), b
		},
		"no job": func(n string, b []byte) (string, []byte) { return strings.Replace(n, "job.json", "jab.json", 1), b },
	} {
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		for _, f := range z.File {
			r, _ := f.Open()
			b, _ := io.ReadAll(r)
			n, b := change(f.Name, b)
			x, err := w.Create(n)
			if err != nil {
				t.Fatal(err)
			}
			x.Write(b)
		}
		w.Close()
		if said := third.send(t, "x.zip", out.Bytes()); !strings.Contains(said, "It was not taken in") {
			t.Errorf("%s altered: %.300s", what, said)
		}
	}
	if left, _ := os.ReadDir(third.Records.Dir); len(left) != 0 {
		t.Errorf("records were kept: %v", left)
	}
	if left, _ := os.ReadDir(filepath.Join(third.Data, "taken-in")); len(left) != 0 {
		t.Errorf("files were kept: %v", left)
	}
}

// TestTakeInTrail takes in a trail that a bench command made; one that was altered is refused.
func TestTakeInTrail(t *testing.T) {
	s := open(t)
	f := trail.File{Path: filepath.Join(t.TempDir(), "trail.jsonl")}
	for i := range 3 {
		if err := f.Append(trail.Entry{ID: fmt.Sprint("e-", i), Time: time.Now(), Who: "Ines Marsh", Act: trail.ActDelete, Text: fmt.Sprint("entry ", i)}); err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(f.Path)
	if err != nil {
		t.Fatal(err)
	}
	for what, x := range map[string][]byte{"altered": bytes.Replace(b, []byte("entry 1"), []byte("entry 9"), 1), "empty": {}, "something else": []byte("hello\n")} {
		if said := s.send(t, "trail.jsonl", x); !strings.Contains(said, "It was not taken in") {
			t.Errorf("%s: %.300s", what, said)
		}
	}
	for range 2 { // a second time changes nothing
		if said := s.send(t, "trail.jsonl", b); !strings.Contains(said, "taken in: 3 entries") {
			t.Errorf("%.300s", said)
		}
	}
	seq, _, err := s.Store.Head()
	if err != nil || seq != 1 {
		t.Errorf("%d entries, %v", seq, err)
	}
	files, _ := os.ReadDir(filepath.Join(s.Data, "taken-in"))
	if len(files) != 1 {
		t.Fatal(files)
	}
	if got := s.get(t, "/trail/taken-in/"+files[0].Name()); got != string(b) {
		t.Error("it is not kept as it was")
	}
}

// TestLongTrail measures the trail's page with many entries, and with few: a page does not
// become slow because the trail is long. With JADETRAIL_PROVE there are 100,000.
func TestLongTrail(t *testing.T) {
	many := 3000
	if os.Getenv("JADETRAIL_PROVE") != "" {
		many = 100_000
	}
	s := open(t)
	owner, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer owner.Close()
	previous, seq := trail.First, int64(0)
	first := time.Date(2026, 3, 5, 8, 0, 0, 0, time.UTC)
	add := func(n int) {
		t.Helper()
		for n > 0 {
			var marks []string
			var args []any
			for range min(n, 500) {
				seq++
				e := trail.Entry{ID: fmt.Sprint("e-", seq), Time: first.Add(time.Duration(seq) * time.Minute), Who: []string{"Ines Marsh", "Tobias Wren"}[seq%2], Act: []trail.Act{trail.ActDelete, trail.ActGrow, trail.ActDone}[seq%3], Job: fmt.Sprint("J-", 1000+seq%50), Text: fmt.Sprintf("entry %d of a long trail", seq), Drive: trail.Drive{DiskID: fmt.Sprint("disk ", seq%40), Serial: fmt.Sprint("SRL-", seq%40)}}
				line, sealed, err := trail.Seal(e, seq, previous, nil)
				if err != nil {
					t.Fatal(err)
				}
				previous = sealed.Hash
				marks = append(marks, "(?,?,?,?,?,?,?,?,?,?)")
				args = append(args, seq, e.ID, e.Time.UTC().Format("2006-01-02 15:04:05.000"), e.Who, string(e.Act), e.Job, e.Drive.DiskID, "", sealed.Hash, line)
			}
			if _, err := owner.Exec("INSERT INTO trail_entries (seq, id, time, who, act, job, disk, record, hash, line) VALUES "+strings.Join(marks, ","), args...); err != nil {
				t.Fatal(err)
			}
			n -= len(marks)
		}
	}
	pages := []string{"/trail", "/trail?act=delete", "/trail?who=Ines+Marsh", "/trail?job=J-1007", "/trail?drive=disk+7", "/trail?before=60", "/trail?text=an+entry+that+is+not+there", "/trail?text=entry+77+of", "/trail?text=a+long", "/trail?from=2026-03-05&to=2026-03-05", "/trail?job=J-1007&act=delete", "/trail?who=Tobias+Wren&drive=disk+7&text=long"}
	measure := func() (out []time.Duration) {
		for _, p := range pages {
			best := time.Hour
			for range 7 {
				began := time.Now()
				if page := s.get(t, p); !strings.Contains(page, "of a long trail") && !strings.Contains(page, "No entries match") {
					t.Fatalf("%s: %.300s", p, page)
				}
				best = min(best, time.Since(began))
			}
			out = append(out, best)
		}
		return out
	}
	checked := func() {
		t.Helper()
		for range 1200 {
			if part := s.get(t, "/trail/chain"); strings.Contains(part, "The chain is whole") && !strings.Contains(part, "being checked again") {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatal("the check does not end")
	}
	add(100)
	checked()
	few := measure()
	add(many - 100)
	s.get(t, "/trail")
	checked()
	lot := measure()
	for i, p := range pages {
		t.Logf("%-52s %8v with 100 entries, %8v with %d: %.2f times as long", p, few[i].Round(10*time.Microsecond), lot[i].Round(10*time.Microsecond), many, float64(lot[i])/float64(few[i]))
	}
}

// TestTamperedPage alters the database behind the program's back: the page names the entry.
func TestTamperedPage(t *testing.T) {
	s := open(t)
	for i := range 4 {
		if err := s.Store.Append(trail.Entry{ID: fmt.Sprint("e-", i), Time: time.Now(), Who: "Ines Marsh", Act: trail.ActDelete, Text: fmt.Sprint("entry ", i)}); err != nil {
			t.Fatal(err)
		}
	}
	// The check goes on beside the page, for as long as it takes.
	says := func(path string, wants ...string) {
		t.Helper()
		page := s.get(t, path)
		for range 600 {
			if !slices.ContainsFunc(wants, func(w string) bool { return !strings.Contains(page, w) }) {
				return
			}
			time.Sleep(100 * time.Millisecond)
			page = s.get(t, "/trail/chain")
		}
		t.Errorf("%v: %.900s", wants, page)
	}
	says("/trail", "The chain is whole", "No head of it is kept on the shelf yet")
	owner, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer owner.Close()
	for _, q := range []string{"DROP TRIGGER trail_entries_no_update", "UPDATE trail_entries SET line = REPLACE(line, 'entry 2', 'entry 9') WHERE seq = 3"} {
		if _, err := owner.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	says("/trail?again=yes", "The chain is broken", "Entry 3: its contents do not fit its hash")
}
