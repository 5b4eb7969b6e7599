package web

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/app/shop"
	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/trail"
)

// raw sends a request as it is and returns the answer.
func (s *front) raw(t *testing.T, method, path string, change func(*http.Request)) *http.Response {
	t.Helper()
	req, err := http.NewRequest(method, s.url+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	if change != nil {
		change(req)
	}
	still := *s.client
	still.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	r, err := still.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	return r
}

// A name that somebody else holds is led to this machine: nothing is answered to it.
func TestForeignHost(t *testing.T) {
	s := open(t)
	for host, want := range map[string]int{
		"127.0.0.1": 200, "localhost": 200, "localhost:8080": 200, "[::1]:8080": 200, "LOCALHOST": 200,
		"rebound.example": 421, "127.0.0.1.rebound.example": 421, "rebound.example:8080": 421, "localhost.": 421,
	} {
		for _, path := range []string{"/sign-in", "/static/app.js", "/healthz"} {
			if r := s.raw(t, "GET", path, func(r *http.Request) { r.Host = host }); r.StatusCode != want {
				t.Errorf("%s for the host %q: %d, want %d", path, host, r.StatusCode, want)
			}
		}
	}
	if r := s.raw(t, "POST", "/sign-out", func(r *http.Request) { r.Header.Set("Origin", "http://elsewhere.example") }); r.StatusCode != http.StatusForbidden {
		t.Errorf("another site signs somebody out: %d", r.StatusCode)
	}
}

// Guesses are counted, whatever is done to the name; whoever has the right password in a browser of theirs is let in
// all the same.
func TestGuessing(t *testing.T) {
	s := open(t)
	mine, _ := cookiejar.New(nil) // a browser in which the lead has signed in before
	lead := *s
	lead.client = &http.Client{Jar: mine}
	lead.as(t, "odile")
	guess := func(login string) int {
		r, err := (&http.Client{}).PostForm(s.url+"/sign-in", url.Values{"login": {login}, "password": {"a guess"}})
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return r.StatusCode
	}
	names := []string{"odile", "Odile", " odile ", "odilé", "ödile", "ODILE\t", "odile\u200b", "ｏｄｉｌｅ", "odile ", "nobody"}
	wrong := 0
	for i := range 30 {
		if code := guess(names[i%len(names)]); code == http.StatusUnauthorized {
			wrong++
		} else if code != http.StatusTooManyRequests {
			t.Fatalf("guess %d: %d", i, code)
		}
	}
	if wrong != 10 {
		t.Errorf("%d guesses were looked at from one place, want 10", wrong)
	}
	if page := lead.post(t, "/sign-in", "login", "odile", "password", "lantern-odile"); !strings.Contains(page, "on the bench") {
		t.Errorf("the lead is kept out of the own browser: %.300s", page)
	}
	// Accents make no other name one's own.
	for _, login := range []string{"odilé", "ødile", "odile\x00"} {
		if _, err := s.Store.SignIn(t.Context(), login, "lantern-odile"); !errors.Is(err, store.ErrSignIn) {
			t.Errorf("%q signs in as odile: %v", login, err)
		}
	}
}

// Who signs in at once waits for a place; the memory for it is bounded.
func TestSigningInAtOnce(t *testing.T) {
	s := open(t)
	hash, err := signin.Hash(t.Context(), "four herons mend a kiln", signin.Secret)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.ChangePerson(1, func(p *store.Technician) (*trail.Entry, error) { p.PasswordHash = hash; return nil, nil }); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	var codes sync.Map
	for range 30 {
		all.Go(func() {
			still := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
			r, err := still.PostForm(s.url+"/sign-in", url.Values{"login": {"ines"}, "password": {"four herons mend a kiln"}})
			if err != nil {
				t.Error(err)
				return
			}
			r.Body.Close()
			codes.Store(r.StatusCode, true)
		})
	}
	all.Wait()
	codes.Range(func(code, _ any) bool {
		if code != http.StatusSeeOther && code != http.StatusServiceUnavailable {
			t.Errorf("somebody who signs in beside 29 others is answered %v", code)
		}
		return true
	})
	var peak int64
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Sscan(between(string(status), "VmHWM:", "kB"), &peak)
	t.Logf("30 at once: the most memory this process ever had is %d MiB", peak>>10)
}

func between(text, from, to string) string {
	_, rest, _ := strings.Cut(text, from)
	out, _, _ := strings.Cut(rest, to)
	return strings.TrimSpace(out)
}

// A small archive does not make a large entry, nor says in this shop's trail what it likes.
func TestArchiveThatSwells(t *testing.T) {
	s := open(t)
	for name, job := range map[string]string{
		"a long number":   `{"Version":1,"Number":"` + strings.Repeat("x", 12<<20) + `","Head":"` + strings.Repeat("a", 64) + `"}`,
		"a long customer": `{"Version":1,"Number":"J-1","Customer":"` + strings.Repeat("y", 12<<20) + `","Head":"` + strings.Repeat("b", 64) + `"}`,
		"words of its own": `{"Version":1,"Number":"J-1","Customer":"` + `Carried out by Odile Farrow` + `","Head":"` +
			strings.Repeat("c", 64) + `"}`,
	} {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, err := z.Create("job.json")
		if err == nil {
			_, err = io.WriteString(w, job)
		}
		if err = errors.Join(err, z.Close()); err != nil {
			t.Fatal(err)
		}
		lead, err := s.Store.Lead("odile")
		if err != nil {
			t.Fatal(err)
		}
		said, err := s.TakeInFile(lead, strings.Repeat("n", 100)+".zip", &b)
		if len(said) > 1000 || strings.Contains(said, "Odile") || err != nil && len(err.Error()) > 1000 {
			t.Errorf("%s: %.200q, %.200v", name, said, err)
		}
	}
	list, err := s.Store.Entries(store.Filter{})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		if len(e.Text)+len(e.Reason) > 2000 {
			t.Errorf("entry %d has %d letters", e.Seq, len(e.Text)+len(e.Reason))
		}
	}
}

// What lies beside an image and is not what it should be is told, read in bounds, and does not lock its bay.
func TestBadSidecars(t *testing.T) {
	for name, make := range map[string]func(path string) error{
		"200 MB":   func(p string) error { return os.WriteFile(p, nil, 0o644) },
		"a folder": func(p string) error { return os.Mkdir(p, 0o755) },
		"a pipe":   func(p string) error { return mkfifo(p) },
		"not JSON": func(p string) error { return os.WriteFile(p, []byte("<html>"), 0o644) },
		"a long serial": func(p string) error {
			return os.WriteFile(p, []byte(`{"model":"m","serial":"`+strings.Repeat("s", 5000)+`"}`), 0o644)
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			for _, ends := range []string{".drive.json", ".pc.json"} {
				p := filepath.Join(s.Data, "drives", "tidewater-reception.img"+ends)
				if err := os.RemoveAll(p); err != nil {
					t.Fatal(err)
				}
				err := make(p)
				if err == nil && name == "200 MB" {
					err = os.Truncate(p, 200<<20)
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			for _, path := range []string{"/", "/dock", "/jobs/J-1042", "/jobs/J-1042/about"} {
				began := time.Now()
				if r := s.raw(t, "GET", path, nil); r.StatusCode >= 500 && path != "/jobs/J-1042" {
					t.Errorf("%s: %d", path, r.StatusCode)
				}
				if took := time.Since(began); took > 10*time.Second {
					t.Errorf("%s took %v", path, took)
				}
			}
			if page := s.post(t, "/dock/detach", "bay", "A"); !strings.Contains(page, "Bay A is empty") {
				t.Errorf("its bay is locked: %.600s", page)
			}
		})
	}
}

// Streams are bounded for each sitting, and end when it does.
func TestStreams(t *testing.T) {
	s := open(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	watch := func() *http.Response {
		req, err := http.NewRequestWithContext(ctx, "GET", s.url+"/progress/dock", nil)
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	var first *http.Response
	opened := 0
	for range streamsOfEach + 20 {
		switch r := watch(); r.StatusCode {
		case http.StatusOK:
			if opened++; first == nil {
				first = r
			}
		case http.StatusTooManyRequests:
			r.Body.Close()
		default:
			t.Fatal(r.StatusCode)
		}
	}
	if opened != streamsOfEach {
		t.Errorf("%d streams were opened, want %d", opened, streamsOfEach)
	}
	s.post(t, "/sign-out")
	ended := make(chan error, 1)
	go func() {
		_, err := io.Copy(io.Discard, bufio.NewReader(first.Body))
		ended <- err
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("a stream goes on after signing out")
	}
}

// Who reads an answer too slowly is let go, and so are requests that never end.
func TestSlowReader(t *testing.T) {
	big := make([]byte, 64<<20)
	const slowest = time.Second
	h := patiently(slowest, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for at := 0; at < len(big); at += 1 << 16 {
			if _, err := w.Write(big[at : at+1<<16]); err != nil {
				return
			}
		}
	}))
	done := make(chan time.Duration, 1)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		h.ServeHTTP(w, r)
		done <- time.Since(began)
	}))
	defer srv.Close()
	c, err := net.Dial("tcp", strings.TrimPrefix(srv.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	select {
	case took := <-done: // nothing is ever read
		if took < slowest/2 {
			t.Errorf("let go after %v", took)
		}
	case <-time.After(slowest + 20*time.Second):
		t.Error("who reads nothing is never let go")
	}
}

// A session is kept under a hash, ends by itself, and is told to no cache; over TLS its cookie is this host's alone.
func TestSessions(t *testing.T) {
	s := open(t)
	r := s.raw(t, "GET", "/", nil)
	for name, want := range map[string]string{
		"Cache-Control": "no-store", "X-Content-Type-Options": "nosniff", "Strict-Transport-Security": "",
		"Cross-Origin-Opener-Policy": "same-origin",
	} {
		if got := r.Header.Get(name); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
	for _, path := range []string{"/trail.jsonl", "/jobs/J-1042/plan.json", "/jobs/J-1042/report.pdf", "/jobs/J-1042/tables/trail.csv", "/sign-in"} {
		if got := s.raw(t, "GET", path, nil).Header.Get("Cache-Control"); got != "no-store" {
			t.Errorf("%s may be kept: %q", path, got)
		}
	}
	at, _ := url.Parse(s.url)
	var token string
	for _, c := range s.client.Jar.Cookies(at) {
		if c.Name == "jadetrail-session" {
			token = c.Value
		}
	}
	db, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var plain, hashed int
	if err := db.QueryRow("SELECT COALESCE(SUM(token = ?), 0), COALESCE(SUM(token = ?), 0) FROM sessions", token, keptToken(token)).Scan(&plain, &hashed); err != nil || token == "" || plain != 0 || hashed != 1 {
		t.Errorf("the session %q is kept as it is %d times, hashed %d times, %v", token, plain, hashed, err)
	}
	in := func() bool { return s.raw(t, "GET", "/", nil).StatusCode == http.StatusOK }
	for _, x := range []struct {
		what, set string
		want      bool
	}{
		{"not yet idle", "seen_at = UTC_TIMESTAMP(3) - INTERVAL 119 MINUTE", true},
		{"idle", "seen_at = UTC_TIMESTAMP(3) - INTERVAL 121 MINUTE", false},
		{"long", "seen_at = UTC_TIMESTAMP(3), begun_at = UTC_TIMESTAMP(3) - INTERVAL 721 MINUTE", false},
	} {
		s.as(t, "tobias")
		if _, err := db.Exec("UPDATE sittings SET " + x.set); err != nil {
			t.Fatal(err)
		}
		if got := in(); got != x.want {
			t.Errorf("%s: still signed in is %v", x.what, got)
		}
	}
	for given, want := range map[string]string{
		"/trail?act=delete": "/trail?act=delete", "//elsewhere.example": "/", "/\\elsewhere.example": "/", "https://elsewhere.example": "/",
		"/%2f/elsewhere.example": "/", "/\telsewhere": "/", "javascript:alert(1)": "/", "": "/", "/jobs/J-1042#x": "/jobs/J-1042",
		"http:/elsewhere": "/", "/\x7f/x": "/",
	} {
		if got := safeNext(given); got != want {
			t.Errorf("after signing in %q leads to %q, want %q", given, got, want)
		}
	}
	// Over TLS.
	secure, err := New(Options{Shop: s.Shop, Secure: true, Beyond: true, Hosts: []string{"bench.example"}})
	if err != nil {
		t.Fatal(err)
	}
	defer secure.forget()
	w := httptest.NewRecorder()
	req := httptest.NewRequest("POST", "/sign-in", strings.NewReader(url.Values{"login": {"odile"}, "password": {"lantern-odile"}}.Encode()))
	req.Host = "bench.example"
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	secure.Handler().ServeHTTP(w, req)
	cookies := strings.Join(w.Header().Values("Set-Cookie"), "\n")
	if !strings.Contains(cookies, "__Host-jadetrail-session=") || strings.Count(cookies, "Secure") != 2 || strings.Count(cookies, "HttpOnly") != 2 || strings.Count(cookies, "SameSite=Strict") != 2 || w.Header().Get("Strict-Transport-Security") == "" {
		t.Errorf("over TLS: %d, %s, %v", w.Code, cookies, w.Header())
	}
	// A lead who can be reached from elsewhere needs a second factor before anything else.
	req = httptest.NewRequest("GET", "/", nil)
	req.Host = "bench.example"
	for _, c := range w.Result().Cookies() {
		req.AddCookie(c)
	}
	w = httptest.NewRecorder()
	secure.Handler().ServeHTTP(w, req)
	if w.Header().Get("Location") != "/account/second" {
		t.Errorf("a lead without a second factor is let on: %d %q", w.Code, w.Header().Get("Location"))
	}
}

// Connections with the database are so many and no more, however many ask.
func TestConnections(t *testing.T) {
	s := open(t)
	var all sync.WaitGroup
	for range 60 {
		all.Go(func() {
			r := s.raw(t, "GET", "/jobs", nil)
			if r.StatusCode != http.StatusOK {
				t.Errorf("beside 59 others: %d", r.StatusCode)
			}
		})
	}
	all.Wait()
	db, err := s.Store.SQL()
	if err != nil {
		t.Fatal(err)
	}
	if x := db.Stats(); x.MaxOpenConnections != 24 || x.OpenConnections > 24 {
		t.Errorf("%+v", x)
	}
}

// Two uploads that do not fit beside each other are not both begun.
func TestRoomIsReserved(t *testing.T) {
	s := open(t)
	room, err := s.BeginUpload("ines", "first.img", disk.MiB, "1")
	if err != nil || room == nil {
		t.Fatal(err)
	}
	free := freeIn(t, s.Folder("dock"))
	most := (free - 512*disk.MiB) * 6 / 10
	if _, err := s.BeginUpload("ines", "second.img", most, "1"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.BeginUpload("tobias", "third.img", most, "1"); err == nil {
		t.Error("room for one was given to two")
	}
	if _, err := s.BeginUpload("ines", "second.img", most, "1"); err != nil { // it goes on
		t.Errorf("its own reservation is in the way: %v", err)
	}
}

func mkfifo(path string) error { return unix.Mkfifo(path, 0o644) }

func freeIn(t *testing.T, dir string) disk.Bytes {
	t.Helper()
	free, err := shop.Room(dir)
	if err != nil {
		t.Fatal(err)
	}
	return free
}
