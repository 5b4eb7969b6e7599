package ran

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// Ended is how a run came to its end.
type Ended string

// The ends.
const (
	EndDone   Ended = "done"
	EndUndone Ended = "undone"
	EndVoid   Ended = "void" // nothing was written to the drive
	EndLeft   Ended = "left" // neither finished nor taken back: the drive stays as it is
)

// Took is how long a run was at its parts, in seconds. Of a run that was cut short and
// finished, only what came after.
type Took struct {
	Prepare  float64 `json:"prepare"`   // reading, and doing every step on a copy
	Write    float64 `json:"write"`     // journal, writing, making it durable
	ReadBack float64 `json:"read_back"` // of what was moved
	Prove    float64 `json:"prove"`     // reading the drive again, and comparing
}

// Report is what a run says of itself when it has ended.
type Report struct {
	Ended Ended     `json:"ended"`
	Time  time.Time `json:"time"`
	Took  Took      `json:"took"`
	// Rewritten is what the plan puts in its place, Written what of it was written now.
	Rewritten disk.Bytes    `json:"bytes_rewritten"`
	Written   disk.Bytes    `json:"bytes_written"`
	Zeroed    disk.Bytes    `json:"bytes_zeroed"` // and what it makes zeros besides
	Proof     string        `json:"proof,omitempty"`
	Volumes   []VolumeState `json:"volumes,omitempty"` // as they check afterwards
	Start     []plan.Check  `json:"start,omitempty"`   // whether the PC will start
	Good      bool          `json:"good"`              // the state was marked as good
	Why       string        `json:"why,omitempty"`     // or else why not
	Compared  *Compared     `json:"compared,omitempty"`
	// Closing are the entries of the trail that end the run.
	Closing []trail.Entry `json:"closing,omitempty"`
}

// VolumeState is how a volume checks after a run.
type VolumeState struct {
	Number int        `json:"partition"`
	Title  string     `json:"title"`
	Sound  bool       `json:"sound"`
	Text   string     `json:"text,omitempty"`
	Used   disk.Bytes `json:"used_bytes"`
}

// Compared is what reading every file before and after a run showed.
type Compared struct {
	Files int        `json:"files"`
	Bytes disk.Bytes `json:"bytes"`
	// Unread could not be read before, and so not be compared.
	Unread int `json:"unread,omitempty"`
}

// Read returns what is known of a run, by its id: how it was begun, and its report, nil
// while it has none. ErrNothing when there is no such run.
func Read(runs, id string) (*Meta, *Report, error) {
	if id == "" || id != filepath.Base(id) {
		return nil, nil, ErrNothing
	}
	b, err := os.ReadFile(filepath.Join(runs, id, MetaFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, ErrNothing
	}
	var m Meta
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	if err == nil && !m.whole() {
		err = fmt.Errorf("%s does not say what the run was", MetaFile)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the run %s cannot be read: %w", id, err)
	}
	b, err = os.ReadFile(filepath.Join(runs, id, EndedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return &m, nil, nil
	}
	var r Report
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the run %s cannot be read: %w", id, err)
	}
	return &m, &r, nil
}

// WriteReport ends a run in its folder, durably.
func WriteReport(runs, run string, at time.Time, r *Report) error {
	r.Time = at
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(runs, run, EndedFile), b)
}
