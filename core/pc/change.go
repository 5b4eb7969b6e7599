package pc

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// MaxWait is the longest that a PC asks which system to start, in seconds.
const MaxWait = 999

// ErrOrder is returned for a start order that a PC cannot have.
var ErrOrder = errors.New("the start order cannot be so")

// InOrder tells whether the PC offers to start the system in a partition.
func (f *Facts) InOrder(id string) bool { return f.entry(id) >= 0 }

func (f *Facts) entry(id string) int {
	return slices.IndexFunc(f.Order, func(e StartEntry) bool { return strings.EqualFold(e.Partition, id) })
}

// Starts tells whether a partition holds the system that the PC starts by default.
func (f *Facts) Starts(id string) bool { return f.Start != "" && strings.EqualFold(f.Start, id) }

// WithoutEntry returns the facts with a system taken out of the start order. The one
// that the PC starts by default stays.
func (f *Facts) WithoutEntry(id string) (*Facts, error) {
	if f.Starts(id) {
		return nil, fmt.Errorf("%w: the PC starts this system by default", ErrOrder)
	}
	i := f.entry(id)
	if i < 0 {
		return nil, fmt.Errorf("%w: the PC does not offer to start this system", ErrOrder)
	}
	out := *f
	out.Order = slices.Delete(slices.Clone(f.Order), i, i+1)
	return &out, nil
}

// WithStart returns the facts with a system as the one that the PC starts by default; it
// gets an entry with the title when it has none.
func (f *Facts) WithStart(id, title string) *Facts {
	out := *f
	e := StartEntry{Partition: id, Title: title}
	if i := f.entry(id); i >= 0 {
		e = f.Order[i]
	}
	out.Start, out.Order = id, []StartEntry{e}
	for _, x := range f.Order {
		if !strings.EqualFold(x.Partition, id) {
			out.Order = append(out.Order, x)
		}
	}
	return &out
}

// WithoutRestorePoints returns the facts with no earlier states kept of a volume.
func (f *Facts) WithoutRestorePoints(id string) *Facts {
	out := *f
	out.RestorePoints = slices.DeleteFunc(slices.Clone(f.RestorePoints), func(x string) bool { return strings.EqualFold(x, id) })
	return &out
}

// WithWait returns the facts with another time, in seconds from 0 to MaxWait, for which
// the PC asks which system to start.
func (f *Facts) WithWait(seconds int) (*Facts, error) {
	if seconds < 0 || seconds > MaxWait {
		return nil, fmt.Errorf("%w: it waits from 0 to %d seconds, not %d", ErrOrder, MaxWait, seconds)
	}
	out := *f
	out.Wait = seconds
	return &out, nil
}

// Parked returns the facts with the recovery environment, which must be known, parked in
// a folder of a volume, where it takes about the given bytes.
func (f *Facts) Parked(volume, folder string, bytes int64) *Facts {
	out, r := *f, *f.Recovery
	r.InUse, r.Parked, r.Volume, r.Folder, r.Bytes = false, true, volume, folder, bytes
	out.Recovery = &r
	return &out
}

// RecoveryFrom returns the facts with the recovery environment in use from a partition.
func (f *Facts) RecoveryFrom(id string) *Facts {
	out := *f
	out.Recovery = &Recovery{Partition: id, InUse: true}
	return &out
}

// Gone returns the facts after a partition's deletion: its system is no longer offered,
// and a recovery environment that was in use from it is not in use. Its letter stays
// noted: it is given again when the partition comes back.
func (f *Facts) Gone(id string) *Facts {
	i, r := f.entry(id), f.Recovery
	uses := r != nil && r.InUse && strings.EqualFold(r.Partition, id)
	if i < 0 && !uses {
		return f
	}
	out := *f
	if i >= 0 {
		out.Order = slices.Delete(slices.Clone(f.Order), i, i+1)
	}
	if uses {
		out.Recovery = &Recovery{Partition: r.Partition}
	}
	return &out
}

// Renamed returns the facts with a partition known by another id: on an old table that is
// the drive's signature and the place where it begins.
func (f *Facts) Renamed(from, to string) *Facts {
	out := *f
	name := func(id string) string {
		if strings.EqualFold(id, from) {
			return to
		}
		return id
	}
	names := func(in map[string]string) map[string]string {
		if in == nil {
			return nil
		}
		m := make(map[string]string, len(in))
		for id, x := range in {
			m[name(id)] = x
		}
		return m
	}
	list := func(in []string) []string {
		m := slices.Clone(in)
		for i := range m {
			m[i] = name(m[i])
		}
		return m
	}
	out.Start = name(f.Start)
	out.Order = slices.Clone(f.Order)
	for i := range out.Order {
		out.Order[i].Partition = name(out.Order[i].Partition)
	}
	out.Letters, out.Wanted, out.Held, out.Loses = names(f.Letters), names(f.Wanted), names(f.Held), names(f.Loses)
	out.RestorePoints, out.Hibernated = list(f.RestorePoints), list(f.Hibernated)
	if f.Recovery != nil {
		r := *f.Recovery
		r.Partition, r.Volume = name(r.Partition), name(r.Volume)
		out.Recovery = &r
	}
	return &out
}
