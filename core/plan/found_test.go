package plan

import (
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

// TestBringBackFound brings finds back on the reception PC's drive, whose gap lies at its end.
func TestBringBackFound(t *testing.T) {
	l := sample.With(sample.Reception(), 3, func(s *layout.Span) { s.Volume.ShrinkCut, s.Volume.ShrinkMin = s.Bytes, s.Bytes })
	gap := l.Spans[len(l.Spans)-2]
	if gap.Why != layout.Free {
		t.Fatalf("%+v", gap)
	}
	at := func(from, n disk.LBA, title string) layout.Span {
		return layout.Span{Kind: layout.Partition, Start: from, End: from + n - 1, Bytes: n.Offset(512), Role: layout.Data, Volume: &volume.Info{Kind: volume.NTFS, Label: title, TotalBytes: n.Offset(512)}}
	}
	gib := disk.GiB.At(512)
	free := at(gap.Start.Offset(512).Up(disk.Grid).At(512), 10*gib, "Plots")
	last := *spanOf(l, 6)
	corner := at(last.End+1-gib, 12*gib, "Corner")
	far := at(spanOf(l, 3).Start+gib, 10*gib, "Inside")
	facts := Facts{NewIDs: StandIns(), NewID: StandIns()[0], Finds: map[disk.LBA]Found{
		free.Start: {Span: free, Doubtful: "Its files cannot be listed."}, corner.Start: {Span: corner, Mend: "rebuilt", Stand: Stand{Used: 9 * disk.MiB, Taken: disk.MiB, Untouched: 8 * disk.MiB, Wrong: []string{"a", "b"}}}, far.Start: {Span: far}, 77: {Span: at(77, 10, "x"), Ghost: true},
	}}
	back := func(n disk.LBA) Step { return Step{Body: BringingBack{Find: n, Told: n.Offset(512)}} }
	cols := Lay(l, facts, []Step{back(free.Start)})
	if len(cols[0].Obstacles) > 0 || codes(cols[0].Notes) != "doubtful" {
		t.Fatalf("%+v", cols[0])
	}
	p, ok := cols[0].Layout.Find(cols[0].Number)
	if !ok || p.UniqueID == "" || p.TypeName != "basic data" || p.Start != free.Start || sample.Sane(cols[0].Layout) != "" {
		t.Errorf("%+v: %s", p, sample.Sane(cols[0].Layout))
	}
	for n, want := range map[disk.LBA]string{corner.Start: "in-the-way", far.Start: "in-the-way", 77: "no-find", 78: "no-find"} {
		if c := Lay(l, facts, []Step{back(n)})[0]; codes(c.Obstacles) != want {
			t.Errorf("at %d: %+v", n, c.Obstacles)
		}
	}
	ways, no := WaysBack(l, facts, back(free.Start))
	if len(ways) != 1 || len(no) != 0 || len(ways[0].Steps) != 1 {
		t.Errorf("%+v, %+v", ways, no)
	}
	ways, no = WaysBack(l, facts, back(corner.Start))
	var titles []string
	for _, w := range ways {
		titles = append(titles, w.Title)
	}
	for _, w := range ways {
		if w.Damage == nil || !strings.Contains(w.Damage.Text, "2 files have wrong contents then: a, b.") {
			t.Errorf("%s asks for no reason: %+v", w.Title, w.Damage)
		}
	}
	if got := strings.Join(titles, "; "); len(no) != 0 || !strings.Contains(got, "ake ") || !strings.Contains(got, "then put it back") {
		t.Errorf("%q, %+v", got, no)
	}
	if ways, no = WaysBack(l, facts, back(far.Start)); len(ways) != 0 || codes(no) != "in-the-way" {
		t.Errorf("%+v, %+v", ways, no)
	}
	for _, s := range []Step{
		{Body: BringingBack{}}, {Body: BringingBack{Record: "r", Find: 1}}, {Body: BringingBack{Find: -1}},
		{Body: BringingBack{Find: 1, Told: -1}},
	} {
		if s.Valid() == nil {
			t.Errorf("%+v is taken for valid", s)
		}
	}
}
