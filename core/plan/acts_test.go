package plan

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/sample"
	"jadetrail/core/volume"
)

// find returns one of the acts with a partition, or with the first free gap behind
// sector 0 when number is 0.
func find(t *testing.T, l *layout.Layout, number int, f Facts, do Do, edge string) Act {
	t.Helper()
	acts := Acts(l, number, f)
	if number <= 0 {
		container, best := -number, layout.Span{Why: layout.Table}
		for _, s := range l.Spans {
			if s.Kind == layout.Gap && s.Container == container && (s.Why == layout.Free || best.Why != layout.Free) {
				best = s
			}
		}
		acts = GapActs(l, best.Start, container, f)
	}
	for _, a := range acts {
		if a.Do == do && a.Edge == edge {
			return a
		}
	}
	t.Fatalf("no act %s with partition %d", do, number)
	return Act{}
}

func ofKind(k volume.Kind) func(s *layout.Span) { return func(s *layout.Span) { s.Volume.Kind = k } }

// oldKind makes a volume FAT16 with clusters of a size.
func oldKind(cluster disk.Bytes) func(s *layout.Span) {
	return func(s *layout.Span) {
		s.Volume.Kind, s.Volume.ClusterBytes, s.Volume.Tables = volume.FAT16, cluster, &volume.Tables{Lead: disk.MiB, Bytes: 128 * disk.KiB, Copies: 2}
	}
}

// TestCatalogue has for each obstacle a drive that gives it, and its neighbour that
// does not.
func TestCatalogue(t *testing.T) {
	r, b := sample.Reception(), sample.Bakery()
	freed := r.With(append(r.Partitions()[:3:3], r.Partitions()[4:]...)) // without recovery
	three := func(extra ...layout.Span) *layout.Layout { return b.With(append(b.Partitions(), extra...)) }
	primary := func(n int, start disk.Bytes) layout.Span {
		return sample.Part(n, start, disk.GiB, layout.Data, volume.NTFS)
	}
	large := &layout.Layout{Scheme: "mbr", Size: 3 * disk.TiB, Sector: sample.Sector, FirstUsable: 1, Slots: 4, LastUsable: 1<<32 - 1}
	tail := (1<<32 - sample.At(disk.GiB) - sample.At(disk.MiB)).Offset(sample.Sector)
	toTheEnd := large.With([]layout.Span{sample.Part(1, tail, disk.GiB+disk.MiB, layout.Data, volume.NTFS), sample.Part(2, disk.MiB, tail-disk.MiB, layout.Data, volume.NTFS)})
	fullDrive := (&layout.Layout{Scheme: "gpt", Size: 10 * disk.GiB, Sector: sample.Sector, FirstUsable: 34, LastUsable: sample.At(10*disk.GiB) - 34, Slots: 128})
	fullDrive = fullDrive.With([]layout.Span{sample.Part(1, disk.MiB, 10*disk.GiB-2*disk.MiB, layout.Data, volume.NTFS)})
	hemmed := sample.With(freed, 6, func(s *layout.Span) { s.End = freed.LastUsable })
	tight := func(s *layout.Span) { s.Volume.ShrinkCut, s.Volume.ShrinkMin = s.Bytes, s.Bytes/2 }
	small := func(s *layout.Span) { s.Volume.ShrinkCut, s.Volume.ShrinkMin = s.Bytes-2*disk.MiB, s.Bytes-2*disk.MiB }
	none := Facts{}
	// What only a step can meet has its cases in TestAlteredRecord of core/run, TestObstacles, TestBringBack, TestMake, TestOnPC, TestMoves, TestJoins, TestRoutes and TestOverRecords, and TestMiddleTaken of core/run.
	seen := map[Code]bool{Unsound: true, NoFind: true, WrongContents: true, Doubted: true, NoSuch: true, BadAmount: true, NowhereToGo: true, ReleaseMissing: true, BackupMissing: true, LeadMissing: true, NotYet: true, NoBackup: true, WaiverMissing: true,
		NotParked: true, NotInOrder: true, NoSystem: true, NothingToDo: true, RecoveryInUse: true, StartEntryLeft: true, PlaceNamed: true, PathsChange: true, LessKept: true, TooMuch: true, OverRecord: true, RecordAltered: true, NotKnown: true, DamageMissing: true}
	defer func() {
		for _, code := range declared(t) {
			if !seen[code] {
				t.Errorf("%s has no case", code)
			}
		}
	}()
	for _, c := range []struct {
		code   Code
		do     Do
		edge   string
		l      *layout.Layout
		n      int
		f      Facts
		l2     *layout.Layout // the neighbour
		n2     int
		f2     Facts
		says   string
		clears string
	}{
		{InTheWay, Grow, "", r, 3, none, freed, 3, none, "(1 GiB)", "slide"},
		{InTheWay, Grow, "head", r, 5, none, freed, 5, none, "ends where it begins", "delete"},
		{GapBefore, Grow, "", hemmed, 5, none, r, 6, none, "", "slide"},
		{NoGap, Grow, "", fullDrive, 1, none, r, 6, none, "end of the drive", ""},
		{NoGap, Slide, "", r, 5, none, r, 6, none, "either side", "shrink"},
		{GapTooSmall, Create, "", fullDrive, 0, none, r, 0, none, "", ""},
		{OtherDrive, Grow, "", fullDrive, 1, Facts{Elsewhere: []Elsewhere{{"B", 100 * disk.GiB}}}, fullDrive, 1, none, "Bay B", "copy-out"},
		{OtherDrive, Combine, "", fullDrive, 1, Facts{Elsewhere: []Elsewhere{{"B", disk.GiB}}}, r, 5, none, "merged", "copy-out"},
		{NoNeighbour, Combine, "", fullDrive, 1, none, r, 5, none, "", ""},
		{Outside, Grow, "", sample.With(b, 6, func(s *layout.Span) {
			s.End = sample.At(301*disk.GiB) - 1
			s.Bytes = (s.End - s.Start + 1).Offset(sample.Sector)
		}), 6, none, b, 6, none, "container must grow", "container"},
		{Inside, Grow, "", sample.With(b.With(append(b.Partitions(), sample.Part(3, 301*disk.GiB, 199*disk.GiB, layout.Data, volume.NTFS))), 1, func(s *layout.Span) { s.End = sample.At(101*disk.GiB) - 1 }), 3, none, b.With(append(b.Partitions(), primary(3, 301*disk.GiB))), 3, none, "container must shrink", "container"},
		{HasVolumes, Delete, "", b, 2, none, b.With(b.Partitions()[:2]), 2, none, "logical volumes", "delete"},
		{FifthPrimary, Create, "", three(primary(3, 310*disk.GiB), primary(4, 320*disk.GiB)), 0, none, three(primary(3, 310*disk.GiB)), 0, none, "extended container", "logical"},
		{TableFull, Create, "", func() *layout.Layout { x := *r; x.Slots = 6; return x.With(x.Partitions()) }(), 0, none, r, 0, none, "entries", ""},
		{BeyondMBR, Grow, "", toTheEnd, 1, none, b, 6, none, "2 TiB", "change-table"},
		{BeyondMBR, Create, "", toTheEnd, 0, none, b, 0, none, "2 TiB", "change-table"},
		{TooLarge, Grow, "", sample.With(r, 6, func(s *layout.Span) { s.Volume.ClusterBytes = 3 }), 6, none, r, 6, none, "clusters", "copy-out"},
		{TooLarge, Grow, "", sample.With(r, 6, oldKind(32*disk.KiB)), 6, none, sample.With(r, 6, oldKind(256*disk.KiB)), 6, none, "larger clusters", "copy-out"},
		{TooSmall, Split, "", sample.With(r, 5, small), 5, none, r, 5, none, "give up", ""},
		{Full, Shrink, "", sample.With(r, 5, func(s *layout.Span) { s.Volume.ShrinkMin = s.Bytes }), 5, none, r, 5, none, "full", "move-files"},
		{LastCluster, Shrink, "", sample.With(r, 5, tight), 5, Facts{Insides: map[int]InsideFacts{5: {LastFile: "Full size/last.xry", Fixed: true}}}, sample.With(r, 5, tight), 5, none, "Full size/last.xry", "move-files"},
		{RestorePoints, Shrink, "", sample.With(r, 5, func(s *layout.Span) { tight(s); s.Volume.RestorePoints = true }), 5, none, sample.With(r, 5, tight), 5, none, "earlier states", "drop-restore-points"},
		{BadPlaces, Slide, "", sample.With(r, 6, func(s *layout.Span) { s.Volume.BadClusters = 3 }), 6, none, r, 6, none, "3 bad clusters", "copy-out"},
		{BadPlaces, Shrink, "", sample.With(r, 5, func(s *layout.Span) { tight(s); s.Volume.BadClusters = 1 }), 5, none, sample.With(r, 5, tight), 5, none, "Bad clusters", "copy-out"},
		{BadPlaces, Grow, "", sample.With(r, 6, func(s *layout.Span) {
			oldKind(256 * disk.KiB)(s)
			s.Volume.Tables.Bytes, s.Volume.BadClusters = 114690, 2
		}), 6, none, r, 6, none, "would have to grow", "copy-out"},
		{NotClean, Grow, "", sample.With(r, 6, func(s *layout.Span) { s.Volume.Clean = false }), 6, none, r, 6, none, "not clean", "close-volume"},
		{Hibernated, Grow, "", sample.With(r, 6, func(s *layout.Span) { s.Volume.Hibernated = true }), 6, none, r, 6, none, "hibernated", "close-volume"},
		{Hibernated, Grow, "", r, 6, Facts{Asleep: []string{"C: System"}}, r, 6, none, "C: System of the same PC", "close-volume"},
		{Hibernated, Slide, "", r, 6, Facts{Asleep: []string{"C: System"}}, r, 6, none, "hibernated", "close-volume"},
		{Hibernated, Slide, "", sample.With(r, 6, ofKind(volume.Ext4)), 6, Facts{Asleep: []string{"C: System"}}, sample.With(r, 6, ofKind(volume.Ext4)), 6, none, "C: System of the same PC", "close-volume"},
		{Sealed, Grow, "", sample.With(r, 6, ofKind(volume.Sealed)), 6, none, r, 6, none, "recovery key", "unseal"},
		{Sealed, Look, "", sample.With(r, 6, ofKind(volume.LVM)), 6, none, r, 6, none, "sealed", "unseal"},
		{SetMember, Delete, "", sample.With(r, 5, func(s *layout.Span) { s.Member = true }), 5, none, r, 5, none, "several drives", ""},
		{SetMember, Slide, "", sample.With(r, 6, ofKind(volume.Member)), 6, none, r, 6, none, "several drives", ""},
		{Held, Grow, "", sample.With(r, 6, func(s *layout.Span) { s.Held, s.Loses = "the till program", "today's sales" }), 6, none, r, 6, none, "today's sales", "free-volume"},
		{Held, Delete, "", sample.With(r, 5, func(s *layout.Span) { s.Held = "the till program" }), 5, none, r, 5, none, "till program", "switch-off"},
		{ReadOnly, Grow, "", r, 6, Facts{ReadOnly: true}, r, 6, none, "evidence", "attach"},
		{ReadOnly, Create, "", r, 0, Facts{ReadOnly: true}, r, 0, none, "evidence", "attach"},
		{TableUnsafe, Delete, "", r, 5, Facts{TableTrouble: "The copies differ."}, r, 5, none, "differ", "mend"},
		{NotResizable, Grow, "", sample.With(r, 6, ofKind(volume.Ext4)), 6, none, r, 6, none, "handled whole", "copy-out"},
		{NoVolume, Shrink, "", r, 2, none, r, 5, none, "no file system", ""},
		{NotReadable, Look, "", sample.With(r, 5, ofKind(volume.ReFS)), 5, none, sample.With(r, 5, ofKind(volume.ExFAT)), 5, none, "not opened", ""},
		{NotReadable, Look, "", sample.With(r, 5, func(s *layout.Span) { s.Volume.ClusterBytes = 0 }), 5, none, r, 5, none, "damaged", "search"},
		{IsStart, Delete, "", r, 3, none, r, 5, none, "another start system", "start-order"},
		{IsStart, Combine, "", r, 3, none, r, 5, none, "not be taken", ""},
		{OnlyEFI, Delete, "", r, 1, Facts{StartsHere: true}, r, 1, none, "cannot start", ""},
		{OnlyEFI, Delete, "", sample.With(b, 5, func(s *layout.Span) { s.Active = true }), 5, Facts{StartsHere: true}, b, 5, Facts{StartsHere: true}, "active", ""},
		{LetterTaken, Letter, "", r, 5, Facts{PC: &pc.Facts{}, Lacks: map[string]pc.Missing{"f": {Letter: "T", Holder: "card reader", Propose: "V"}}}, r, 5, Facts{PC: &pc.Facts{}, Lacks: map[string]pc.Missing{"f": {Letter: "T"}}}, "V: is free", "letter"},
		{Removable, Letter, "", r, 5, Facts{PC: &pc.Facts{}, Removable: true}, r, 5, Facts{PC: &pc.Facts{}}, "stick or card", ""},
		{NoPC, Letter, "", r, 5, none, r, 5, Facts{PC: &pc.Facts{}}, "not known", "read-facts"},
		{IsShelf, Delete, "", r, 5, Facts{Shelved: map[int]string{5: "Bay B"}}, r, 6, Facts{Shelved: map[int]string{5: "Bay B"}}, "shelf Bay B", ""},
		{NoRecord, BringBack, "", r, 0, none, r, 0, Facts{Deleted: true}, "No record", ""},
	} {
		a := find(t, c.l, c.n, c.f, c.do, c.edge)
		seen[c.code] = true
		if a.Obstacle == nil || a.Obstacle.Code != c.code {
			t.Errorf("%s, %s: %+v, %+v", c.code, c.do, a, a.Obstacle)
			continue
		}
		if !strings.Contains(a.Obstacle.Text, c.says) || a.Obstacle.Error() != a.Obstacle.Text || a.Obstacle.Partitions == nil {
			t.Errorf("%s, %s: it says %q, want %q", c.code, c.do, a.Obstacle.Text, c.says)
		}
		if c.clears != "" && !strings.Contains(strings.Join(a.Obstacle.Clears, " "), c.clears) {
			t.Errorf("%s, %s: cleared by %v, want %s", c.code, c.do, a.Obstacle.Clears, c.clears)
		}
		if a := find(t, c.l2, c.n2, c.f2, c.do, c.edge); a.Obstacle != nil && a.Obstacle.Code == c.code {
			t.Errorf("%s, %s: its neighbour has it too: %s", c.code, c.do, a.Obstacle.Text)
		}
	}
}

// declared returns every code that the package declares.
func declared(t *testing.T) (out []Code) {
	t.Helper()
	f, err := parser.ParseFile(token.NewFileSet(), "step.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	ast.Inspect(f, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok {
			if typ, ok := v.Type.(*ast.Ident); ok && typ.Name == "Code" {
				text, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
				if err != nil {
					t.Fatal(err)
				}
				out = append(out, Code(text))
			}
		}
		return true
	})
	if len(out) < 30 {
		t.Fatalf("only %d codes found", len(out))
	}
	return out
}

func TestLimits(t *testing.T) {
	r, b := sample.Reception(), sample.Bakery()
	freed := r.With(append(r.Partitions()[:3:3], r.Partitions()[4:]...))
	gap := r.Spans[len(r.Spans)-2]
	for _, c := range []struct {
		do   Do
		edge string
		l    *layout.Layout
		n    int
		want disk.Bytes
	}{
		{Grow, "", r, 6, r.Room(gap)}, {Grow, "", freed, 3, disk.GiB}, {Grow, "head", freed, 5, disk.GiB}, {Slide, "", freed, 5, disk.GiB},
		{Grow, "", b, 6, 100*disk.GiB - 2*disk.MiB}, {Create, "", b, -2, 100*disk.GiB - 3*disk.MiB}, {Create, "", r, 0, r.Room(gap)},
		{Shrink, "", sample.With(r, 5, func(s *layout.Span) { s.Volume.ShrinkMin = 10*disk.GiB + 5 }), 5, 200*disk.GiB - disk.MiB},
		{Shrink, "", sample.With(r, 5, func(s *layout.Span) { s.Volume.ShrinkCut, s.Volume.RestorePoints = 100*disk.GiB, true }), 5, 110 * disk.GiB},
	} {
		if a := find(t, c.l, c.n, Facts{}, c.do, c.edge); a.Obstacle != nil || a.Limit != c.want {
			t.Errorf("%s %s of %d: %s, %+v, want %s", c.do, c.edge, c.n, a.Limit.Exact(), a.Obstacle, c.want.Exact())
		}
	}
	if a := find(t, r, 4, Facts{StartsHere: true}, Delete, ""); codes(a.Missing) != "release-missing backup-missing" {
		t.Errorf("recovery: %v", a.Missing)
	}
	if Acts(r, 9, Facts{}) != nil || GapActs(r, 5, 0, Facts{}) != nil {
		t.Error("acts for what does not exist")
	}
}

func TestToldInOneLine(t *testing.T) {
	for _, x := range []struct{ title, detail, want string }{
		{"Grow C: System", "138 GiB to 139 GiB", "Grow C: System: 138 GiB to 139 GiB"},
		{"Give Data the letter X:", "people see it under X:", "Give Data the letter X: people see it under X:"},
	} {
		if got := (&Column{Title: x.title, Detail: x.detail}).Told(); got != x.want {
			t.Errorf("%q and %q: got %q, want %q", x.title, x.detail, got, x.want)
		}
	}
}
