package web

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
)

// TestRoomIsDrawnByRole draws one look at the room for everybody: each is offered what they may do, whoever came first.
func TestRoomIsDrawnByRole(t *testing.T) {
	s := open(t)
	ask := &store.Ask{Job: "J-1042", AskedBy: "Tobias Wren", Text: "Delete Recovery", AskedAt: time.Now()}
	v, err := s.onBench()
	if err != nil {
		t.Fatal(err)
	}
	v.Asks = append(v.Asks, benchAsk{Ask: *ask})
	for range 2 {
		for _, role := range []store.Role{store.Leader, store.Worker, store.Reader} {
			me := &store.Technician{Role: role}
			html, err := v.drawBy(s.pages["bench"], me)
			if err != nil {
				t.Fatal(err)
			}
			answers, opens := strings.Contains(string(html), `name="answer"`), strings.Contains(string(html), "Open a job")
			if answers != me.Lead() || opens != me.Works() {
				t.Errorf("%s: answers %v, opens %v", role, answers, opens)
			}
		}
	}
}

// TestRoom has work go on in a bay: the bench shows it there and among what is at work, without reading that drive,
// tells how far it has come to who looks, and the job is back among the others when it is done.
func TestRoom(t *testing.T) {
	s := open(t)
	_, bay, err := s.Store.Job("J-1042", "")
	if err != nil {
		t.Fatal(err)
	}
	path := s.ImageOf(bay)
	section := func(page, from, to string) string {
		_, rest, _ := strings.Cut(page, from)
		part, _, _ := strings.Cut(rest, to)
		return part
	}
	s.get(t, "/")
	time.Sleep(2500 * time.Millisecond) // until what was written is old enough to be kept
	s.get(t, "/")
	part, end := make(chan work.Update), make(chan bool)
	err = s.Desk.Start(path, "back-up", "Backup", func(ctx context.Context, report func(work.Update)) (string, error) {
		for u := range part {
			report(u)
			end <- true
		}
		return "done", nil
	})
	if err != nil {
		t.Fatal(err)
	}
	part <- work.Update{Phase: "reading", Done: 25, Total: 100}
	<-end
	count := s.reads(t)
	page := s.get(t, "/")
	if of := count(); of[*bay.Image] > 0 {
		t.Errorf("the drive at work was read %d times", of[*bay.Image])
	}
	if !strings.Contains(section(page, "At work", "</ul>"), "J-1042") || strings.Contains(section(page, `class="jobs"`, "</ul>"), "J-1042") {
		t.Errorf("J-1042 is not among what is at work, or among the jobs too")
	}
	if bay := section(page, `<li data-work="A">`, "</li>"); !strings.Contains(bay, `class="climb"`) || strings.Count(bay, "<rect") < 8 {
		t.Errorf("bay A is not drawn with its work: %s", bay)
	}

	// Work that belongs to no job stands there too.
	for _, key := range watched {
		hold := make(chan bool)
		err := s.Desk.Start(key, "verify-backup", "Verification", func(context.Context, func(work.Update)) (string, error) { <-hold; return "", nil })
		if err != nil {
			t.Fatal(err)
		}
		if page := s.get(t, "/"); !strings.Contains(section(page, `<li data-work="`+key+`">`, "</li>"), "Verification") {
			t.Errorf("what goes on on the %s is not shown", key)
		}
		close(hold)
		for s.Desk.Busy(key) {
			time.Sleep(time.Millisecond)
		}
	}

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+"/progress/bench", nil)
	if err != nil {
		t.Fatal(err)
	}
	answer, err := s.client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	next := func() (now roomNow) {
		t.Helper()
		for lines.Scan() {
			if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				if err := json.Unmarshal([]byte(text), &now); err != nil {
					t.Fatal(err)
				}
				return now
			}
		}
		t.Fatal("the stream has ended")
		return now
	}
	if now := next(); now.Work["A"] == nil || now.Work["A"].Percent != 25 || len(now.Work) != 1 {
		t.Errorf("told at first: %+v", now)
	}
	part <- work.Update{Phase: "verifying", Done: 75, Total: 100}
	<-end
	if now := next(); now.Work["A"] == nil || now.Work["A"].Percent != 75 || now.Work["A"].Phase != "verifying" {
		t.Errorf("told then: %+v", now)
	}
	close(part)
	if now := next(); len(now.Work) != 0 {
		t.Errorf("told at the end: %+v", now)
	}
	if page := s.get(t, "/"); strings.Contains(page, "At work") || !strings.Contains(section(page, `class="jobs"`, "</ul>"), "J-1042") {
		t.Error("the job is not back among the others")
	}
}

// TestBayHeights draws larger drives higher, and none too low or too high.
func TestBayHeights(t *testing.T) {
	last := 0
	for _, b := range []benchBay{{Size: 1e6}, {Size: 16e9}, {Size: 128e9}, {Size: 1e12}, {Size: 2e12}, {Size: 100e12}} {
		if h := b.Height(); h < last || h < leastColumn || h > mostColumn {
			t.Errorf("%v is drawn %d high, after one of %d", b.Size, h, last)
		} else {
			last = h
		}
	}
}
