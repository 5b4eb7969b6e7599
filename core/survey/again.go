package survey

import (
	"maps"
	"slices"
	"sync"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sign"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// volumes are those of a drive that can be looked into, by the numbers of their partitions. Those of a drive that is
// opened again are opened when they are asked for.
type volumes struct {
	mu   sync.Mutex
	open map[int]volume.Volume
	wait map[int]*disk.Window // not yet opened
}

func (x *volumes) add(n int, v volume.Volume) {
	if x.open == nil {
		x.open = map[int]volume.Volume{}
	}
	x.open[n] = v
}

func (x *volumes) get(n int) volume.Volume {
	x.mu.Lock()
	defer x.mu.Unlock()
	if at := x.wait[n]; at != nil {
		delete(x.wait, n)
		if v, err := recognise.Reopen(at); err == nil {
			x.add(n, v)
		}
	}
	return x.open[n]
}

// relabel gives partitions other numbers.
func (x *volumes) relabel(numbers map[int]int) {
	x.open, x.wait = relabelled(x.open, numbers), relabelled(x.wait, numbers)
}

func relabelled[T any](list map[int]T, numbers map[int]int) map[int]T {
	out := map[int]T{}
	for n, v := range list {
		if to, ok := numbers[n]; ok {
			n = to
		}
		out[n] = v
	}
	return out
}

// Volume is what lies in a partition, nil where that cannot be looked into.
func (s *Survey) Volume(number int) volume.Volume { return s.volumes.get(number) }

// Volumes are all that can be looked into, by the numbers of their partitions.
func (s *Survey) Volumes() map[int]volume.Volume {
	for _, n := range slices.Collect(maps.Keys(s.volumes.wait)) {
		s.volumes.get(n)
	}
	return s.volumes.open
}

// Forget lets go of a volume: what it has read is not needed any more.
func (s *Survey) Forget(number int) {
	delete(s.volumes.open, number)
	delete(s.volumes.wait, number)
}

// Kept is what was read of a drive, without the drive. It is the same for ever, and can be shared.
type Kept struct {
	layout layout.Layout
	table  *table.Table
	sign   *sign.Sign
	inside []int     // partitions that can be looked into
	looked *sync.Map // what Remembered keeps, by what it is called
}

// Keep returns what a survey has read of its drive, for as long as nothing is written to it.
func (s *Survey) Keep() *Kept {
	inside := slices.AppendSeq(slices.Collect(maps.Keys(s.volumes.open)), maps.Keys(s.volumes.wait))
	return &Kept{s.Layout.Own(), s.Table.Own(), s.Sign, inside, &sync.Map{}}
}

// Layout is the drive as it was read, the caller's own to change.
func (k *Kept) Layout() *layout.Layout {
	l := k.layout.Own()
	return &l
}

// Sign is that of a run that was open on the drive, nil for none.
func (k *Kept) Sign() *sign.Sign { return k.sign }

// Again is the survey of a drive that is opened once more, and on which nothing was written since it was read, nor
// to what is known of its PC: whoever calls it knows that. Of the drive nothing is read before a volume is looked into.
func (k *Kept) Again(dev disk.Device) *Survey {
	s := &Survey{Table: k.table.Own(), Layout: k.Layout(), Sign: k.sign, looked: k.looked}
	s.volumes.wait = map[int]*disk.Window{}
	for _, n := range k.inside {
		if p, ok := k.layout.Find(n); ok {
			s.volumes.wait[n] = Window(dev, *p)
		}
	}
	return s
}

// Remembered is what f finds out about the drive of a survey, under a name of its own. Where the survey is one that was
// kept, f is asked once for all of them; else each time, since the drive may have changed. Nobody may write into it.
func Remembered[T any](s *Survey, name string, f func() (T, error)) (T, error) {
	if s.looked == nil {
		return f()
	}
	if x, known := s.looked.Load(name); known {
		return x.(T), nil
	}
	x, err := f()
	if err == nil {
		s.looked.Store(name, x)
	}
	return x, err
}
