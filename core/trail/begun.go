package trail

import (
	"errors"
	"io/fs"
	"time"
)

// Begun is a run that a trail knows to have begun and does not know to have ended.
type Begun struct {
	Run   string
	Time  time.Time
	Who   string
	Job   string
	Text  string
	Drive Drive
}

// Begins tells that with this entry a run begins.
func (e *Entry) Begins() bool { return e.Act == ActPlan && e.Run != "" }

// Ends tells that with this entry a run ends.
func (e *Entry) Ends() bool {
	switch e.Act {
	case ActDone, ActUndone, ActLeft, ActVoid:
		return e.Run != ""
	}
	return false
}

// EndID is the id of the entry that ends a run: how is done, undone, left or void. A run has at
// most one of each.
func EndID(run, how string) string { return "e-" + run + "-" + how }

// Unended picks the runs on a drive that entries, the oldest first, tell to have begun and not to
// have ended; with an empty drive those on all drives.
func Unended(entries []Entry, d Drive) []Begun {
	var out []Begun
	ended := map[string]bool{}
	for i := range entries {
		if entries[i].Ends() {
			ended[entries[i].Run] = true
		}
	}
	for i := range entries {
		e := &entries[i]
		if e.Begins() && !ended[e.Run] && (d == Drive{} || d.Same(e.Drive)) {
			out = append(out, Begun{e.Run, e.Time, e.Who, e.Job, e.Text, e.Drive})
		}
	}
	return out
}

// Unended implements Sink.
func (t File) Unended(d Drive) ([]Begun, error) {
	all, err := t.Read()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return Unended(all, d), err
}

// RecordHash implements Sink.
func (t File) RecordHash(record string) (string, error) {
	all, err := t.Read()
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return RecordHash(all, record), err
}

// RecordHash is the hash that the newest entry has of a record, "" where none has one.
func RecordHash(entries []Entry, record string) string {
	hash, newest := "", int64(-1)
	for _, e := range entries {
		if e.Record == record && e.RecordHash != "" && e.Seq > newest {
			hash, newest = e.RecordHash, e.Seq
		}
	}
	return hash
}
