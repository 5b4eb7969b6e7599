package web

import (
	"archive/tar"
	"bytes"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/table"
)

// wait waits until a piece of work has ended and returns what came of it.
func (s *front) wait(t *testing.T, key string) string {
	t.Helper()
	for range 15000 { // five minutes, for a machine with other work
		if w, ok := s.Desk.State(key); ok && w.Ended != nil && w.Kind != "" {
			return w.Trouble + w.Outcome
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("the work does not end")
	return ""
}

func (s *front) put(t *testing.T, path string, b []byte) (int, string) {
	t.Helper()
	q, _ := http.NewRequest("PUT", s.url+path, bytes.NewReader(b))
	r, err := s.client.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	return r.StatusCode, read(t)(r, nil)
}

func TestDockRefuses(t *testing.T) {
	s := open(t)
	s.get(t, "/dock")
	os.WriteFile(filepath.Join(s.Data, "dock", "letter.txt"), []byte("Dear Sir"), 0o644)
	os.WriteFile(filepath.Join(s.Data, "dock", "d.img"), make([]byte, 1<<20), 0o644)
	if page := s.get(t, "/dock"); !strings.Contains(page, "no whole number of sectors") {
		t.Error("a letter in the dock passes for an image")
	}
	for name, c := range map[string]struct {
		path string
		form []string
		says string
	}{
		"a path":                   {"/dock/attach", []string{"file", "../shop.key", "bay", "C", "model", "m", "serial", "AAAA"}, "no such file in the dock"},
		"a hidden file":            {"/dock/attach", []string{"file", ".coming-x", "bay", "C", "model", "m", "serial", "AAAA"}, "no such file in the dock"},
		"no serial number":         {"/dock/attach", []string{"file", "d.img", "bay", "C", "model", "m"}, "needs a serial number"},
		"no model":                 {"/dock/attach", []string{"file", "d.img", "bay", "C", "serial", "AAAA"}, "needs a model"},
		"a bay that is full":       {"/dock/attach", []string{"file", "d.img", "bay", "A", "model", "m", "serial", "AAAA"}, "has a drive already"},
		"no such bay":              {"/dock/attach", []string{"file", "d.img", "bay", "Z", "model", "m", "serial", "AAAA"}, "there is no bay"},
		"no such job":              {"/dock/attach", []string{"file", "d.img", "bay", "C", "job", "J-1", "model", "m", "serial", "AAAA"}, "J-1"},
		"a job's drive as a shelf": {"/dock/shelf", []string{"bay", "A"}, "a shelf is a drive of the shop"},
		"detach nothing":           {"/dock/detach", []string{"bay", "C"}, "has no drive"},
		"no such form":             {"/dock/hand-out", []string{"bay", "A", "format", "floppy"}, "no such form"},
		"a tiny drive":             {"/dock/blank", []string{"bay", "C", "size", "3 KiB", "model", "m", "serial", "AAAA"}, "at least 1 MiB"},
		"a drive of -5":            {"/dock/blank", []string{"bay", "C", "size", "-5", "model", "m", "serial", "AAAA"}, "negative"},
	} {
		if page := s.post(t, c.path, c.form...); !strings.Contains(strings.ToLower(page), strings.ToLower(c.says)) {
			t.Errorf("%s: not refused with %q", name, c.says)
		}
	}
	bays, _ := s.Store.Bays()
	for _, b := range bays {
		if (b.Letter == "C" || b.Letter == "I") && b.Image != nil {
			t.Errorf("bay %s has %s", b.Letter, *b.Image)
		}
	}
	// Uploads: names, sizes, other people's, out of turn, too large a piece.
	for _, form := range [][]string{{"name", "../x.img", "size", "5"}, {"name", "x.img", "size", "-5"}, {"name", "x.img", "size", "0"}, {"name", "d.img", "size", "5"}, {"name", "x.img", "size", strconv.Itoa(1 << 50)}} {
		if body := s.post(t, "/dock/uploads", form...); !strings.Contains(body, `"trouble"`) {
			t.Errorf("%v: %s", form, body)
		}
	}
	if code, _ := s.put(t, "/dock/uploads/abc?at=0", []byte("x")); code != 404 {
		t.Errorf("an upload that was never begun: %d", code)
	}
	body := s.post(t, "/dock/uploads", "name", "x.img", "size", strconv.Itoa(1<<20))
	id := strings.Split(strings.Split(body, `"id":"`)[1], `"`)[0]
	if code, _ := s.put(t, "/dock/uploads/"+id+"?at=4096", make([]byte, 4096)); code != 409 {
		t.Errorf("a piece out of turn: %d", code)
	}
	if code, b := s.put(t, "/dock/uploads/"+id+"?at=0", make([]byte, 4096)); code != 200 || !strings.Contains(b, `"received":4096`) {
		t.Errorf("the first piece: %d %s", code, b)
	}
	if again := s.post(t, "/dock/uploads", "name", "x.img", "size", strconv.Itoa(1<<20)); !strings.Contains(again, `"received":4096`) {
		t.Errorf("begun again: %s", again)
	}
	if code, b := s.put(t, "/dock/uploads/"+id+"?at=4096", make([]byte, 2<<20)); code != 200 || !strings.Contains(b, `"received":1048576`) {
		t.Errorf("more than the file has: %d %s", code, b)
	}
	// What was begun and left is forgotten after a week.
	for name, age := range map[string]time.Duration{".coming-old": 8 * 24 * time.Hour, ".coming-new": time.Hour} {
		p := filepath.Join(s.Data, "dock", name)
		os.WriteFile(p, nil, 0o644)
		os.Chtimes(p, time.Now().Add(-age), time.Now().Add(-age))
	}
	err := s.ForgetUploads()
	left, _ := filepath.Glob(filepath.Join(s.Data, "dock", ".coming-*"))
	if err != nil || len(left) != 1 || !strings.HasSuffix(left[0], "new") {
		t.Errorf("%v, %v", left, err)
	}
	if st, err := os.Stat(filepath.Join(s.Data, "dock", "x.img")); err != nil || st.Size() != 1<<20 {
		t.Errorf("the file did not arrive: %v", err)
	}
}

func TestReadOnlyDrive(t *testing.T) {
	s := open(t)
	s.post(t, "/dock/how", "bay", "A", "read_only", "yes")
	page := s.get(t, "/jobs/J-1042?p=6")
	if !strings.Contains(page, "read-only, for evidence") || !strings.Contains(page, "attached read-only, for evidence: nothing on it may change") {
		t.Error("the page does not say that the drive is attached for evidence")
	}
	if page := s.post(t, "/jobs/J-1042/steps", "do", "grow", "partition", "6", "by", "1 GiB"); !strings.Contains(page, "no step was added") {
		t.Error("a step was added to a read-only drive")
	}
	if page := s.post(t, "/jobs/J-1042/resume"); !strings.Contains(page, "read-only") {
		t.Error("a run on a read-only drive was begun")
	}
	s.as(t, "odile")
	s.post(t, "/dock/how", "bay", "A")
	if page := s.post(t, "/jobs/J-1042/steps", "do", "grow", "partition", "6", "by", "1 GiB"); strings.Contains(page, "no step was added") {
		t.Error("attached for writing, no step can be added")
	}
	// With a plan begun, and while work is under way, a drive still can be looked at.
	if page := s.post(t, "/dock/detach", "bay", "A"); !strings.Contains(page, "Bay A is empty") {
		t.Error("it cannot be detached")
	}
	if page := s.get(t, "/jobs/J-1042"); !strings.Contains(page, "None is in a bay") {
		t.Errorf("a job without its drive: %.300s", page)
	}
	if page := s.get(t, "/"); !strings.Contains(page, "Its drive is in no bay") {
		t.Error("the bench does not say that a job's drive is missing")
	}
	s.post(t, "/dock/attach", "file", "tidewater-reception.img", "bay", "C", "job", "J-1042")
	if out := s.wait(t, "dock"); !strings.Contains(out, "Bay C has the drive TLX5-220-7F3K") {
		t.Error(out)
	}
	if page := s.get(t, "/jobs/J-1042"); !strings.Contains(page, "Bay C") || !strings.Contains(page, "C: System") {
		t.Error("attached again, the job does not find its drive and its PC")
	}
}

func TestInside(t *testing.T) {
	s := open(t)
	for path, says := range map[string]string{
		"/jobs/J-1042/inside?p=99":                                  "Not found",
		"/jobs/J-1042/inside?p=2":                                   "cannot be looked into",
		"/jobs/J-1042/inside?p=3&path=../../etc":                    "There is no such folder",
		"/jobs/J-1042/inside?p=3&path=Practice/Letters":             "2026-03",
		"/jobs/J-1042/inside?p=3&find=zzz%3Cscript%3E":              "No file or folder has this in its name",
		"/jobs/J-1042/file?p=3&path=Practice":                       "cannot be taken out",
		"/jobs/J-1042/file?p=3&path=../../shop.key":                 "cannot be taken out",
		"/jobs/J-1042/folder.tar?p=3&path=nowhere":                  "cannot be taken out",
		"/jobs/J-1042/holds?p=5":                                    "948 files in",
		"/jobs/J-1042/compare?p=5":                                  "Bay B, Shelf",
		"/compared/c-none":                                          "Not found",
		"/compared/..%2F..%2Fshop.key":                              "Not found",
		"/dock/handed/..%2Fshop.key":                                "Not found",
		"/jobs/J-1042/inside?p=3&path=Windows/System32&from=zzzzzz": "This folder is empty",
	} {
		if page := s.get(t, path); !strings.Contains(page, says) {
			t.Errorf("%s does not say %q", path, says)
		}
	}
	whole := s.get(t, "/jobs/J-1042/file?p=3&path="+url.QueryEscape("Practice/Letters/2026-03/reminder 002.txt"))
	if !strings.HasPrefix(whole, "Reminder\r\n") {
		t.Errorf("the file holds %.40q", whole)
	}
	q, _ := http.NewRequest("GET", s.url+"/jobs/J-1042/file?p=3&path="+url.QueryEscape("Practice/Letters/2026-03/reminder 002.txt"), nil)
	q.Header.Set("Range", "bytes=5-9")
	r, err := s.client.Do(q)
	if part := read(t)(r, err); r.StatusCode != 206 || part != whole[5:10] {
		t.Errorf("a part of the file: %d %q", r.StatusCode, part)
	}
	in := tar.NewReader(strings.NewReader(s.get(t, "/jobs/J-1042/folder.tar?p=3&path="+url.QueryEscape("Practice/Letters"))))
	files := 0
	for {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if b, _ := io.ReadAll(in); h.Name == "2026-03/reminder 002.txt" && string(b) != whole {
			t.Error("the tar holds other contents")
		}
		if h.Typeflag == tar.TypeReg {
			files++
		}
	}
	if files != 240 {
		t.Errorf("the tar has %d files", files)
	}
}

// TestCompareDrives compares every volume of a drive with a copy of the drive: all are
// covered, and one may then be deleted without a backup.
func TestCompareDrives(t *testing.T) {
	s := open(t)
	s.post(t, "/sign-out")
	s.post(t, "/sign-in", "login", "odile", "password", "lantern-odile")
	s.get(t, "/dock")
	from := filepath.Join(s.Data, "drives", "mosslane-till.img")
	if out, err := exec.Command("cp", "--sparse=always", from, filepath.Join(s.Data, "dock", "copy.img")).CombinedOutput(); err != nil {
		t.Fatal(string(out))
	}
	s.post(t, "/dock/attach", "file", "copy.img", "bay", "C", "model", "a copy", "serial", "COPY-0001")
	if out := s.wait(t, "dock"); !strings.Contains(out, "Bay C has the drive") {
		t.Fatal(out)
	}
	if page := s.post(t, "/jobs/J-1047/compare", "partition", "4", "with", "C:9"); !strings.Contains(page, "cannot be looked into; nothing was compared") {
		t.Error("compared with nothing")
	}
	s.post(t, "/jobs/J-1047/compare", "partition", "4", "with", "C:*")
	out := s.wait(t, "compare")
	if strings.Count(out, "is on the second too with the same contents") != 3 {
		t.Fatal(out)
	}
	if page := s.get(t, "/jobs/J-1047/compare?p=4"); !strings.Contains(page, "covered") {
		t.Error("the result is not listed")
	}
	// The copy has the same ids, but lies on another drive.
	if page := s.get(t, "/jobs/J-1047?p=4"); !strings.Contains(page, "Only a copy") {
		t.Error("the coverage does not stand in for a backup")
	}
	list, err := s.Coverage.List()
	if err != nil || len(list) != 3 || !list[0].Covered {
		t.Errorf("%d results, %v", len(list), err)
	}
	if page := s.get(t, "/compared/"+list[0].ID); !strings.Contains(page, "Proven coverage") || !strings.Contains(page, "Nothing differs") {
		t.Error("the comparison's page")
	}
}

func TestPCFacts(t *testing.T) {
	s := open(t)
	facts := s.get(t, "/jobs/J-1047/pc.json")
	send := func(text string) string {
		var b bytes.Buffer
		w := multipart.NewWriter(&b)
		p, _ := w.CreateFormFile("facts", "pc.json")
		io.WriteString(p, text)
		w.Close()
		return read(t)(s.client.Post(s.url+"/jobs/J-1047/pc/facts", w.FormDataContentType(), &b))
	}
	for _, bad := range []string{"", "{", `{"version":9,"state":"off"}`, strings.Repeat("x", 600<<10)} {
		if page := send(bad); !strings.Contains(page, "as they were") && !strings.Contains(page, "no file was chosen") {
			t.Errorf("%.20q was taken", bad)
		}
	}
	if s.get(t, "/jobs/J-1047/pc.json") != facts {
		t.Error("refused facts changed them")
	}
	if page := send(strings.Replace(facts, `"running"`, `"off"`, 1)); !strings.Contains(page, "The till PC is off") {
		t.Error("facts were not read in")
	}
	if page := s.post(t, "/jobs/J-1047/letter", "partition", "3", "letter", "K"); !strings.Contains(page, "finds itself by it") {
		t.Error("the start system's letter was changed")
	}
	if page := s.post(t, "/jobs/J-1047/letter", "partition", "9", "letter", "K"); !strings.Contains(page, "no such partition") {
		t.Error("a letter for nothing")
	}
	if page := s.post(t, "/jobs/J-1047/pc/state", "state", "asleep"); !strings.Contains(page, "off or running") {
		t.Error("a PC that sleeps")
	}
}

// TestMendInTheBrowser damages the table of a drive: the page says so and mends it.
func TestMendInTheBrowser(t *testing.T) {
	s := open(t)
	path := filepath.Join(s.Data, "drives", "mosslane-till.img")
	im, err := disk.OpenImage(path, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	before, _ := disk.ReadFull(im, 0, 34*512)
	im.WriteAt([]byte{0xff}, 1024+32)
	im.Close()
	page := s.get(t, "/jobs/J-1047")
	for _, says := range []string{"The first copy of the partition table is damaged", "Plan to mend it", "plan to mend the table"} {
		if !strings.Contains(page, says) {
			t.Errorf("the page does not say %q", says)
		}
	}
	if page := s.get(t, "/"); !strings.Contains(page, "The first copy of the partition table is damaged") {
		t.Error("the bench does not say what waits")
	}
	s.post(t, "/jobs/J-1047/mend")
	s.post(t, s.shown(t, "J-1047", "carry-out"))
	if out := s.wait(t, path); !strings.Contains(out, "as planned") {
		t.Fatal(out)
	}
	im, _ = disk.OpenImage(path, 512, false)
	defer im.Close()
	if after, _ := disk.ReadFull(im, 0, 34*512); !bytes.Equal(before, after) {
		t.Error("the table is not what it was")
	}
	if page := s.post(t, "/jobs/J-1047/mend"); !strings.Contains(page, "no step was added") {
		t.Error("a sound table is mended")
	}
}

// TestLookAlikes deletes a logical volume of a drive whose serial number ends like
// another's: four characters are not enough.
func TestLookAlikes(t *testing.T) {
	s := open(t)
	s.post(t, "/sign-out")
	s.post(t, "/sign-in", "login", "odile", "password", "lantern-odile")
	s.post(t, "/jobs/J-1046/steps", "do", "delete", "partition", "7", "waiver", "only an old backup")
	path := filepath.Join(s.Data, "drives", "brightwater-office.img")
	for serial, want := range map[string]string{"4D7C": "serial check failed"} {
		s.post(t, s.shown(t, "J-1046", "carry-out"), "serial", serial)
		if out := s.wait(t, path); !strings.Contains(out, want) {
			t.Errorf("%s: %s", serial, out)
		}
	}
	s.post(t, s.shown(t, "J-1046", "carry-out"), "serial", "8-4D7C")
	if out := s.wait(t, path); !strings.Contains(out, "as planned") {
		t.Fatal(out)
	}
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	sv, err := survey.Read(im, nil)
	if err != nil || sv.Table.Scheme != table.MBR || len(sv.Layout.Partitions()) != 4 || sv.Check().FirstError() != nil {
		t.Errorf("%v, %v", sv.Check(), err)
	}
}

func TestSquarify(t *testing.T) {
	for _, weights := range [][]float64{{1}, {6, 6, 4, 3, 2, 2, 1}, {100, 1, 1, 1}, {5, 0, 0}, {}} {
		area, total := 0.0, 0.0
		for _, w := range weights {
			total += w
		}
		for i, x := range squarify(weights, 600, 400) {
			if x.X < -1e-6 || x.Y < -1e-6 || x.X+x.W > 600+1e-6 || x.Y+x.H > 400+1e-6 {
				t.Errorf("%v: tile %d lies outside: %+v", weights, i, x)
			}
			if d := x.W*x.H - weights[i]/total*240000; d > 1 || d < -1 {
				t.Errorf("%v: tile %d has the area %f", weights, i, x.W*x.H)
			}
			area += x.W * x.H
		}
		if total > 0 && (area < 239999 || area > 240001) {
			t.Errorf("%v: the tiles cover %f", weights, area)
		}
	}
	if got := disk.Bytes(512110190592).Maker() + disk.Bytes(2000398934016).Maker() + disk.Bytes(1500301910016).Maker(); got != "512 GB2 TB1.5 TB" {
		t.Error(got)
	}
}

// TestShelves has a drive made a shelf, and labels that could be confused refused.
func TestShelves(t *testing.T) {
	s := open(t)
	for label, says := range map[string]string{"": "needs a label", "S-h e.1f": "could be confused", "SHELF": "could be confused", strings.Repeat("x", 33): "1 to 32 letters"} {
		if err := s.Distinct(label); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", label, err)
		}
	}
	if err := s.Distinct("Vault"); err != nil {
		t.Errorf("another label: %v", err)
	}
	places := s.Shelf().Places()
	if len(places) != 2 || !strings.HasPrefix(places[1].Title, "Bay B, Shelf (…") || places[1].Trouble != "" || s.Shelf().To != places[1].Title {
		t.Errorf("%+v", places)
	}
	if page := s.post(t, "/shelf/onto", "onto", "Bay Z"); !strings.Contains(page, "no such place") {
		t.Error("a place that does not exist is taken")
	}
	if page := s.post(t, "/shelf/onto", "onto", places[0].Title); !strings.Contains(page, "New backups go to "+strings.ReplaceAll(places[0].Title, "'", "&#39;")) {
		t.Error("the place was not taken")
	}
	if page := s.post(t, "/dock/no-shelf", "bay", "B"); !strings.Contains(page, "no shelf any more") {
		t.Error("bay B is still a shelf")
	}
	if n := len(s.Shelf().Places()); n != 1 {
		t.Errorf("%d places", n)
	}
	if page := s.post(t, "/dock/shelf", "bay", "B"); !strings.Contains(page, "is a shelf") {
		t.Error("bay B is not a shelf again")
	}
}
