package web

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/app/store"
	"jadetrail/core/facts"
	"jadetrail/core/trail"
)

// as signs somebody else in.
func (s *front) as(t *testing.T, login string) {
	t.Helper()
	s.post(t, "/sign-in", "login", login, "password", "lantern-"+login)
}

// asked is the newest ask of J-1042.
func (s *front) asked(t *testing.T) store.Ask {
	t.Helper()
	all, err := s.Store.Asks("J-1042")
	if err != nil || len(all) == 0 {
		t.Fatalf("nothing is asked: %v", err)
	}
	return all[0]
}

// open tells what J-1042's gate still asks the lead for.
func (s *front) gate(t *testing.T) string {
	t.Helper()
	st, err := s.state("J-1042", "")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Drive.Close()
	var out []string
	for _, c := range st.Columns {
		for _, o := range c.Missing {
			out = append(out, string(o.Code))
		}
	}
	return strings.Join(out, " ")
}

// TestApproval has a technician ask, and everything happen to what was asked for before it is carried out:
// the approval is for that step, that drive and those contents alone.
func TestApproval(t *testing.T) {
	waived := []string{"do", "delete", "partition", "5", "waiver", "the practice has a copy"}
	var s *front
	fresh := func(t *testing.T) {
		s = open(t)
		s.post(t, "/jobs/J-1042/steps", waived...)
		if got := s.gate(t); got != "lead-missing" {
			t.Fatalf("a technician's waiver leaves %q", got)
		}
	}
	yes := func(t *testing.T) {
		t.Helper()
		s.as(t, "odile")
		s.post(t, "/asks/"+s.asked(t).ID, "answer", "yes", "why", "I have it in writing")
		s.as(t, "tobias")
		if got := s.gate(t); got != "" {
			t.Fatalf("approved, and the gate asks for %q", got)
		}
	}
	refused := func(t *testing.T, want string) {
		t.Helper()
		if got := s.gate(t); got != want {
			t.Errorf("the gate asks for %q, not %q", got, want)
		}
		s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
		if out := s.settle(t); !strings.Contains(out, "Nothing was written") {
			t.Errorf("it was carried out: %s", out)
		}
	}
	t.Run("not asked of a technician", func(t *testing.T) {
		fresh(t)
		if page := s.post(t, "/asks/"+s.asked(t).ID, "answer", "yes", "why", "because"); !strings.Contains(page, "That is for leads") {
			t.Errorf("a technician answers: %.300s", page)
		}
		if page := s.post(t, "/jobs/J-1042/plan/use", "text", `{"version":1,"steps":[{"do":"delete","partition":"5","waiver":"w","lead":"Odile Farrow"}]}`); strings.Contains(page, "Plan the") {
			t.Errorf("a plan that names a lead: %.300s", page)
		}
		refused(t, "lead-missing")
	})
	t.Run("no", func(t *testing.T) {
		fresh(t)
		s.as(t, "odile")
		s.post(t, "/asks/"+s.asked(t).ID, "answer", "no", "why", "ask the practice")
		if page := s.post(t, "/asks/"+s.asked(t).ID, "answer", "yes", "why", "or not"); !strings.Contains(page, "answered before") {
			t.Errorf("answered twice: %.300s", page)
		}
		s.as(t, "tobias")
		s.post(t, "/jobs/J-1042/ask") // once more: it was answered
		if all, _ := s.Store.Asks("J-1042"); len(all) != 1 {
			t.Errorf("%d asks", len(all))
		}
		refused(t, "lead-missing")
	})
	t.Run("carried out", func(t *testing.T) {
		fresh(t)
		yes(t)
		id := s.asked(t).ID
		s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
		if out := s.settle(t); !strings.Contains(out, "as planned") {
			t.Fatal(out)
		}
		given, err := s.Store.Entries(store.Filter{Act: string(trail.ActAnswer)})
		if err != nil || len(given) != 1 || given[0].Who != "Odile Farrow" || given[0].ID != id || given[0].Answer == nil || given[0].Answer.AskedBy != "Tobias Wren" {
			t.Errorf("the trail tells of the answer: %+v, %v", given, err)
		}
		used, err := s.Store.Entries(store.Filter{Act: string(trail.ActWaiver)})
		if err != nil || len(used) != 1 || used[0].Lead != "Odile Farrow" || used[0].Approval != id {
			t.Errorf("the trail tells of the waiver: %+v, %v", used, err)
		}
		if a := s.asked(t); a.VoidAt == nil || a.VoidWhy != "it was carried out" {
			t.Errorf("it could be used again: %+v", a)
		}
		if r, err := s.Store.Verify(context.Background(), nil, nil); err != nil || !r.Sound() {
			t.Errorf("the trail: %+v, %v", r, err)
		}
	})
	for name, change := range map[string]func(t *testing.T){
		"another reason": func(t *testing.T) {
			s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "5", "waiver", "no reason")
		},
		"erased besides": func(t *testing.T) {
			s.post(t, "/jobs/J-1042/steps", append(waived, "erase", "yes", "backups", "keep")...)
		},
		"undone and done again": func(t *testing.T) { s.post(t, "/jobs/J-1042/plan/undo"); s.post(t, "/jobs/J-1042/plan/redo") },
		"taken out, undone": func(t *testing.T) {
			s.post(t, "/jobs/J-1042/steps/take-out", "step", "1")
			s.post(t, "/jobs/J-1042/plan/undo")
		},
		"a step before it": func(t *testing.T) {
			s.post(t, "/jobs/J-1042/steps", "do", "delete", "partition", "6", "release", "not wanted", "waiver", "empty")
			s.post(t, "/jobs/J-1042/steps/move", "step", "2", "way", "earlier")
		},
		"other contents": func(t *testing.T) { s.written(t, 5) },
		"another drive, that looks the same": func(t *testing.T) {
			s.relabel(t, "tidewater-reception.img", "TLX5-220-9999")
		},
	} {
		t.Run(name, func(t *testing.T) {
			fresh(t)
			yes(t)
			change(t)
			refused(t, "lead-missing")
		})
	}
	t.Run("answered for other contents", func(t *testing.T) {
		fresh(t)
		before := s.asked(t).ID
		s.written(t, 5)
		s.as(t, "odile")
		if page := s.post(t, "/asks/"+before, "answer", "yes", "why", "as it was"); !strings.Contains(page, "has changed since it was asked for") {
			t.Errorf("an answer for other contents: %.400s", page)
		}
		if now := s.asked(t); now.ID == before || !now.Waits() {
			t.Errorf("it is not asked anew: %+v", now)
		}
		if waits, err := s.Store.Waiting(); err != nil || len(waits) != 1 {
			t.Errorf("the lead is asked for contents that are not there: %+v, %v", waits, err)
		}
		refused(t, "lead-missing")
	})
}

// written changes what a volume of J-1042 holds, behind everybody's back.
func (s *front) written(t *testing.T, number int) {
	t.Helper()
	_, d, err := s.OpenJob("J-1042", "", true)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	now, err := facts.StateOf(d.Image, d.Survey, []int{number})
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Survey.Layout.Find(number)
	at := p.Start.Offset(d.Survey.Layout.Sector)
	boot := make([]byte, 512)
	if _, err := d.Image.ReadAt(boot, int64(at)); err != nil {
		t.Fatal(err)
	}
	boot[0x54] ^= 1 // the loader in its boot sector
	if _, err := d.Image.WriteAt(boot, int64(at)); err != nil {
		t.Fatal(err)
	}
	_, again, err := s.OpenJob("J-1042", "", false)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if then, err := facts.StateOf(again.Image, again.Survey, []int{number}); err != nil || then == now {
		t.Fatalf("its state is the same, %v", err)
	}
}

// TestEvidence has a drive that is attached for evidence stay so but for the lead.
func TestEvidence(t *testing.T) {
	s := open(t)
	s.post(t, "/dock/how", "bay", "A", "read_only", "yes")
	if page := s.post(t, "/dock/how", "bay", "A"); !strings.Contains(page, "for evidence, and stays so") {
		t.Errorf("for writing, by a technician: %.300s", page)
	}
	s.post(t, "/dock/detach", "bay", "A")
	drives, err := filepath.Glob(filepath.Join(s.Data, "dock", "*.img"))
	if err != nil || len(drives) != 1 {
		t.Fatalf("in the dock: %v, %v", drives, err)
	}
	again := []string{"file", filepath.Base(drives[0]), "bay", "A", "job", "J-1042", "model", "M", "serial", "S-1"}
	if page := s.post(t, "/dock/attach", again...); !strings.Contains(page, "for evidence, and stays so") {
		t.Errorf("taken out and attached for writing, by a technician: %.300s", page)
	}
	s.as(t, "odile")
	s.post(t, "/dock/attach", again...)
	if said := s.wait(t, "dock"); !strings.Contains(said, "Bay A has the drive") {
		t.Errorf("by the lead: %s", said)
	}
	all, err := s.Store.Entries(store.Filter{Act: string(trail.ActAttach)})
	if err != nil || len(all) == 0 || all[0].Who != "Odile Farrow" {
		t.Errorf("the trail: %+v, %v", all, err)
	}
}
