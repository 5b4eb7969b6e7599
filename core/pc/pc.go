// Package pc holds the facts about the PC a drive belongs to: which systems it
// starts, its letters, its recovery environment, what it holds open, and whether it
// is running.
package pc

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jadetrail/core/form"
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
	// StartDrive is the id of the drive whose EFI system partition, or active
	// partition, the PC starts from.
	StartDrive string `json:"start_drive,omitempty"`
	// Order is what the PC offers to start, the default first; Wait is for how many
	// seconds it asks.
	Order   []StartEntry      `json:"start_order,omitempty"`
	Wait    int               `json:"wait_seconds,omitempty"`
	Letters map[string]string `json:"letters,omitempty"`
	// Devices are other holders of letters, such as card readers.
	Devices []Device `json:"devices,omitempty"`
	// Wanted are the letters that people and programs of this PC expect: a volume
	// that should be T: and is not lacks its letter, or is not there at all.
	Wanted   map[string]string `json:"wanted_letters,omitempty"`
	Recovery *Recovery         `json:"recovery,omitempty"`
	// RestorePoints are the volumes of which the PC keeps earlier states.
	RestorePoints []string `json:"restore_points,omitempty"`
	// Hibernated are the volumes of systems that were put to sleep with their
	// memory on the drive.
	Hibernated []string `json:"hibernated,omitempty"`
	// Held names, for partitions in use, what holds them open; Loses what closing
	// it by force would lose.
	Held  map[string]string `json:"held,omitempty"`
	Loses map[string]string `json:"loses,omitempty"`
}

// StartEntry is a system that the PC offers to start.
type StartEntry struct {
	Partition string `json:"partition"`
	Title     string `json:"title"`
}

// Device is something else than a volume of a drive that holds a letter.
type Device struct {
	Name   string `json:"name"`
	Letter string `json:"letter"`
}

// Recovery is the PC's recovery environment: in use from a partition, or parked on
// the system's own volume.
type Recovery struct {
	Partition string `json:"partition"`
	InUse     bool   `json:"in_use"`
	Parked    bool   `json:"parked,omitempty"`
	// Of one that is parked: the volume and the folder, and about how much room its
	// files take, in bytes. Empty where the PC parked it by itself.
	Volume string `json:"volume,omitempty"`
	Folder string `json:"folder,omitempty"`
	Bytes  int64  `json:"bytes,omitempty"`
}

// SwitchedOff are the facts of the PC when it is off: nothing holds a volume open.
func (f *Facts) SwitchedOff() *Facts {
	off := *f
	off.State, off.Held, off.Loses = Off, nil, nil
	return &off
}

// ErrFacts is returned for facts that cannot be read or do not fit each other.
var ErrFacts = errors.New("the facts about the PC cannot be read")

// maxFacts bounds what is read.
const maxFacts = 1 << 20

// Parse reads facts from JSON and checks them.
func Parse(b []byte) (*Facts, error) {
	if len(b) > maxFacts {
		return nil, fmt.Errorf("%w: they are longer than 1 MiB", ErrFacts)
	}
	var f Facts
	if err := form.Read(b, &f); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFacts, err)
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%w: they are of version %d; this program reads version 1", ErrFacts, f.Version)
	}
	if f.State != Off && f.State != Running {
		return nil, fmt.Errorf("%w: they say that the PC is %q; it is off or running", ErrFacts, f.State)
	}
	held := map[string]string{}
	for _, id := range slices.Sorted(maps.Keys(f.Letters)) {
		l := f.Letters[id]
		if !Letter(l) {
			return nil, fmt.Errorf("%w: %q is not a letter from A to Z", ErrFacts, l)
		}
		if other, twice := held[l]; twice {
			return nil, fmt.Errorf("%w: %s: is given to %s and to %s", ErrFacts, l, other, id)
		}
		held[l] = id
	}
	for _, x := range f.Devices {
		if !Letter(x.Letter) {
			return nil, fmt.Errorf("%w: %q is not a letter from A to Z", ErrFacts, x.Letter)
		}
		if other, twice := held[x.Letter]; twice {
			return nil, fmt.Errorf("%w: %s: is given to %s and to %s", ErrFacts, x.Letter, other, x.Name)
		}
		held[x.Letter] = x.Name
	}
	if f.Wait < 0 || f.Wait > MaxWait {
		return nil, fmt.Errorf("%w: a waiting time of %d s", ErrFacts, f.Wait)
	}
	return &f, nil
}

// Letter tells whether s is a drive letter, A to Z.
func Letter(s string) bool { return len(s) == 1 && s[0] >= 'A' && s[0] <= 'Z' }

// Holder names what has a letter; ok is false when it is free. id is the
// partition's, empty for another device.
func (f *Facts) Holder(letter string) (name, id string, ok bool) {
	for _, d := range f.Devices {
		if d.Letter == letter {
			return d.Name, "", true
		}
	}
	for id, l := range f.Letters {
		if l == letter {
			return "another volume", id, true
		}
	}
	return "", "", false
}

// FreeLetter proposes a letter: the first free one from wish on, then from D on. It
// is empty when none is left.
func (f *Facts) FreeLetter(wish string) string {
	from := byte('D')
	if Letter(wish) {
		from = wish[0]
	}
	for i := range byte(26) {
		l := string('A' + (from-'A'+i)%26)
		if l[0] < 'C' { // A and B are kept for what they always were
			continue
		}
		if _, _, taken := f.Holder(l); !taken {
			return l
		}
	}
	return ""
}

// ErrLetter is returned for a letter that cannot be given.
var ErrLetter = errors.New("the letter cannot be given")

// WithLetter returns the facts with a volume's letter changed; an empty letter takes
// it away. A letter that something else holds is refused with a proposal.
func (f *Facts) WithLetter(id, letter string) (*Facts, error) {
	out := *f
	out.Letters = maps.Clone(f.Letters)
	if out.Letters == nil {
		out.Letters = map[string]string{}
	}
	letter = strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(letter), ":"))
	if letter == "" {
		delete(out.Letters, id)
		return &out, nil
	}
	if !Letter(letter) {
		return nil, fmt.Errorf("%w: %q is not a letter from A to Z", ErrLetter, letter)
	}
	if strings.EqualFold(id, f.Start) && f.Letters[id] != "" && f.Letters[id] != letter {
		return nil, fmt.Errorf(
			"%w: %s: is the letter of the system that the PC starts, and it finds itself by it", ErrLetter,
			f.Letters[id],
		)
	}
	if name, other, taken := f.Holder(letter); taken && other != id {
		why := fmt.Errorf("%w: %s: is held by %s", ErrLetter, letter, name)
		if free := f.FreeLetter(letter); free != "" {
			why = fmt.Errorf("%w; %s: is free", why, free)
		}
		return nil, why
	}
	out.Letters[id] = letter
	return &out, nil
}

// WithDevice returns the facts with the device that has the letter from at another one, which is free.
func (f *Facts) WithDevice(from, to string) (*Facts, error) {
	to = strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(to), ":"))
	if !Letter(to) {
		return nil, fmt.Errorf("%w: %q is not a letter from A to Z", ErrLetter, to)
	}
	i := slices.IndexFunc(f.Devices, func(d Device) bool { return d.Letter == from && from != "" })
	if i < 0 {
		return nil, fmt.Errorf("%w: no device has the letter %.2q", ErrLetter, from)
	}
	if name, _, taken := f.Holder(to); taken && to != from {
		return nil, fmt.Errorf("%w: %s: is held by %s", ErrLetter, to, name)
	}
	out := *f
	out.Devices = slices.Clone(f.Devices)
	out.Devices[i].Letter = to
	return &out, nil
}

// Opens returns the facts with a volume at the letter that is expected of it. A device that has the letter gets one that
// is free: moved is that device with its new letter, nil for none. What another volume holds is refused.
func (f *Facts) Opens(id, letter string) (out *Facts, moved *Device, err error) {
	out = f
	if name, other, taken := f.Holder(letter); taken && other == "" {
		free := f.FreeLetter(letter)
		if free == "" {
			return nil, nil, fmt.Errorf("%w: %s: is held by %s, and no other letter is free", ErrLetter, letter, name)
		}
		if out, err = f.WithDevice(letter, free); err != nil {
			return nil, nil, err
		}
		moved = &Device{Name: name, Letter: free}
	}
	out, err = out.WithLetter(id, letter)
	return out, moved, err
}

// Missing is a letter that is expected and does not lead to its volume.
type Missing struct {
	Letter    string
	Partition string
	Holder    string // what has the letter now, empty when it is free
	Device    bool   // that is no volume
	Propose   string // a free letter, where its own is taken
	Gone      bool   // the partition itself is not on any drive
}

// MissingLetters compares the expected letters with those given. there tells which
// partitions exist: it parts a missing letter from a missing partition.
func (f *Facts) MissingLetters(there func(id string) bool) []Missing {
	var out []Missing
	for _, id := range slices.Sorted(maps.Keys(f.Wanted)) {
		want := f.Wanted[id]
		if f.Letters[id] != "" && there(id) {
			continue
		}
		m := Missing{Letter: want, Partition: id, Gone: !there(id)}
		if name, other, taken := f.Holder(want); taken && other != id {
			if m.Gone && other != "" && there(other) { // what came back in its stead has it
				continue
			}
			m.Holder, m.Device, m.Propose = name, other == "", f.FreeLetter(want)
		}
		out = append(out, m)
	}
	return out
}
