package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"jadetrail/app/demo"
	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/store/storetest"
	"jadetrail/core/carry"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/words"
)

// front is the application on the demo's drives, with a browser that is signed in.
type front struct {
	*Server
	url    string
	client *http.Client
	owner  string // the database's owner
}

// serve opens the shop in a data folder, and its pages.
func serve(st *store.Store, data string) (*Server, error) {
	its, err := shop.New(shop.Options{Store: st, Data: data})
	if err != nil {
		return nil, err
	}
	return New(Options{Shop: its, Demo: true})
}

func open(t *testing.T) *front { return openBy(t, nil) }

// openBy is open with the database at another address.
func openBy(t *testing.T, by func(dsn string) string) *front { return openWith(t, by, nil) }

// openWith is openBy with other drives: those that drives makes in the folder are not made for the demo.
func openWith(t *testing.T, by func(dsn string) string, drives func(dir string)) *front {
	t.Helper()
	ownerDSN, appDSN := storetest.Database(t)
	if err := store.Migrate(context.Background(), ownerDSN, "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	if by != nil {
		appDSN = by(appDSN)
	}
	st, err := store.Open(appDSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	if err := st.Seed(demo.Opening()); err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	if err := os.MkdirAll(filepath.Join(data, "drives"), 0o755); err != nil {
		t.Fatal(err)
	}
	if drives != nil {
		drives(filepath.Join(data, "drives"))
	}
	demoDrives(t, filepath.Join(data, "drives"))
	s, err := serve(st, data)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	srv := httptest.NewServer(s.Handler())
	t.Cleanup(srv.Close)
	jar, _ := cookiejar.New(nil)
	x := &front{s, srv.URL, &http.Client{Jar: jar}, ownerDSN}
	if body := x.post(t, "/sign-in", "login", "tobias", "password", "lantern-tobias"); !strings.Contains(body, "on the bench") {
		t.Fatalf("signing in leads to %.300s", body)
	}
	return x
}

// demoDrives puts the demo's drives into dir, but for those that are there. They are made once, and copied from there.
func demoDrives(t *testing.T, dir string) {
	t.Helper()
	first, err := madeOnce()
	if err != nil {
		t.Fatal(err)
	}
	images, err := filepath.Glob(filepath.Join(first, "*.img"))
	if err != nil || len(images) == 0 {
		t.Fatal("no drives of the demo", err)
	}
	for _, image := range images {
		if _, err := os.Stat(filepath.Join(dir, filepath.Base(image))); err == nil {
			continue
		}
		files, _ := filepath.Glob(image + "*")
		if out, err := exec.Command("cp", append([]string{"-p", "--sparse=auto", "-t", dir}, files...)...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %s", err, out)
		}
	}
}

var shops = filepath.Join(os.TempDir(), fmt.Sprintf("jadetrail-web-%d", os.Getpid()))

var madeOnce = sync.OnceValues(func() (string, error) {
	_, err := demo.Make(shops)
	return shops, err
})

func TestMain(m *testing.M) {
	code := m.Run()
	os.RemoveAll(shops)
	os.Exit(code)
}

func (s *front) get(t *testing.T, path string) string {
	t.Helper()
	return read(t)(s.client.Get(s.url + path))
}

func (s *front) post(t *testing.T, path string, form ...string) string {
	t.Helper()
	v := url.Values{}
	for i := 0; i < len(form); i += 2 {
		v.Set(form[i], form[i+1])
	}
	return read(t)(s.client.PostForm(s.url+path, v))
}

// read is what an answer says; of a page without the space that some tags end with.
func read(t *testing.T) func(*http.Response, error) string {
	return func(r *http.Response, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(r.Header.Get("Content-Type"), "text/html") {
			b = bytes.ReplaceAll(b, []byte(" >"), []byte(">"))
		}
		return string(b)
	}
}

// shown is where an act of a job is sent to by the page as it is now: about that plan, and that
// drive.
func (s *front) shown(t *testing.T, job, act string) string {
	t.Helper()
	j, d, err := s.OpenJob(job, "", false)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	return fmt.Sprintf("/jobs/%s/%s?plan=%d&drive=%s", job, act, j.PlanState, d.State())
}

// openRun is the run that is open on the drive of J-1042.
func (s *front) openRun(t *testing.T) string {
	t.Helper()
	_, d, err := s.OpenJob("J-1042", "", false)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	u, err := s.Unfinished(d)
	if err != nil || u == nil {
		t.Fatal("no run is open", err)
	}
	return u.ID
}

// settle waits until the drive's work has ended and returns its state.
func (s *front) settle(t *testing.T) string {
	t.Helper()
	return s.wait(t, filepath.Join(s.Data, "drives", "tidewater-reception.img"))
}

// TestUnfinishedRun cuts a run short; the next start of the application finds it,
// lets nothing else happen, and can take it back or finish it.
func TestUnfinishedRun(t *testing.T) {
	for _, undo := range []bool{true, false} {
		s := open(t)
		steps := []plan.Step{{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}}}
		j, d, err := s.OpenJob("J-1042", "", true)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Store.SavePlan("J-1042", store.Change{Steps: steps, Expect: d.Survey.Layout, When: time.Now()}); err != nil {
			t.Fatal(err)
		}
		ctx, cut := context.WithCancel(context.Background())
		o := s.Options(d, j, "Tobias Wren")
		o.Plan, o.Serial, o.Report = &plan.Plan{Version: 1, Steps: steps}, "7F3K", func(carry.Progress) { cut() }
		if _, err := run.CarryOut(ctx, o); err == nil {
			t.Fatal("the run was not cut short")
		}
		d.Close()
		if page := s.get(t, "/jobs/J-1042"); !strings.Contains(page, "Finish it") || !strings.Contains(page, "Take it back") {
			t.Fatal("the page does not offer to finish the run or take it back")
		}
		if page := s.get(t, "/"); !strings.Contains(page, "A run was cut short") {
			t.Error("the bench does not tell of the unfinished run")
		}
		s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
		if out := s.settle(t); !strings.Contains(out, "not finished") {
			t.Errorf("a second run over the first: %q", out)
		}
		if page := s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "4", "release", "r"); !strings.Contains(page, "no step was added") {
			t.Error("a step was staged over an unfinished run")
		}
		if page := s.post(t, "/jobs/J-1042/steps/take-out", "step", "1"); !strings.Contains(page, "stays as it is") {
			t.Error("a step was taken out of a plan of which a run is open")
		}
		s.post(t, "/jobs/J-1042/resume", "run", "r-20260101-000000-aaaaaa")
		if out := s.settle(t); !strings.Contains(out, "nother run is open") {
			t.Errorf("another run than the one that is open was gone on with: %q", out)
		}
		s.post(t, "/jobs/J-1042/resume", "run", s.openRun(t), "undo", words.Either(undo, "yes", ""))
		if out := s.settle(t); !strings.Contains(out, words.Either(undo, "taken back", "finished")) {
			t.Errorf("undo %v: %q", undo, out)
		}
		_, d, err = s.OpenJob("J-1042", "", false)
		if err != nil {
			t.Fatal(err)
		}
		if _, there := d.Survey.Layout.Find(6); there != undo {
			t.Errorf("undo %v: partition 6 there: %v", undo, there)
		}
		d.Close()
		if r, err := s.Store.Verify(context.Background(), nil, nil); err != nil || !r.Sound() {
			t.Errorf("the trail: %+v, %v", r, err)
		}
	}
}

// TestChangedDrive changes the drive behind a plan.
func TestChangedDrive(t *testing.T) {
	s := open(t)
	s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "4", "release", "r", "waiver", "w")
	_, d, err := s.OpenJob("J-1042", "", true)
	if err != nil {
		t.Fatal(err)
	}
	sc, err := d.Survey.Table.Set(6, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := sc.Apply(d.Image, nil); err != nil {
		t.Fatal(err)
	}
	d.Close()
	page := s.get(t, "/jobs/J-1042")
	if !strings.Contains(page, "The drive has changed since the plan was made") || !strings.Contains(page, "Partition 6") {
		t.Error("the page does not say that the drive has changed")
	}
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); !strings.Contains(out, "has changed since the plan was made") || !strings.Contains(out, "Nothing was written") {
		t.Errorf("carried out all the same: %q", out)
	}
	s.post(t, "/jobs/J-1042/anew")
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); !strings.Contains(out, "as planned") {
		t.Errorf("laid anew: %q", out)
	}
}

func TestHostileRequests(t *testing.T) {
	s := open(t)
	for _, c := range []struct{ path, says string }{
		{"/jobs/..%2F..%2Fetc", "Not found"}, {"/records/..%2F..%2Fshop.key", "Not found"}, {"/records/d-none", "Not found"},
		{"/jobs/J-1042/inside?p=99", "Not found"},
		{"/trail?text=%27%20OR%201=1%20--", "No entries match"}, {"/nowhere", "Not found"}, {"/jobs/J-1042?p=abc", "C: System"},
	} {
		if page := s.get(t, c.path); !strings.Contains(page, c.says) {
			t.Errorf("%s does not say %q", c.path, c.says)
		}
	}
	for _, c := range [][]string{
		{"do", "melt", "partition", "4"}, {"do", "grow", "partition", "3", "by", "lots"}, {"do", "grow", "partition", "3", "by", "-5"}, {"do", "delete", "partition", "../../x"},
		{"do", "delete", "partition", "3"}, {"do", "delete", "partition", "4", "release", strings.Repeat("x", 600)}, {"do", "bring-back"},
	} {
		if page := s.post(t, "/jobs/J-1042/steps", c...); !strings.Contains(page, "step was added") && !strings.Contains(page, "nothing was added") {
			t.Errorf("%v was not refused", c)
		}
	}
	if page := s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "4", "release", `<script>alert(1)</script>`); strings.Contains(page, "<script>alert") {
		t.Error("a reason is not escaped")
	}
	r, err := s.client.Post(s.url+"/jobs/J-1042/steps", "application/x-www-form-urlencoded", strings.NewReader("do="+strings.Repeat("x", 2<<20)))
	if err == nil {
		r.Body.Close()
		if r.StatusCode == http.StatusOK && r.Request.Method == http.MethodPost {
			t.Error("a body of 2 MiB was taken")
		}
	}
	for range 12 {
		s.post(t, "/sign-in", "login", "ines", "password", "guess")
	}
	if page := s.post(t, "/sign-in", "login", "ines", "password", "lantern-ines"); !strings.Contains(page, "Too many tries") {
		t.Error("guessing passwords has no limit")
	}
	if safeNext("//elsewhere.example") != "/" || safeNext("https://elsewhere.example") != "/" || safeNext("/trail?act=delete") != "/trail?act=delete" {
		t.Error("signing in leads elsewhere")
	}
}

// TestRecordAndEvents deletes a partition, watches the work as a page does, and
// alters the record behind the application's back.
func TestRecordAndEvents(t *testing.T) {
	s := open(t)
	r, err := s.client.Get(s.url + "/jobs/J-1042/work")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if ct := r.Header.Get("Content-Type"); ct != "text/event-stream" {
		t.Fatalf("events come as %s", ct)
	}
	seen := make(chan string, 1)
	go func() {
		var all strings.Builder
		b := make([]byte, 4096)
		for !strings.Contains(all.String(), `"outcome"`) {
			n, err := r.Body.Read(b)
			all.Write(b[:n])
			if err != nil {
				break
			}
		}
		seen <- all.String()
	}()
	const none = "No record is kept of a partition"
	s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "6", "release", "not wanted", "waiver", "none needed")
	if !strings.Contains(s.get(t, "/jobs/J-1042"), none) {
		t.Error("a gap does not say that there is nothing to bring back")
	}
	if how := s.howEnded("J-1042", 0); how != "" {
		t.Errorf("before anything was carried out: %s", how)
	}
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); !strings.Contains(out, "as planned") {
		t.Fatal(out)
	}
	if how := s.howEnded("J-1042", 0); how != "carried out by Tobias Wren" || s.howEnded("J-1042", 7) != "" {
		t.Errorf("afterwards: %q", how)
	}
	if page := s.get(t, "/jobs/J-1042"); strings.Contains(page, none) || !strings.Contains(page, "Bring a partition back") {
		t.Error("a gap denies the record that was just kept")
	}
	if ev := <-seen; !strings.Contains(ev, `"kind":"carry-out"`) || !strings.Contains(ev, "One record kept") {
		t.Errorf("events: %s", ev)
	}
	list, err := s.Store.Entries(store.Filter{Act: "delete"})
	if err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	path := "/records/" + list[0].Record
	if page := s.get(t, path); !strings.Contains(page, "Genuine") || !strings.Contains(page, "Plan to bring it back") || !strings.Contains(page, "none needed") {
		t.Error("the record's page does not say what was kept")
	}
	if page := s.get(t, "/trail?act=delete&text=oem"); !strings.Contains(page, path) {
		t.Error("the trail does not lead to the record")
	}
	file := filepath.Join(s.Data, "records", list[0].Record, "record.json")
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(file, []byte(strings.Replace(string(b), "none needed", "never asked", 1)), 0o644)
	if page := s.get(t, path); !strings.Contains(page, "This record was altered") {
		t.Error("an altered record passes for genuine")
	}
	if text := s.get(t, "/trail.jsonl"); strings.Count(text, "\n") != 6 {
		t.Errorf("exported %d lines", strings.Count(text, "\n"))
	}
}

// TestNotThere asks for what is not there, by every page that takes a name: that is said, with a way out, and
// without a path of the machine.
func TestNotThere(t *testing.T) {
	s := open(t)
	ask := func(path string) {
		t.Helper()
		r, err := s.client.Get(s.url + path)
		page := read(t)(r, err)
		if r.StatusCode != http.StatusNotFound || strings.Contains(page, s.Data) || !strings.Contains(page, "Not found") || !strings.Contains(page, `href="/"`) {
			t.Errorf("%s: %d, %.2000s", path, r.StatusCode, page)
		}
	}
	for _, path := range []string{
		"/jobs/J-9999", "/jobs/J-1042?bay=Z", "/jobs/J-1042/inside?bay=Z", "/jobs/J-1042/inside?p=99", "/jobs/J-1042/holds?p=99", "/jobs/J-1042/holds?bay=Z",
		"/jobs/J-1042/file?p=99&path=x", "/jobs/J-1042/file?p=5&path=nowhere", "/jobs/J-1042/folder.tar?p=5&path=nowhere", "/jobs/J-1042/search?bay=Z", "/jobs/J-1042/find?start=77&told=77",
		"/jobs/J-1042/compare?p=99", "/jobs/J-1042/compare?bay=Z", "/jobs/J-1042/pc?bay=Z", "/jobs/J-1042/safeguard?bay=Z", "/jobs/J-1042/confirm?bay=Z",
		"/jobs/J-9999/hand-over", "/jobs/J-9999/archive.zip", "/jobs/J-1042/tables/nothing", "/records/d-none", "/shelf/b-none", "/shelf/b-none/file?path=x", "/compared/c-none", "/trail/999999", "/nowhere",
	} {
		ask(path)
	}
	if err := os.Rename(filepath.Join(s.Data, "drives", "tidewater-reception.img"), filepath.Join(s.Data, "elsewhere.img")); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/jobs/J-1042", "/jobs/J-1042/inside?p=5", "/jobs/J-1042/search", "/jobs/J-1042/pc", "/jobs/J-1042/safeguard"} {
		ask(path)
	}
	for _, path := range []string{"/", "/dock", "/jobs/J-1045"} {
		if page := s.get(t, path); strings.Contains(page, s.Data) {
			t.Errorf("%s tells where the machine keeps its files", path)
		}
	}
}
