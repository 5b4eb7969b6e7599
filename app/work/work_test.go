package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"

	"jadetrail/core/disk"
)

func TestDesk(t *testing.T) {
	d := NewDesk(func(err error) string { return "It failed: " + err.Error() }, slog.New(slog.DiscardHandler))
	go1, went := make(chan bool), make(chan bool)
	if err := d.Start("A", "back-up", "Recovery", func(ctx context.Context, report func(Update)) (string, error) {
		<-go1
		report(Update{Phase: "reading", Done: 1, Total: 2})
		report(Update{Phase: "reading", Done: 2, Total: 2})
		close(went)
		<-ctx.Done()
		return "", errors.New("stopped")
	}); err != nil {
		t.Fatal(err)
	}
	if err := d.Start("A", "carry-out", "", nil); !errors.Is(err, ErrBusy) {
		t.Errorf("two pieces of work on one drive: %v", err)
	}
	c, done := d.Watch("A")
	close(go1)
	<-went
	if s := <-c; s.Done != 2 || s.Ended != nil { // two updates, the newer is seen
		t.Errorf("%+v", s)
	}
	d.Stop("A")
	if s := <-c; s.Ended == nil || s.Trouble != "It failed: stopped" {
		t.Errorf("%+v", s)
	}
	done()
	if d.Busy("A") || d.Busy("B") {
		t.Error("busy with nothing")
	}
	d.Close()
	if err := d.Start("A", "x", "", nil); err == nil {
		t.Error("work was begun on a closed desk")
	}
}

// TestMistake has the program make a mistake in the work on one drive: it ends, and that on another goes on.
func TestMistake(t *testing.T) {
	d := NewDesk(func(err error) string { return err.Error() }, slog.New(slog.DiscardHandler))
	defer d.Close()
	on := make(chan bool)
	if err := d.Start("B", "back-up", "Letters", func(context.Context, func(Update)) (string, error) { <-on; return "done", nil }); err != nil {
		t.Fatal(err)
	}
	var none []int
	if err := d.Start("A", "rehearse", "A plan", func(context.Context, func(Update)) (string, error) { return "", fmt.Errorf("%d", none[0]) }); err != nil {
		t.Fatal(err)
	}
	ended := func(key string) State {
		c, done := d.Watch(key)
		defer done()
		for {
			if s, _ := d.State(key); s.Ended != nil {
				return s
			}
			<-c
		}
	}
	if s := ended("A"); s.Trouble != ErrMistake.Error() {
		t.Errorf("%+v", s)
	}
	close(on)
	if s := ended("B"); s.Outcome != "done" {
		t.Errorf("%+v", s)
	}
}

// TestWritten tells where the present step has written, and of many places the large ones.
func TestWritten(t *testing.T) {
	var s State
	put := func(step int, start, n disk.Bytes) {
		u := Update{Step: step, Onto: disk.Range{Start: start, End: start + n}}
		s.writes(u)
		s.Step = step
	}
	for i := range disk.Bytes(10) {
		put(1, i*disk.MiB, disk.MiB)
	}
	if len(s.Written) != 1 || s.Written.Bytes() != 10*disk.MiB {
		t.Errorf("one after the other: %v", s.Written)
	}
	early := s.Written
	for i := range disk.Bytes(500) { // each apart from the next
		put(2, i*10*disk.MiB, disk.KiB)
	}
	if len(s.Written) != mostPlaces/2 || early.Bytes() != 10*disk.MiB {
		t.Errorf("%d small ones are told of; what was handed out before is %v", len(s.Written), early)
	}
	for i := range disk.Bytes(500) {
		put(2, (i*10+5)*disk.MiB, 2*disk.MiB)
	}
	if len(s.Written) != mostPlaces {
		t.Errorf("%d places are told of", len(s.Written))
	}
	put(2, 7*disk.MiB, disk.MiB) // goes on where one ends
	if len(s.Written) != mostPlaces || !s.Written.Meets(disk.Range{Start: 7 * disk.MiB, End: 8 * disk.MiB}) {
		t.Error("what goes on is not told of any more")
	}
}
