package ran

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"jadetrail/core/disk"
	"jadetrail/core/script"
)

// placesFile keeps, in a run's folder, where the run writes, step by step.
const placesFile = "places.json"

// Places is where a run writes, in bytes of the drive.
type Places struct {
	Version int            `json:"version"`
	Steps   [][]disk.Range `json:"steps"`
	// Unkept are the places of which undo does not bring back what was there.
	Unkept []disk.Range `json:"unkept"`
}

// NotePlaces keeps where a script writes, before it does.
func NotePlaces(dir string, s script.Script, steps int) error {
	byStep := make([]script.Script, steps)
	for _, op := range s {
		if op.Step >= 0 && op.Step < steps {
			byStep[op.Step] = append(byStep[op.Step], op)
		}
	}
	out := Places{Version: 2, Steps: make([][]disk.Range, steps), Unkept: []disk.Range{}}
	for i, part := range byStep {
		out.Steps[i] = part.Places(0)
	}
	for _, r := range s.Unkept() {
		out.Unkept = append(out.Unkept, disk.Range{Start: r.Start, End: r.End})
	}
	b, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, placesFile), b)
}

// Wrote is where a run wrote. ok is false for a run of which that was not kept. An earlier version of
// this program kept the steps alone; then nothing counts as brought back by undo.
func Wrote(dir string) (out Places, ok bool, err error) {
	b, err := os.ReadFile(filepath.Join(dir, placesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return out, false, nil
	}
	if err != nil {
		return out, false, err
	}
	if json.Unmarshal(b, &out) == nil && out.Version == 2 {
		return out, true, nil
	}
	out = Places{}
	if err := json.Unmarshal(b, &out.Steps); err != nil {
		return out, false, fmt.Errorf("where the run %s wrote cannot be read: %w", filepath.Base(dir), err)
	}
	out.Unkept = out.From(0)
	return out, true, nil
}

// From are the places of the steps from one on.
func (p *Places) From(step int) (out []disk.Range) {
	for i, part := range p.Steps {
		if i >= step {
			out = append(out, part...)
		}
	}
	return out
}
