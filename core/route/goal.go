package route

import (
	"errors"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
)

// Goal is what the technician wants. One of Receiver, Remove, Combine, Room and Clear says
// what it is about.
type Goal struct {
	Version int `json:"version"`
	// A volume gains an amount. Of what stands in its way only MayDelete may go, and without
	// that list only what holds nobody's files; Keep stays in any case.
	Receiver  string   `json:"receiver,omitempty"`
	Gain      string   `json:"gain,omitempty"`
	Keep      []string `json:"keep,omitempty"`
	MayDelete []string `json:"may_delete,omitempty"`
	Givers    []string `json:"givers,omitempty"`
	// Unwanted ones go, and their space is given to a volume.
	Remove []string `json:"remove,omitempty"`
	GiveTo string   `json:"give_to,omitempty"`
	// Two become one; room for a new volume; the whole drive becomes plain storage.
	Combine   []string `json:"combine,omitempty"`
	KeepPlace string   `json:"keep_place,omitempty"`
	Room      string   `json:"room,omitempty"`
	Clear     bool     `json:"clear,omitempty"`
	// One becomes several: it gives up the sizes of the new ones.
	Split string   `json:"split,omitempty"`
	Parts []string `json:"parts,omitempty"`
	// ShareWith are more volumes that the space of the unwanted ones is shared with.
	ShareWith []string `json:"share_with,omitempty"`
	// Recovery is what becomes of the recovery partition: a new place, or none.
	Recovery RecoveryWish `json:"recovery,omitempty"`
	// AtMost is how much may be rewritten; NoSecondDrive tells that nothing can be put aside
	// on another drive.
	AtMost        string `json:"at_most,omitempty"`
	NoSecondDrive bool   `json:"no_second_drive,omitempty"`
}

// RecoveryWish is what is wanted of a recovery partition.
type RecoveryWish string

// The wishes.
const (
	NewPlace RecoveryWish = "elsewhere"
	Without  RecoveryWish = "without"
)

// ErrGoal is returned for a goal that cannot be read.
var ErrGoal = errors.New("the goal cannot be read")

// Unreadable is why a goal cannot be read. It is an ErrGoal.
type Unreadable struct{ Why string }

// Error says it.
func (u *Unreadable) Error() string { return ErrGoal.Error() + ": " + u.Why }

// Unwrap makes it an ErrGoal.
func (u *Unreadable) Unwrap() error { return ErrGoal }

func unreadable(format string, args ...any) error { return &Unreadable{fmt.Sprintf(format, args...)} }

// ParseGoal reads a goal from JSON, at most 1 MiB of it.
func ParseGoal(b []byte) (*Goal, error) {
	var g Goal
	if err := plan.Decode(b, &g, ErrGoal); err != nil {
		return nil, err
	}
	return &g, g.valid()
}

func (g *Goal) valid() error {
	about := 0
	for _, k := range kinds {
		if k.wanted(g) {
			about++
		}
	}
	switch {
	case g.Version != 1:
		return unreadable("its version is %d, not 1", g.Version)
	case about != 1:
		return unreadable("it is about %d things; one of receiver, remove, combine, split, room, recovery and clear says what is wanted", about)
	case g.Receiver != "" && g.Gain == "":
		return unreadable("it does not say what %s is to gain", g.Receiver)
	case len(g.Remove)+len(g.Keep)+len(g.MayDelete)+len(g.Givers)+len(g.Combine)+len(g.ShareWith) > 1000:
		return unreadable("it names too many partitions")
	}
	for _, text := range append([]string{g.Gain + g.Room, g.AtMost}, g.Parts...) {
		if text == "" {
			continue
		}
		if _, err := disk.ParseAmount(text, 1<<60); err != nil {
			return unreadable("%v", err)
		}
	}
	switch {
	case len(g.Combine) > 0 && (len(g.Combine) != 2 || g.KeepPlace != "" && !slices.Contains(g.Combine, g.KeepPlace)):
		return unreadable("two volumes are combined, and one of them keeps its place")
	case g.Split != "" && (len(g.Parts) == 0 || len(g.Parts) > 20):
		return unreadable("it names the sizes of %d new volumes; 1 to 20 can be made of one", len(g.Parts))
	case g.Recovery != "" && g.Recovery != NewPlace && g.Recovery != Without:
		return unreadable("recovery is %q, not elsewhere or without", g.Recovery)
	case g.AtMost == "all" || g.AtMost == "half":
		return unreadable("what may be rewritten is a number and a unit")
	}
	return nil
}
