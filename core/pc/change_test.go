package pc

import (
	"encoding/json"
	"errors"
	"testing"
)

// two is a PC that starts one of two systems and has a recovery environment.
func two() *Facts {
	return &Facts{
		Version: 1, State: Off, Start: "a", Wait: 5, Order: []StartEntry{{"a", "System"}, {"B", "Old"}},
		Letters: map[string]string{"a": "C", "b": "D"}, Recovery: &Recovery{Partition: "r", InUse: true},
	}
}

func TestStartOrder(t *testing.T) {
	f := two()
	for _, c := range []struct {
		name  string
		f     *Facts
		err   error
		order string
		start string
	}{
		{"another first", f.WithStart("b", "not used, it has a title"), nil, "Old System", "b"},
		{"the same first", f.WithStart("a", ""), nil, "System Old", "a"},
		{"a new one first", f.WithStart("n", "New"), nil, "New System Old", "n"},
		{"gone, in other letters", f.Gone("b"), nil, "System", "a"},
		{"gone, not in it", f.Gone("x"), nil, "System Old", "a"},
	} {
		got := ""
		for _, e := range c.f.Order {
			if got != "" {
				got += " "
			}
			got += e.Title
		}
		if got != c.order || c.f.Start != c.start {
			t.Errorf("%s: %s, starts %s", c.name, got, c.f.Start)
		}
	}
	if _, err := f.WithoutEntry("A"); !errors.Is(err, ErrOrder) {
		t.Errorf("the start system: %v", err)
	}
	if _, err := f.WithoutEntry("x"); !errors.Is(err, ErrOrder) {
		t.Errorf("one that is not in it: %v", err)
	}
	if g, err := f.WithoutEntry("b"); err != nil || g.InOrder("b") || !g.InOrder("a") {
		t.Errorf("%v, %v", g, err)
	}
	for wait, good := range map[int]bool{-1: false, 0: true, MaxWait: true, MaxWait + 1: false} {
		if g, err := f.WithWait(wait); (err == nil) != good || good && g.Wait != wait {
			t.Errorf("%d s: %v", wait, err)
		}
	}
	if b, _ := json.Marshal(f); string(b) != func() string { b, _ := json.Marshal(two()); return string(b) }() {
		t.Errorf("the facts were changed: %s", b)
	}
}

func TestRecovery(t *testing.T) {
	f := two()
	parked := f.Parked("a", "Parked recovery", 12345)
	if r := parked.Recovery; !r.Parked || r.InUse || r.Volume != "a" || r.Folder != "Parked recovery" || r.Bytes != 12345 || r.Partition != "r" {
		t.Errorf("parked: %+v", r)
	}
	if g := parked.Gone("r"); !g.Recovery.Parked || g != parked {
		t.Errorf("parked, and its partition gone: %+v", g.Recovery)
	}
	if g := f.Gone("R"); g.Recovery.InUse || g.Recovery.Partition != "r" || g.Letters["b"] != "D" {
		t.Errorf("gone: %+v", g)
	}
	if r := parked.RecoveryFrom("n").Recovery; !r.InUse || r.Parked || r.Partition != "n" || r.Volume != "" {
		t.Errorf("from a new place: %+v", r)
	}
	// What is written out is read in again as it was.
	b, err := json.Marshal(parked)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(b)
	if err != nil || *again.Recovery != *parked.Recovery {
		t.Errorf("%+v, %v", again, err)
	}
}
