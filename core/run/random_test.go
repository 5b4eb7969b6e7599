package run

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/zeebo/blake3"

	"jadetrail/core/carry"
	"jadetrail/core/chance"
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/script"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// tries is a source of chance, and how many of something a test tries: few, with JADETRAIL_PROVE all, or as many
// as JADETRAIL_PLANS says.
func tries(t *testing.T, few, all int) (rng *rand.Rand, wanted int) {
	wanted = few
	if os.Getenv("JADETRAIL_PROVE") != "" {
		wanted = all
	}
	if s := os.Getenv("JADETRAIL_PLANS"); s != "" {
		wanted, _ = strconv.Atoi(s)
	}
	return chance.Of(t), wanted
}

// randomDrive makes a drive of a few partitions with gaps between them: NTFS volumes with
// clusters of several sizes, FAT, and one that nothing is known of; or, of those that a
// kernel has filled, a copy of one. first are steps that this drive was made for.
func randomDrive(t *testing.T, path string, rng *rand.Rand, bases []string) (sector disk.Bytes, first []plan.Step) {
	if len(bases) > 0 && rng.IntN(2) == 0 {
		if out, err := exec.Command("cp", "--sparse=always", bases[rng.IntN(len(bases))], path).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		return 512, nil
	}
	sector = []disk.Bytes{512, 512, 4096}[rng.IntN(3)]
	im, err := disk.CreateImage(path, 200*disk.MiB, sector)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
	old := rng.IntN(3) == 0 // an MBR, with logical volumes from the second on
	at := disk.MiB
	for n := 1; n <= 2+rng.IntN(4); n++ {
		at += disk.Bytes(rng.IntN(3)*rng.IntN(9)) * disk.MiB
		size, kind := disk.Bytes(14+rng.IntN(26))*disk.MiB, rng.IntN(6)
		if kind == 0 && sector == 512 { // FAT32 has a least number of clusters
			size = 40 * disk.MiB
		}
		if at+size > 198*disk.MiB {
			break
		}
		e := table.Entry{Slot: n, TypeID: table.TypeBasic, UniqueID: uid(n), Name: fmt.Sprint("part ", n)}
		if old {
			e = table.Entry{Slot: n, TypeID: "07"}
		}
		if old && n > 1 {
			if n == 2 {
				entries = append(entries, table.Entry{Slot: 2, TypeID: "0f", Start: at.At(sector)})
			}
			e.Slot, e.Record = n+3, at.At(sector)
			at += disk.MiB
		}
		e.Start = at.At(sector)
		e.End = e.Start + size.At(sector) - 1
		entries = append(entries, e)
		w, tag := disk.NewWindow(im, at, size), fmt.Sprint("Volume ", n)
		switch {
		case kind == 0 && sector == 512:
			err = fat.Make(w, fat.Options{Label: "SMALL", Cluster: 512, Serial: uint32(n), Hidden: uint32(e.Start), Time: day, Files: files(tag, 5+rng.IntN(20))})
		case kind == 1:
			noise := make([]byte, 3*disk.MiB)
			for i := range noise {
				noise[i] = byte(rng.Uint32())
			}
			_, err = w.WriteAt(noise, int64(size/2))
		default:
			cluster := []disk.Bytes{0, 0, 4096, 16384}[rng.IntN(4)]
			in := files(tag, 5+rng.IntN(60))
			if size >= 30*disk.MiB && rng.IntN(2) == 0 {
				by, err := combed(w, ntfs.Options{Label: tag, Serial: uint64(n), Hidden: uint32(e.Start), Time: day, Files: in}, rng)
				if err != nil {
					t.Fatal(err)
				}
				first = []plan.Step{{Partition: strconv.Itoa(e.Slot), Body: plan.Shrinking{By: fmt.Sprintf("%d MiB", by/disk.MiB)}}}
				break
			}
			if rng.IntN(4) == 0 {
				in = append(in, volume.Source{Path: "Windows/System32/config/SYSTEM", Data: []byte("a system")})
			}
			if rng.IntN(2) == 0 { // nearly full
				for k := disk.Bytes(0); k < size*3/4/disk.MiB; k++ {
					b := make([]byte, disk.MiB-k*999)
					for x := 0; x < len(b); x += 16 {
						b[x] = byte(rng.Uint32())
					}
					in = append(in, volume.Source{Path: fmt.Sprintf("large %d/plate %d", k%2, k), Data: b})
				}
			}
			err = ntfs.Make(w, ntfs.Options{Label: tag, Cluster: cluster, Serial: uint64(n), Hidden: uint32(e.Start), Time: day, Files: in})
		}
		if err != nil {
			t.Fatal(err)
		}
		at += size
	}
	made := func() script.Script { return table.New(im, uid(0xd0), entries...) }
	if old {
		for i := range entries {
			if entries[i].TypeID == "0f" {
				entries[i].End = (at + disk.Bytes(rng.IntN(20))*disk.MiB).At(sector) - 1
			}
			entries[i] = table.MBREntry(entries[i], sector)
		}
		made = func() script.Script { return table.NewMBR(im, 0x7f3b1046, entries...) }
	} else {
		for i := range entries {
			entries[i] = table.NewEntry(entries[i])
		}
	}
	if err := made().Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	return sector, first
}

// combed makes an NTFS volume in which free clusters lie one by one before a file that lies in
// one piece: moved between them, the list of its stretches has no room in its record. by is how
// much shorter the volume must become for that.
func combed(w disk.Device, o ntfs.Options, rng *rand.Rand) (by disk.Bytes, err error) {
	var gone []string
	for i := range 800 {
		f := volume.Source{Path: fmt.Sprintf("comb/tooth %d", i), Data: bytes.Repeat([]byte{byte(i), byte(rng.Uint32()), 1}, 1000)}
		if o.Files = append(o.Files, f); i%2 == 0 {
			gone = append(gone, f.Path)
		}
	}
	o.Cluster = 16 * disk.KiB
	b := make([]byte, (330+rng.IntN(50))*int(o.Cluster))
	for x := 0; x < len(b); x += 16 {
		b[x] = byte(rng.Uint32())
	}
	room := max(w.Size()-27*disk.MiB, disk.MiB)
	o.Files = append(o.Files, volume.Source{Path: "comb/between", Data: b[:40000], Reserve: room}, volume.Source{Path: "comb/behind", Data: b})
	if err := ntfs.Make(w, o); err != nil {
		return 0, err
	}
	v, err := ntfs.Open(w)
	if err != nil {
		return 0, err
	}
	i, err := v.Info()
	if err != nil {
		return 0, err
	}
	s, err := v.Remove(gone, o.Time)
	if err != nil {
		return 0, err
	}
	return w.Size() - i.ShrinkCut + disk.Bytes(len(b)), s.Apply(w, nil)
}

// holding is a drive's contents: of each volume, known by its serial number, every file;
// of each partition that nothing is known of, all of it. names are what its partitions are
// known by.
type holding struct {
	disk  string            // the drive's id
	files map[string]string // by volume and path
	names map[int]string
	ids   map[int]string // their unique ids
}

func holds(t *testing.T, im *disk.Image) holding {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	h := holding{sv.Layout.DiskID, map[string]string{}, map[int]string{}, map[int]string{}}
	for _, p := range sv.Layout.Partitions() {
		h.ids[p.Number] = p.UniqueID
		switch {
		case p.Role == layout.Container:
			continue
		case sv.Volume(p.Number) == nil:
			sum := blake3.New()
			if _, err := io.Copy(sum, io.NewSectionReader(survey.Window(im, p), 0, int64(p.Bytes))); err != nil {
				t.Fatal(err)
			}
			h.names[p.Number] = fmt.Sprintf("raw %x", sum.Sum(nil)[:8])
			h.files[h.names[p.Number]+"/"] = "as it was"
			continue
		}
		h.names[p.Number] = string(p.Volume.Kind) + " " + p.Volume.Serial
		v := sv.Volume(p.Number)
		list, err := v.Files()
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			if !f.IsFile() {
				continue
			}
			r, err := v.Open(f)
			if err != nil {
				t.Fatal(err)
			}
			sum := sha256.New()
			if _, err := io.Copy(sum, io.NewSectionReader(r, 0, int64(f.Bytes))); err != nil {
				t.Fatal(err)
			}
			h.files[h.names[p.Number]+"/"+f.Path] = fmt.Sprintf("%x", sum.Sum(nil))
		}
	}
	return h
}

// of is what belongs to a name.
func (h holding) of(name string) map[string]string {
	out := map[string]string{}
	for k, v := range h.files {
		if rest, ok := strings.CutPrefix(k, name+"/"); ok {
			out[rest] = v
		}
	}
	return out
}

// player makes up plans and knows what they must lead to.
type player struct {
	rng   *rand.Rand
	turns int
	first []plan.Step // that the drive was made for
	// stash is what a deleted partition held, by its record; fresh are the records whose
	// deletion ended the last plan.
	stash map[string]map[string]string
	fresh string
	// held is what the place of a deleted partition held, by its record, in blocks of 512
	// bytes; stands counts what was told of it, in bytes.
	held   map[string][]byte
	stands map[seek.State]disk.Bytes
	// backup is one of files, with what is in it.
	backup string
	backed map[string]string
	// pc is the drive's PC, nil where nothing is known of it; hurt tells that one copy of the
	// table is damaged.
	pc   *pc.Facts
	hurt bool
	// recovery is the partition that the PC's recovery environment is in.
	recovery int
}

// aPC makes up a PC to which a drive belongs: it starts one of its volumes, offers others, and
// keeps a recovery environment in one of them.
func aPC(rng *rand.Rand, l *layout.Layout) *pc.Facts {
	f := &pc.Facts{Version: 1, State: []pc.State{pc.Off, pc.Off, pc.Running}[rng.IntN(3)], Letters: map[string]string{}, Held: map[string]string{}}
	for i, p := range l.Partitions() {
		if p.Volume == nil || p.Role == layout.Container {
			continue
		}
		f.Letters[p.UniqueID] = string(rune('D' + i))
		switch {
		case f.Start == "" && p.Volume.Kind == volume.NTFS && rng.IntN(2) == 0:
			f.Start = p.UniqueID
			f.Order = append([]pc.StartEntry{{Partition: p.UniqueID, Title: p.Title()}}, f.Order...)
		case f.Recovery == nil && p.Volume.Kind == volume.NTFS:
			f.Recovery = &pc.Recovery{Partition: p.UniqueID, InUse: true}
		case p.Role == layout.OtherSystem:
			f.Order = append(f.Order, pc.StartEntry{Partition: p.UniqueID, Title: p.Title()})
		case rng.IntN(3) == 0:
			f.Held[p.UniqueID] = "the till's program"
		}
	}
	return f
}

// onPC is a plan about the drive's PC.
func (p *player) onPC(h holding, any func() string) []plan.Step {
	wait := p.rng.IntN(30)
	switch p.rng.IntN(3) {
	case 0: // the recovery environment goes to another partition
		return []plan.Step{
			{Body: plan.Parking{}}, {Body: plan.Creation{Size: fmt.Sprintf("%d MiB", 10+p.rng.IntN(14)), Type: "recovery", Format: "ntfs", Label: "Elsewhere", As: "new"}},
			{Partition: "new", Body: plan.UsingRecovery{}}, {Body: plan.Ordering{Wait: &wait}},
		}
	case 1:
		for _, n := range slices.Sorted(maps.Keys(h.ids)) {
			if id := h.ids[n]; id != p.pc.Start && slices.ContainsFunc(p.pc.Order, func(e pc.StartEntry) bool { return e.Partition == id }) {
				return []plan.Step{{Partition: strconv.Itoa(n), Body: plan.DroppingStartEntry{}}}
			}
		}
		return []plan.Step{{Partition: any(), Body: plan.NotingIdentity{}}}
	}
	return []plan.Step{
		{Partition: any(), Body: plan.Lettering{Letter: string(rune('R' + p.rng.IntN(4)))}},
		{Partition: any(), Body: plan.Ordering{Wait: &wait}},
	}
}

// steps is a plan that may or may not be possible.
func (p *player) steps(h holding) []plan.Step {
	rng := p.rng
	p.turns++
	any := func() string { return strconv.Itoa(1 + rng.IntN(8)) }
	var out []plan.Step
	gone := map[string]bool{}
	if p.fresh != "" && rng.IntN(2) == 0 {
		return append(out, plan.Step{Body: plan.BringingBack{Record: p.fresh}})
	}
	if p.hurt {
		out = append(out, plan.Step{Body: plan.Mending{}})
	}
	if first := p.first; first != nil {
		p.first = nil
		return append(out, first...)
	}
	if p.pc != nil {
		if p.pc.State == pc.Running && rng.IntN(2) == 0 {
			out = append(out, plan.Step{Body: plan.Restarting{}})
		}
		if rng.IntN(5) == 0 {
			return append(out, p.onPC(h, any)...)
		}
	}
	if rng.IntN(300) == 0 {
		return append(out, plan.Step{Body: plan.Clearing{Scheme: []string{"gpt", "mbr"}[rng.IntN(2)], Waiver: "for the test", Release: "for the test"}}, plan.Step{Body: plan.Creation{Size: "30 MiB", Type: "basic", Format: "ntfs", Label: "Anew"}})
	}
	for i := range 1 + rng.IntN(5) {
		s, by := plan.Step{Partition: any()}, fmt.Sprintf("%d MiB", 1+rng.IntN(12))
		if rng.IntN(3) == 0 {
			by = fmt.Sprintf("%d MiB", 12+rng.IntN(20))
		}
		folder := fmt.Sprintf("Taken %d.%d", p.turns, i)
		switch rng.IntN(24) {
		case 0:
			s = plan.Step{Partition: s.Partition, Body: plan.Deletion{Waiver: "for the test", Release: "for the test", Erase: rng.IntN(3) == 0}}
		case 1, 2, 3:
			s.Body = plan.Growth{By: by}
		case 4, 5:
			s.Body = plan.Growth{By: by, Edge: "head"}
		case 6, 7:
			s.Body = plan.Shrinking{By: by}
		case 8, 9:
			s.Body = plan.Shrinking{By: by, Edge: "head"}
		case 10:
			s = plan.Step{Partition: s.Partition, Body: plan.Absorbing{Into: any(), Folder: folder, Release: "for the test"}}
		case 11:
			s = plan.Step{Body: plan.Creation{Size: by, Type: "basic", Format: []string{"ntfs", "none"}[rng.IntN(2)], Label: "Made"}}
		case 12:
			s = plan.Step{Partition: s.Partition, Body: plan.Labelling{Label: fmt.Sprintf("Named %d", p.turns)}}
		case 13:
			act := []plan.ContainerAct{plan.GrowIt, plan.ShrinkIt}[rng.IntN(2)]
			s = plan.Step{Partition: "2", Body: plan.Containing{By: "3 MiB", Act: act, Edge: []string{"", "head"}[rng.IntN(2)]}}
		case 20:
			tags := plan.Retagging{Type: []string{"basic", "oem", "linux"}[rng.IntN(3)], Release: "for the test"}
			if rng.IntN(2) == 0 {
				tags.Attributes = "0x8000000000000000"
			}
			s.Body = tags
		case 21, 23: // the one behind it
			n := 1 + rng.IntN(7)
			s = plan.Step{Partition: strconv.Itoa(n + 1), Body: plan.Absorbing{Into: strconv.Itoa(n), Folder: folder, Release: "for the test"}}
		case 22:
			if len(p.stash) > 0 {
				s = plan.Step{Body: plan.Rebuilding{Record: slices.Sorted(maps.Keys(p.stash))[rng.IntN(len(p.stash))], Size: fmt.Sprintf("%d MiB", 12+rng.IntN(20))}}
				break
			}
			s = plan.Step{Body: plan.Creation{Size: "12 MiB", Type: "basic", Format: "ntfs", Label: "Made"}}
		case 14:
			if p.backup != "" {
				s = plan.Step{Partition: s.Partition, Body: plan.CopyingBack{Backup: p.backup, Folder: folder}}
				break
			}
			fallthrough
		case 15:
			from := 1 + rng.IntN(8)
			for path := range h.of(h.names[from]) {
				if top, _, deep := strings.Cut(path, "/"); deep {
					s = plan.Step{Partition: strconv.Itoa(from), Body: plan.CopyingOut{Volume: any(), Only: []string{top}, Move: true, Folder: folder}}
					break
				}
			}
			if s.Do() == plan.CopyOut {
				break
			}
			fallthrough
		default:
			if rng.IntN(2) == 0 {
				by = "-" + by
			}
			s.Body = plan.Sliding{By: by}
		}
		// A number may be taken again by what the plan makes; which of the two is meant then is
		// not the matter here.
		if slices.ContainsFunc([]string{s.Partition, s.Other()}, func(n string) bool { return n != "" && gone[n] }) {
			continue
		}
		if s.Do() == plan.Delete || s.Do() == plan.Absorb {
			gone[s.Partition] = true
		}
		out = append(out, s)
	}
	return out
}

// led is what the drive must hold after the steps, and which partitions' contents went with
// each deletion, in their order.
func (p *player) led(h, after holding, steps []plan.Step) (map[string]string, []map[string]string) {
	now := holding{h.disk, maps.Clone(h.files), h.names, h.ids}
	name := func(s string) string {
		n, _ := strconv.Atoi(s)
		return cmp.Or(h.names[n], after.names[n], "not there any more") // what the plan makes has its name later
	}
	take := func(from string) map[string]string {
		files := now.of(from)
		maps.DeleteFunc(now.files, func(k, _ string) bool { return strings.HasPrefix(k, from+"/") })
		return files
	}
	var went []map[string]string
	for _, s := range steps {
		switch s.Do() {
		case plan.Delete:
			went = append(went, take(name(s.Partition)))
		case plan.BringBack:
			for k, v := range p.stash[s.Record()] {
				now.files[k] = v
			}
		case plan.Clear:
			clear(now.files)
		case plan.UseRecovery: // into the one volume that was not there before
			for _, made := range after.names {
				if slices.Contains(slices.Collect(maps.Values(h.names)), made) {
					continue
				}
				for k, v := range h.of(h.names[p.recovery]) {
					now.files[made+"/"+k] = v
				}
			}
		case plan.Absorb:
			files := take(name(s.Partition))
			for k, v := range files {
				now.files[name(s.Other())+"/"+s.Folder()+"/"+k] = v
			}
			went = append(went, files)
		case plan.CopyBack:
			for k, v := range p.backed {
				now.files[name(s.Partition)+"/"+s.Folder()+"/"+k] = v
			}
		case plan.CopyOut:
			top := plan.Of[plan.CopyingOut](s).Only[0] + "/"
			for k, v := range now.of(name(s.Partition)) {
				if rest, ok := strings.CutPrefix(k, top); ok {
					delete(now.files, name(s.Partition)+"/"+k)
					now.files[name(s.Other())+"/"+s.Folder()+"/"+rest] = v
				}
			}
		}
	}
	maps.DeleteFunc(now.files, func(k, _ string) bool { return strings.HasPrefix(k, "not there any more/") })
	return now.files, went
}

// TestRandomPlans carries random plans out on random drives: every file of what survives is
// the same, the drive is sound and laid out as planned. Some are stopped on the way and
// finished, or taken back as far as that can be had. With JADETRAIL_BASES, half of the drives
// are copies of images in that folder; with JADETRAIL_KEEP, every drive stays in that folder as
// the plans left it, beside a list of what it must hold.
func TestRandomPlans(t *testing.T) {
	rng, wanted := tries(t, 25, 500)
	var bases []string
	if dir := os.Getenv("JADETRAIL_BASES"); dir != "" {
		if bases, _ = filepath.Glob(filepath.Join(dir, "*.img")); len(bases) == 0 {
			t.Fatal("no images in ", dir)
		}
	}
	done, finished, back, drives, portions, combs, kinds := 0, 0, 0, 0, 0, 0, map[plan.Do]int{}
	stands := map[seek.State]disk.Bytes{}
	for done < wanted {
		dir := t.TempDir()
		s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), seed: uint64(done)}
		sector, first := randomDrive(t, s.image, rng, bases)
		im, err := disk.OpenImage(s.image, sector, true)
		if err != nil {
			t.Fatal(err)
		}
		drives++
		p := &player{rng: rng, first: first, stash: map[string]map[string]string{}, held: map[string][]byte{}, stands: stands}
		if sv, err := survey.Read(im, nil); err == nil && rng.IntN(3) == 0 {
			p.pc = aPC(rng, sv.Layout)
		}
		before := holds(t, im)
		for tries, plans := 0, 0; tries < 60 && plans < 8 && done < wanted; tries++ {
			o := s.options(im)
			o.PC, o.Serial, o.Lead = p.pc, "7f3k", true
			if p.pc != nil {
				o.SavePC = func(f *pc.Facts) error { p.pc = f; return nil }
			}
			was := p.hurtTable(t, im)
			if p.backup == "" && rng.IntN(8) == 0 {
				n := 1 + rng.IntN(6)
				if m, err := BackUp(context.Background(), o, Wanted{Partition: n, Kind: shelf.Files}, nil); err == nil {
					p.backup, p.backed = m.ID, before.of(before.names[n])
				}
			}
			combed := p.first != nil
			s.steps = p.steps(before)
			o.Plan.Steps = s.steps
			ctx, stop := context.WithCancel(context.Background())
			stops, left := rng.IntN(3) == 0, rng.IntN(6)
			o.Report = func(p carry.Progress) {
				if p.Done > p.Total {
					t.Errorf("%s of %s done: %+v of %+v", p.Done, p.Total, p, s.steps)
				}
				if p.Phase != "" || !stops {
					return
				}
				if left--; left < 0 {
					stop()
				}
			}
			known, _ := o.Records.Of(trail.Drive{DiskID: before.disk, Serial: o.Identity.Serial})
			res, err := CarryOut(ctx, o)
			stop()
			var blocked *rehearse.Blocked
			if errors.As(err, &blocked) || errors.Is(err, compile.ErrCannot) {
				p.healTable(t, im, was)
				continue
			}
			undone := false
			if errors.Is(err, carry.ErrStopped) {
				undo := rng.IntN(2) == 0
				again := s.options(im)
				again.PC, again.SavePC, stops, again.Report = nil, o.SavePC, false, o.Report
				var r *Result
				r, err = Resume(context.Background(), again, undo)
				if errors.Is(err, carry.ErrNoReturn) {
					r, err = Resume(context.Background(), again, false)
				}
				if undone = err == nil && r.Undone; undone {
					back++
				} else {
					finished++
				}
			}
			if err != nil {
				t.Fatalf("%+v: %v", s.steps, err)
			}
			if undone {
				p.healTable(t, im, was)
			}
			p.hurt = false
			done++
			plans++
			if res != nil && slices.ContainsFunc(res.Arrivals, func(a ran.Arrival) bool { return a.Portion > 1 }) {
				portions++
			}
			want, after := before.files, holds(t, im)
			if p.fresh = ""; !undone {
				if combed {
					combs++
				}
				var went []map[string]string
				want, went = p.led(before, after, s.steps)
				for _, x := range s.steps {
					kinds[x.Do()]++
					if x.Erases() {
						kinds["(erased)"]++
					}
				}
				last := s.steps[len(s.steps)-1]
				n, _ := strconv.Atoi(last.Partition)
				if name := before.names[n]; len(went) == 1 && name != "" && (last.Do() == plan.Delete && !last.Erases() || last.Do() == plan.Absorb) {
					p.fresh = newRecord(t, o.Records, before.disk, known)
					p.stash[p.fresh] = map[string]string{}
					for k, v := range went[0] {
						p.stash[p.fresh][name+"/"+k] = v
					}
				}
			}
			if !undone && p.fresh != "" && s.steps[len(s.steps)-1].Do() == plan.Delete {
				rec, _, err := o.Records.Load(p.fresh)
				if err != nil {
					t.Fatal(err)
				}
				if p.held[rec.ID], err = disk.ReadFull(im, rec.Span.Start.Offset(sector), rec.Span.Bytes); err != nil {
					t.Fatal(err)
				}
			}
			p.standing(t, o, im)
			maps.DeleteFunc(after.files, func(k, _ string) bool { return strings.HasPrefix(k, "raw ") && want[k] == "" }) // made without a volume
			if !maps.Equal(want, after.files) {
				for k := range want {
					if want[k] != after.files[k] {
						t.Errorf("%s", k)
					}
				}
				t.Fatalf("%+v: %d files expected, %d there; undone: %v", s.steps, len(want), len(after.files), undone)
			}
			before = after
			sv, err := survey.Read(im, nil)
			if err != nil || sv.Check().FirstError() != nil {
				t.Fatalf("%+v: %v, %v", s.steps, err, sv.Check().FirstError())
			}
		}
		if to := os.Getenv("JADETRAIL_KEEP"); to != "" {
			keep(t, im, s.image, filepath.Join(to, fmt.Sprintf("%d-drive-%03d", sector, drives)), before)
		}
		im.Close()
		os.RemoveAll(dir)
	}
	t.Logf("of what deleted partitions held: %v", stands)
	t.Logf("%d plans on %d drives, %v; %d in portions, %d into single clusters, %d stopped and finished, %d taken back", done, drives, kinds, portions, combs, finished, back)
}

// standing compares what is told of the places of deleted partitions with what they hold: what
// is said to be untouched must be as it was.
func (p *player) standing(t *testing.T, o Options, im *disk.Image) {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	for id, was := range p.held {
		rec, _, err := o.Records.Load(id)
		if err != nil {
			t.Fatal(err)
		}
		stand, err := facts.StandOf(o.Sources, sv, rec, nil)
		if err != nil {
			t.Fatal(err)
		}
		start := rec.Span.Start.Offset(im.SectorBytes())
		for _, x := range stand.Pieces {
			p.stands[x.State] += x.Len
			if x.State != seek.Untouched {
				continue
			}
			now, err := disk.ReadFull(im, x.Off, x.Len)
			if err != nil || !bytes.Equal(now, was[x.Off-start:x.Off-start+x.Len]) {
				t.Fatalf("record %s: %d bytes at %d are said to be untouched, and are not (%v)", id, x.Len, x.Off, err)
			}
		}
		if stand.Untouched+stand.Taken+stand.Unknown != stand.Used || stand.Used > rec.Span.Bytes {
			t.Fatalf("record %s: %+v", id, stand)
		}
	}
}

// hurtTable now and then damages one copy of the table, so that it is to be mended. It returns
// what was there.
func (p *player) hurtTable(t *testing.T, im *disk.Image) []byte {
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p.recovery = 0
	if p.pc != nil && p.pc.Recovery != nil {
		for _, x := range sv.Layout.Partitions() {
			if strings.EqualFold(x.UniqueID, p.pc.Recovery.Partition) {
				p.recovery = x.Number
			}
		}
	}
	if p.hurt = sv.Layout.Scheme == "gpt" && p.rng.IntN(12) == 0; !p.hurt {
		return nil
	}
	sec := sv.Layout.Sector
	was, err := disk.ReadFull(im, im.Size()-sec, sec)
	if err == nil {
		_, err = im.WriteAt(make([]byte, sec), int64(im.Size()-sec))
	}
	if err != nil {
		t.Fatal(err)
	}
	return was
}

// healTable puts it back where nothing has mended it.
func (p *player) healTable(t *testing.T, im *disk.Image, was []byte) {
	if p.hurt = false; was == nil {
		return
	}
	if _, err := im.WriteAt(was, int64(im.Size())-int64(len(was))); err != nil {
		t.Fatal(err)
	}
}

// newRecord is the record that was not known before.
func newRecord(t *testing.T, of trail.Records, drive string, known []*trail.Record) string {
	t.Helper()
	all, err := of.Of(trail.Drive{DiskID: drive})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range all {
		if !slices.ContainsFunc(known, func(k *trail.Record) bool { return k.ID == r.ID }) {
			return r.ID
		}
	}
	return ""
}

// keep leaves a drive for another judge, with the sector (of 512 bytes) at which each
// volume begins, and hash and path of each file that must be in it.
func keep(t *testing.T, im *disk.Image, image, to string, h holding) {
	t.Helper()
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, p := range sv.Layout.Partitions() {
		if sv.Volume(p.Number) == nil {
			continue
		}
		for path, sum := range h.of(h.names[p.Number]) {
			fmt.Fprintf(&b, "file\t%d\t%s\t%s\n", p.Start.Offset(sv.Layout.Sector)/512, sum, path)
		}
	}
	if err := os.WriteFile(to+".tsv", []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "--sparse=always", image, to+".img").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}
