package web

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"jadetrail/app/shop"
	"jadetrail/app/work"
	"jadetrail/core/words"
)

// noted is a log that is read while it is written.
type noted struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (n *noted) Write(b []byte) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.b.Write(b)
}

func (n *noted) lines(with ...string) (out []string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for line := range strings.Lines(n.b.String()) {
		all := true
		for _, x := range with {
			all = all && strings.Contains(line, x)
		}
		if all {
			out = append(out, line)
		}
	}
	return out
}

// TestLog does things of every kind, and finds them in the log: each request with its id, each act, refusal and
// failure, and nothing that is secret.
func TestLog(t *testing.T) {
	s := open(t)
	log := &noted{}
	s.log = slog.New(slog.NewTextHandler(log, nil))
	s.Store.Log, s.Desk = s.log, work.NewDesk(words.Sentence, s.log)
	want := func(n int, what string, with ...string) {
		t.Helper()
		got := log.lines(with...)
		for end := time.Now().Add(10 * time.Second); len(got) < n && time.Now().Before(end); got = log.lines(with...) {
			time.Sleep(5 * time.Millisecond) // an answer can be here before its line
		}
		if len(got) < n {
			t.Errorf("%s: %d lines have %q, not %d:\n%s", what, len(got), with, n, strings.Join(log.lines(), ""))
		}
	}
	s.post(t, "/sign-in", "login", "ines", "password", "not-her-password")
	want(1, "a wrong password", "msg=request", "method=POST", "path=/sign-in", "status=401")
	s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "4", "release", "private words")
	want(1, "a step", "msg=request", "path=/jobs/J-1042/steps", "status=303", "who=tobias")
	s.post(t, "/jobs/J-1042/steps", "do", "melt", "partition", "4")
	want(1, "a refusal", "msg=refused", "path=/jobs/J-1042/steps", "who=tobias", "why=")
	s.post(t, "/dock/blank", "bay", "C", "model", "m", "serial", "LOGGED-1", "size", "8 MiB")
	want(1, "an act", "msg=entered", "act=attach", "drive=LOGGED-1")
	s.post(t, "/jobs/J-1042/back-up", "partition", "4", "kind", "files")
	s.idle(t)
	want(1, "work that ended", `msg="work ended"`, "work=back-up")
	r, err := s.client.Get(s.url + "/records/d-none?words=private")
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	id := r.Header.Get("X-Request-Id")
	want(1, "what is not there", "msg=refused", "id="+id)
	want(1, "what is not there", "msg=request", "id="+id, "status=404")
	// What goes wrong inside shows its id.
	if err := os.WriteFile(filepath.Join(s.Data, "drives", "tidewater-reception.img"+shop.IdentityEnds), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	r, err = s.client.Get(s.url + "/jobs/J-1042")
	if err != nil {
		t.Fatal(err)
	}
	page, _ := io.ReadAll(r.Body)
	r.Body.Close()
	if id = r.Header.Get("X-Request-Id"); r.StatusCode != http.StatusInternalServerError || !strings.Contains(string(page), ">"+id+"<") {
		t.Errorf("status %d, and the page does not show %s: %s", r.StatusCode, id, page)
	}
	want(1, "a failure", "level=ERROR", "msg=failed", "id="+id, "error=")
	for _, secret := range []string{"not-her-password", "lantern-", "private"} {
		if got := log.lines(secret); len(got) > 0 {
			t.Errorf("the log has %q: %s", secret, got)
		}
	}
}

// TestStopNeedsNoDrive stops work on a drive that cannot be read any more.
func TestStopNeedsNoDrive(t *testing.T) {
	s := open(t)
	image := filepath.Join(s.Data, "drives", "tidewater-reception.img")
	stopped := errors.New("it was stopped")
	err := s.Desk.Start(image, "carry-out", "Carrying out", func(ctx context.Context, _ func(work.Update)) (string, error) {
		<-ctx.Done()
		return "", stopped
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(image, image+".gone"); err != nil {
		t.Fatal(err)
	}
	s.post(t, "/jobs/J-1042/stop")
	if got := s.wait(t, image); !strings.Contains(got, "stopped") {
		t.Errorf("the work ended with %q", got)
	}
}
