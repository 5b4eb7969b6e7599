package layout

import (
	"encoding/json"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

const sec = 512

func part(n int, start, end disk.LBA) Span {
	return Span{Kind: Partition, Number: n, Start: start, End: end, Bytes: (end - start + 1).Offset(sec), UniqueID: string(rune('a' + n)), Role: Data}
}

func gpt(size disk.Bytes, parts ...Span) *Layout {
	l := &Layout{Scheme: "gpt", Size: size, Sector: sec, FirstUsable: 34, LastUsable: size.At(sec) - 34}
	return l.With(parts)
}

func TestGapsAreExplained(t *testing.T) {
	const mib = 2048 // sectors
	l := gpt(100*disk.MiB, part(2, 40*mib, 50*mib-1), part(1, mib, 40*mib-1), part(3, 50*mib+100, 60*mib-1))
	type span struct {
		kind       Kind
		start, end disk.LBA
		why        Why
		number     int
	}
	want := []span{
		{Gap, 0, 33, Table, 0}, {Gap, 34, mib - 1, Alignment, 0}, {Partition, mib, 40*mib - 1, "", 1}, {Partition, 40 * mib, 50*mib - 1, "", 2},
		{Gap, 50 * mib, 50*mib + 99, Alignment, 0}, {Partition, 50*mib + 100, 60*mib - 1, "", 3}, {Gap, 60 * mib, 100*mib - 34, Free, 0}, {Gap, 100*mib - 33, 100*mib - 1, Table, 0},
	}
	if len(l.Spans) != len(want) {
		t.Fatalf("%d spans: %+v", len(l.Spans), l.Spans)
	}
	next := disk.LBA(0)
	for i, w := range want {
		s := l.Spans[i]
		if (span{s.Kind, s.Start, s.End, s.Why, s.Number}) != w {
			t.Errorf("span %d is %+v, want %+v", i, s, w)
		}
		if s.Start != next || s.Bytes != (s.End-s.Start+1).Offset(sec) {
			t.Errorf("span %d begins at %d instead of %d, with %d bytes", i, s.Start, next, s.Bytes)
		}
		next = s.End + 1
	}
	if g, ok := l.GapAt(60*mib, 0); !ok || l.Room(g) != 39*disk.MiB {
		t.Errorf("the gap has room for %s", l.Room(g))
	}
	if _, ok := l.GapAt(50*mib, 0); ok {
		t.Error("what alignment left over was taken for free")
	}
	if _, ok := l.Find(9); ok {
		t.Error("found a partition that does not exist")
	}
	empty := gpt(100 * disk.MiB)
	if len(empty.Partitions()) != 0 || empty.Spans[1].Why != Free {
		t.Errorf("an empty drive: %+v", empty.Spans)
	}
}

func TestOverlappingPartitionsHaveNoGapBetween(t *testing.T) {
	l := gpt(100*disk.MiB, part(1, 2048, 20479), part(2, 10240, 14335), part(3, 40960, 50000))
	for _, s := range l.Spans {
		if s.Kind == Gap && s.Why == Free && s.Start < 20480 {
			t.Errorf("a gap inside a partition: %+v", s)
		}
	}
	if _, ok := l.GapAt(20480, 0); !ok {
		t.Error("the gap behind the longer one is missing")
	}
}

func TestDiffer(t *testing.T) {
	make := func() *Layout {
		a, b := part(1, 2048, 4095), part(2, 4096, 8191)
		a.Volume = &volume.Info{Kind: volume.NTFS, Label: "X", TotalBytes: 100, UsedBytes: 5}
		return gpt(100*disk.MiB, a, b)
	}
	change := func(n int, f func(s *Span)) func(l *Layout) *Layout {
		return func(l *Layout) *Layout {
			ps := l.Partitions()
			f(&ps[n-1])
			return l.With(ps)
		}
	}
	for name, c := range map[string]struct {
		f    func(l *Layout) *Layout
		says string
	}{
		"nothing":       {func(l *Layout) *Layout { return l }, ""},
		"fuller":        {change(1, func(s *Span) { v := *s.Volume; v.UsedBytes = 50; s.Volume = &v }), ""},
		"moved":         {change(2, func(s *Span) { s.Start, s.End = s.Start+8, s.End+8 }), "Partition 2 lies at"},
		"retagged":      {change(1, func(s *Span) { s.Attributes = "0x1" }), "another type"},
		"relabelled":    {change(1, func(s *Span) { v := *s.Volume; v.Label = "Y"; s.Volume = &v }), `"Y"`},
		"formatted":     {change(1, func(s *Span) { s.Volume = nil }), "appeared or is gone"},
		"one less":      {func(l *Layout) *Layout { return l.With(l.Partitions()[:1]) }, "Partition 2"},
		"one more":      {func(l *Layout) *Layout { return l.With(append(l.Partitions(), part(3, 10000, 20000))) }, "is new"},
		"another drive": {func(l *Layout) *Layout { l.DiskID = "other"; return l }, "another drive"},
	} {
		got := strings.Join(Differ(make(), c.f(make())), " ")
		if (got == "") != (c.says == "") || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func TestJSONRoundTrip(t *testing.T) {
	a := part(1, 2048, 4095)
	a.Volume = &volume.Info{Kind: volume.FAT32, Label: "SYSTEM", Use: []byte{1, 2}}
	l := gpt(100*disk.MiB, a)
	b, err := json.Marshal(l)
	if err != nil {
		t.Fatal(err)
	}
	var back Layout
	if err := json.Unmarshal(b, &back); err != nil || len(Differ(l, &back)) > 0 || len(back.Spans) != len(l.Spans) {
		t.Errorf("%v, %v", err, Differ(l, &back))
	}
	var raw struct{ Spans []map[string]any }
	json.Unmarshal(b, &raw)
	if g := raw.Spans[0]; len(g) != 6 || g["why"] != "table" {
		t.Errorf("a gap is %v", g)
	}
}

func TestTitles(t *testing.T) {
	for want, s := range map[string]Span{
		"EFI": {Role: EFI, Volume: &volume.Info{Label: "SYSTEM"}}, "X: X-rays": {Role: Data, Letter: "X", Volume: &volume.Info{Label: "X-rays"}},
		"C: System": {Role: StartSystem, Letter: "C"}, "Data": {Role: Data}, "Recovery": {Role: Recovery, Volume: &volume.Info{Label: "R"}},
	} {
		if s.Title() != want {
			t.Errorf("%q, want %q", s.Title(), want)
		}
	}
}
