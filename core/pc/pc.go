// Package pc holds the facts about the PC a drive belongs to: which system it
// starts, its letters, what it holds open, and whether it is running.
package pc

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// State of the PC.
type State string

// The states.
const (
	Off     State = "off"
	Running State = "running"
)

// Facts about one PC. Partitions are named by their unique ids.
type Facts struct {
	Version int    `json:"version"`
	Name    string `json:"name"`
	State   State  `json:"state"`
	// Start is the partition of the system that the PC starts by default.
	Start string `json:"start,omitempty"`
	// StartDrive is the id of the drive whose EFI system partition the PC starts
	// from.
	StartDrive string            `json:"start_drive,omitempty"`
	Letters    map[string]string `json:"letters,omitempty"`
	// Held names, for partitions in use, what holds them open.
	Held map[string]string `json:"held,omitempty"`
}

// Parse reads facts from JSON.
func Parse(b []byte) (*Facts, error) {
	var f Facts
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return nil, fmt.Errorf("the facts about the PC cannot be read: %w", err)
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("the facts about the PC are of version %d; this program reads version 1", f.Version)
	}
	if f.State != Off && f.State != Running {
		return nil, fmt.Errorf("the facts about the PC say that it is %q; it is off or running", f.State)
	}
	return &f, nil
}
