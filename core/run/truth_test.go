package run

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
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

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/carry"
	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// scale is a drive that counts what is written to it.
type scale struct {
	*disk.Image
	wrote, zeroed disk.Bytes
	sectors       disk.Set
}

func (s *scale) note(off, n disk.Bytes) {
	s.sectors = s.sectors.Put(disk.Range{Start: off.Down(sectorOf), End: (off + n).Up(sectorOf)})
}

func (s *scale) WriteAt(b []byte, off int64) (int, error) {
	s.wrote += disk.Bytes(len(b))
	s.note(disk.Bytes(off), disk.Bytes(len(b)))
	return s.Image.WriteAt(b, off)
}

func (s *scale) Zero(off, n disk.Bytes) error {
	s.zeroed += n
	s.note(off, n)
	return s.Image.Zero(off, n)
}

// madeFor is what a partition was made for, by its unique id.
type madeFor struct {
	role     layout.Role
	personal bool
}

// history is a drive over days, with a witness who sees all of it.
type truthful struct {
	*shop
	t     *testing.T
	rng   *rand.Rand
	im    *disk.Image
	w     *witness
	now   look // what the witness saw last
	roles map[string]madeFor
	// was is what the witness saw before the run that deleted a record's partition.
	was    map[string]look
	begins map[int64]bool // where volumes have begun, in bytes
	did    []string
	over   bool // nothing more can be said of this drive
	*verdicts
}

// verdicts counts what was said and how it stood with the truth.
type verdicts struct {
	said  map[string]int
	wrong map[string][]string
}

func (v *verdicts) right(what string, n int) { v.said[what] += n }

func (h *truthful) untrue(what, format string, args ...any) {
	h.wrong[what] = append(h.wrong[what], fmt.Sprintf(format, args...)+"\n  after "+strings.Join(h.did, "\n        "))
}

// theirs are somebody's files, each of which says whose it is.
func (h *truthful) theirs(most int, paths ...string) (out []volume.Source) {
	for i := range 4 + h.rng.IntN(most) {
		who := uint32(len(h.said))<<20 | h.rng.Uint32()&0xfffff | 1
		out = append(out, volume.Source{Path: fmt.Sprintf("%s/no %d.bin", paths[i%len(paths)], i), Data: writing(who, 8+h.rng.IntN(700))})
	}
	return out
}

// newDrive makes a drive with partitions of several kinds.
func (h *truthful) newDrive() {
	im, err := disk.CreateImage(h.image, 128*disk.MiB, 512)
	if err != nil {
		h.t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
	at := disk.MiB
	kinds := []struct {
		typ, label string
		want       madeFor
		fat        bool
		paths      []string
	}{
		{table.TypeBasic, "Letters", madeFor{layout.Data, true}, false, []string{"Letters", "Letters/old", "Plots"}},
		{table.TypeRecovery, "Recovery", madeFor{layout.Recovery, true}, false, []string{"Old pictures"}}, // no image: a person's
		{table.TypeOEM, "Maker", madeFor{layout.OEM, false}, false, []string{"Tools", "Drivers"}},
		{table.TypeOEM, "Maker", madeFor{layout.OEM, true}, false, []string{"Tools", "Users/Ida/Letters"}},
		{table.TypeBasic, "Pictures", madeFor{layout.Data, true}, false, []string{"Pictures"}},
		{table.TypeBasic, "STICK", madeFor{layout.Data, true}, true, []string{"Music"}},
		{table.TypeLinux, "Home", madeFor{layout.Data, true}, false, []string{"home/ida"}},
	}
	for n := 1; n <= 3+h.rng.IntN(3); n++ {
		k := kinds[h.rng.IntN(len(kinds))]
		size := disk.Bytes(12+h.rng.IntN(14)) * disk.MiB
		if k.fat { // FAT32 has a least number of clusters
			size = 40 * disk.MiB
		}
		at += disk.Bytes(h.rng.IntN(2)*h.rng.IntN(7)) * disk.MiB
		if at+size > 126*disk.MiB {
			break
		}
		id := uid(n)
		e := table.Entry{Slot: n, TypeID: k.typ, UniqueID: id, Start: at.At(512), End: (at + size).At(512) - 1, Name: k.label}
		w := disk.NewWindow(im, at, size)
		if k.fat {
			err = fat.Make(w, fat.Options{Label: k.label, Cluster: 512, Serial: h.rng.Uint32(), Hidden: uint32(e.Start), Time: day, Files: h.theirs(14, k.paths...)})
		} else {
			err = ntfs.Make(w, ntfs.Options{Label: k.label, Serial: h.rng.Uint64(), Hidden: uint32(e.Start), Time: day, Files: h.theirs(14, k.paths...)})
		}
		if err != nil {
			h.t.Fatal(err)
		}
		entries = append(entries, table.NewEntry(e))
		h.roles[id], h.begins[int64(at)] = k.want, true
		at += size
	}
	if err := table.New(im, uid(0xd0), entries...).Apply(im, nil); err != nil {
		h.t.Fatal(err)
	}
}

// at gives a run the hour that it is by now.
func (h *truthful) at(dev disk.Device) Options {
	o := h.atHour(h.options(dev))
	o.PC = nil
	return o
}

// read is the drive as the program sees it.
func (h *truthful) read() *survey.Survey {
	h.t.Helper()
	sv, err := survey.Read(h.im, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	return sv
}

// lieAt is where a file of a volume that begins at start lies on the drive.
func lieAt(f volume.File, start disk.Bytes) (out []stretch) {
	for _, e := range f.Extents {
		if e.Off < 0 {
			return nil
		}
		out = append(out, stretch{int64(start + e.Off), int64(e.Len)})
	}
	return out
}

// plan makes up a plan: what it deletes comes first, so that the witness has seen it as it went.
func (h *truthful) plan() []plan.Step {
	rng := h.rng
	any := func() string { return strconv.Itoa(1 + rng.IntN(6)) }
	amount := func() string { return fmt.Sprintf("%d MiB", 1+rng.IntN(14)) }
	waiver := []string{"", "for the test"}[rng.IntN(2)]
	if all, err := h.at(nil).Records.All(); err == nil && len(all) > 0 && rng.IntN(3) == 0 {
		x := plan.Step{Body: plan.BringingBack{Record: all[rng.IntN(len(all))].ID}}
		if rng.IntN(3) > 0 {
			x = x.Accepting("what is left is wanted")
		}
		return []plan.Step{x}
	}
	if rng.IntN(25) == 0 {
		return []plan.Step{{Body: plan.Clearing{Scheme: []string{"gpt", "mbr", "none"}[rng.IntN(3)], Release: "r", Waiver: "w"}}}
	}
	var out []plan.Step
	gone := map[string]bool{}
	for range rng.IntN(3) {
		n := any()
		if gone[n] {
			continue
		}
		gone[n] = true
		out = append(out, plan.Step{Partition: n, Body: plan.Deletion{Release: "not wanted", Waiver: waiver, Erase: rng.IntN(8) == 0}})
	}
	for i := range rng.IntN(3) {
		n := any()
		if gone[n] {
			continue
		}
		switch rng.IntN(9) {
		case 0, 1:
			out = append(out, plan.Step{Partition: n, Body: plan.Growth{By: []string{amount(), "all"}[rng.IntN(2)], Edge: []string{"", "head"}[rng.IntN(2)]}})
		case 2:
			out = append(out, plan.Step{Partition: n, Body: plan.Shrinking{By: amount(), Edge: []string{"", "head"}[rng.IntN(2)]}})
		case 3, 4:
			out = append(out, plan.Step{Partition: n, Body: plan.Sliding{By: []string{"", "-"}[rng.IntN(2)] + amount()}})
		case 5, 6:
			out = append(out, plan.Step{Body: plan.Creation{Size: amount(), Type: "basic", Format: "ntfs", Label: "Made"}})
		case 7:
			if into := any(); into != n && !gone[into] && i == 0 && len(out) == 0 {
				gone[n] = true
				out = append(out, plan.Step{Partition: n, Body: plan.Absorbing{Into: into, Folder: fmt.Sprint("Taken ", h.hours), Release: "not wanted"}})
			}
		case 8:
			out = append(out, plan.Step{Partition: n, Body: plan.Labelling{Label: fmt.Sprint("Named ", h.hours)}})
		}
	}
	return out
}

// carry carries a plan out, now and then with the power cut on the way.
func (h *truthful) carry(steps []plan.Step) (done bool) {
	h.t.Helper()
	if len(steps) == 0 {
		return false
	}
	before, was := h.now, h.read()
	known, err := h.at(h.im).Records.All()
	if err != nil {
		h.t.Fatal(err)
	}
	dev := &scale{Image: h.im}
	o := h.at(dev)
	o.Plan = &plan.Plan{Version: 1, Steps: steps}
	power := &disk.Power{}
	if h.rng.IntN(3) == 0 {
		power.At, power.Torn, power.Rand = 1+h.rng.IntN(120), h.rng.IntN(2) == 0, h.rng
		o.Dev = disk.NewFaulty(dev, power)
		o.Journal = func(f disk.File) disk.File { return disk.NewFaultyFile(f, power) }
	}
	res, err := CarryOut(context.Background(), o)
	var blocked *rehearse.Blocked
	undone := false
	switch {
	case errors.Is(err, shelf.ErrDamaged):
		h.right("runs refused for a backup that was changed", 1)
		if u, err := Open(h.at(h.im)); err != nil || u != nil {
			h.untrue("runs that the gate let through", "%s: refused, and open: %v", shortly(steps), err)
			h.over = true
		}
		return false
	case errors.As(err, &blocked), errors.Is(err, compile.ErrCannot):
		return false
	case errors.Is(err, disk.ErrPowerCut):
		h.did = append(h.did, fmt.Sprintf("cut at write %d", power.At))
		undo := h.rng.IntN(2) == 0
		r, err := Resume(context.Background(), h.at(h.im), undo)
		if errors.Is(err, carry.ErrNoReturn) {
			r, err = Resume(context.Background(), h.at(h.im), false)
		}
		if errors.Is(err, ran.ErrNothing) {
			undone = true
		} else if err != nil {
			h.untrue("runs that were cut", "%s: %v", shortly(steps), err)
			h.over = true
			return true
		} else {
			undone = r.Undone || r.Void
		}
		res = nil
	case err != nil: // the gate had let it through
		h.untrue("runs that the gate let through", "%s: %v", shortly(steps), err)
		h.over = true
		return true
	}
	h.right("runs", 1)
	h.did = append(h.did, fmt.Sprintf("hour %d: %s, undone %v", h.hours, shortly(steps), undone))
	h.now = h.w.look()
	after := h.read()
	for _, p := range after.Layout.Partitions() {
		h.begins[int64(p.Start.Offset(512))] = true
		if len(p.UniqueID) != 36 { // of an MBR, by its place
			continue
		}
		if want, there := h.roles[p.UniqueID]; !there {
			h.roles[p.UniqueID] = madeFor{p.Role, p.Volume != nil && p.Role == layout.Data}
		} else if len(steps) > 0 && steps[0].Do() == plan.Absorb && p.Number == number(steps[0].Other()) && !undone && want.role != layout.OEM {
			h.roles[p.UniqueID] = madeFor{want.role, true}
		}
	}
	h.outside(before, was, after, steps, undone)
	all, err := h.at(h.im).Records.All()
	if err != nil {
		h.t.Fatal(err)
	}
	for _, rec := range all {
		if !undone && !rec.Erased && !slices.ContainsFunc(known, func(k *trail.Record) bool { return k.ID == rec.ID }) {
			h.was[rec.ID] = before
			h.standsFor(rec, before)
		}
	}
	if res != nil {
		h.figures(dev, res, before)
		h.price(res, was)
		if steps[0].Do() == plan.BringBack {
			h.returned(res, steps[0].Record(), before)
		}
	}
	return true
}

func shortly(steps []plan.Step) string {
	var out []string
	for _, s := range steps {
		text, err := json.Marshal(s)
		if err != nil {
			panic(err)
		}
		out = append(out, string(text))
	}
	return strings.Join(out, "; ")
}

// outside holds "nothing was written outside the plan" against the bytes. Undo gives back what was in use, and
// not every free cluster, of what a plan had deleted.
func (h *truthful) outside(before look, was, is *survey.Survey, steps []plan.Step, undone bool) {
	named := map[int]bool{}
	for _, s := range steps {
		if s.Do() != plan.Delete || s.Erases() || undone {
			named[number(s.Partition)], named[number(s.Other())] = true, true
		}
	}
	for _, p := range was.Layout.Partitions() {
		q, still := is.Layout.Find(p.Number)
		if named[p.Number] || !still || q.UniqueID != p.UniqueID || q.Start != p.Start || q.End != p.End || p.Role == layout.Container {
			continue
		}
		h.right("partitions that a plan does not touch", 1)
		if n := h.now.differ(before, stretch{int64(p.Start.Offset(512)), int64(p.Bytes)}); n > 0 {
			h.untrue("written outside the plan", "%d sectors of partition %d", n, p.Number)
		}
	}
}

// figures holds what a run says it wrote against what the drive got, and against what is different.
func (h *truthful) figures(dev *scale, res *Result, before look) {
	h.right("figures of what was written", 1)
	// Beside what is told a sign is written, of 512 bytes, and its place made zeros again.
	const sign = 512 + 4096
	said, got := res.Bytes+res.Zeroed, dev.wrote+dev.zeroed
	if got != said && got != said+sign || res.Written > dev.wrote || res.Written > res.Bytes {
		h.untrue("figures of what was written", "%d bytes rewritten (%d of them written) and %d made zeros are told; the drive got %d and %d of zeros",
			int64(res.Bytes), int64(res.Written), int64(res.Zeroed), int64(dev.wrote), int64(dev.zeroed))
	}
	for _, r := range dev.sectors.Outside(disk.Range{End: h.im.Size()}) {
		if n := h.now.differ(before, stretch{int64(r.Start), int64(r.Len())}); n > 0 {
			h.untrue("figures of what was written", "%d sectors from %d on differ, and nothing was written there", n, r.Start/sectorOf)
		}
	}
}

// price holds what a plan is said to rewrite, about, against what was rewritten.
func (h *truthful) price(res *Result, was *survey.Survey) {
	h.right("prices", 1)
	price := plan.PriceOf(was.Layout, res.Columns, plan.Facts{})
	const little = 512 * disk.KiB
	if about := price.Rewritten; res.Bytes > about*5/4+little || res.Bytes < about/2-little || price.Zeroed > res.Zeroed {
		h.untrue("prices", "%s to be rewritten and %s to be made zeros were told, and %s and %s were", about, price.Zeroed, res.Bytes, res.Zeroed)
	}
}

// standsFor holds the backup that a deletion was made in the name of against what was there.
func (h *truthful) standsFor(rec *trail.Record, before look) {
	if rec.Backup == "" || rec.Waiver != "" {
		return
	}
	h.right("backups that stood for a deletion", 1)
	there := map[[2]uint32]bool{}
	images, _ := filepath.Glob(filepath.Join(h.dir, "shelf", rec.Backup, "*"))
	for _, path := range images {
		b, err := os.ReadFile(path)
		if err != nil {
			h.t.Fatal(err)
		}
		if r, err := zstd.NewReader(bytes.NewReader(b)); err == nil {
			plain, _ := io.ReadAll(r)
			for at := 0; at+sectorOf <= len(plain); at += sectorOf {
				if who, part := whose(plain[at : at+sectorOf]); who != 0 {
					there[[2]uint32{who, part}] = true
				}
			}
			r.Close()
		}
	}
	list, err := h.at(nil).Records.FileList(rec)
	if err != nil {
		h.t.Fatal(err)
	}
	for _, f := range list {
		at := lieAt(f, rec.Span.Start.Offset(512))
		who := before.file(at, int64(f.Bytes))
		if who == 0 {
			continue
		}
		for part := range uint32(f.Bytes) / sectorOf {
			if !there[[2]uint32{who, part}] {
				h.untrue("backups that stood for a deletion", "%s has not all of %s", rec.Backup, f.Path)
				break
			}
		}
	}
}

// returned holds what a bring-back says of its files against what came back.
func (h *truthful) returned(res *Result, id string, before look) {
	was, seen := h.was[id]
	c := res.Columns[0]
	p, there := c.Layout.Find(c.Number)
	if !seen || !there {
		return
	}
	rec := h.recorded(h.t, id)
	list, err := h.at(nil).Records.FileList(rec)
	if err != nil {
		h.t.Fatal(err)
	}
	var told []string
	for _, n := range c.Notes {
		told = append(told, n.Text)
	}
	all := strings.Join(told, " ")
	wrong := 0
	for _, f := range list {
		who := was.file(lieAt(f, rec.Span.Start.Offset(512)), int64(f.Bytes))
		if who == 0 || !f.IsFile() {
			continue
		}
		h.right("files that came back", 1)
		if h.now.file(lieAt(f, p.Start.Offset(512)), int64(f.Bytes)) == who {
			continue
		}
		if wrong++; !strings.Contains(all, f.Path) && !strings.Contains(all, " more") && !strings.Contains(all, "nobody knows") {
			h.untrue("files that came back", "%s is not what it was, and nobody said so: %s; %s", f.Path, c.Detail, all)
		}
	}
	h.right("files that came back wrong, as was said", wrong)
}

// judge holds everything that is said of the drive as it is now against what the witness sees.
func (h *truthful) judge() {
	sv := h.read()
	o := h.at(h.im)
	for _, p := range sv.Layout.Partitions() {
		want, known := h.roles[p.UniqueID]
		if !known || p.Volume == nil {
			continue
		}
		h.right("roles", 1)
		if want.role != p.Role && !(want.role == layout.Recovery && p.Role == layout.Data) || want.personal && !p.Personal {
			h.untrue("roles", "partition %d (%s) is told to be %s, somebody's %v; it was made as %+v", p.Number, p.UniqueID, p.Role, p.Personal, want)
		}
	}
	for id := range h.was {
		rec, _, err := o.Records.Load(id)
		if err != nil {
			h.t.Fatal(err)
		}
		if rec.Erased || facts.OnDrive(sv.Layout, rec) != nil {
			continue
		}
		h.record(o, sv, rec)
	}
}

// record holds what is said of a deleted partition's place against what lies there.
func (h *truthful) record(o Options, sv *survey.Survey, rec *trail.Record) {
	was := h.was[rec.ID]
	today, err := facts.StandOf(o.Sources, sv, rec, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	if today.Untouched+today.Taken+today.Unknown != today.Used {
		h.untrue("shares", "%+v", today.Stand)
	}
	back := map[int64][]byte{} // what goes back to where it was
	for _, r := range today.Returns {
		for i := 0; i+sectorOf <= len(r.Data); i += sectorOf {
			at := int64(rec.Span.Start.Offset(512)+r.Off)/sectorOf + int64(i)/sectorOf
			back[at] = r.Data[i : i+sectorOf]
			if h.w.of(r.Data[i:i+sectorOf]) != was.mark[at] {
				h.untrue("what a record kept", "sector %d is not what was there", at)
			}
		}
	}
	for _, p := range today.Pieces {
		n := 0
		for i := int64(p.Off) / sectorOf; i < int64(p.Off+p.Len)/sectorOf; i++ {
			if h.now.mark[i] != was.mark[i] && back[i] == nil {
				n++
			}
		}
		h.right("sectors said to be "+string(p.State), int(p.Len/sectorOf))
		if p.State == seek.Untouched && n > 0 {
			h.untrue("untouched", "%d sectors from %d on of record %s are not", n, p.Off/sectorOf, rec.ID)
		}
	}
	list, err := o.Records.FileList(rec)
	if err != nil {
		h.t.Fatal(err)
	}
	start := rec.Span.Start.Offset(512)
	for _, f := range list {
		at := lieAt(f, start)
		if who := was.file(at, int64(f.Bytes)); who == 0 || !f.IsFile() {
			continue
		} else if is := h.now.fileWith(at, int64(f.Bytes), back) == who; true {
			state := today.File(f, start).State
			h.right(fmt.Sprintf("files said to be %s, there %v", state, is), 1)
			if state == seek.Untouched && !is || state == seek.Taken && is {
				h.untrue(string(state)+" files", "%s of record %s", f.Path, rec.ID)
			}
		}
	}
}

// finds holds what a search says against where volumes have been and what lies there.
func (h *truthful) finds() {
	sv := h.read()
	x := seek.New(h.im, sv, nil)
	if _, err := x.Whole(context.Background(), 0); err != nil {
		h.t.Fatal(err)
	}
	for _, f := range x.Finds() {
		if f.Ghost || f.Confidence == seek.Doubtful {
			continue
		}
		h.right("finds that are sure or likely", 1)
		start := f.Start.Offset(512)
		if !h.begins[int64(start)] {
			h.untrue("finds", "%s at %d, where nothing began", f.Kind, f.Start)
		}
		v := f.Volume()
		if v == nil {
			continue
		}
		stand, err := facts.FindStands(h.at(h.im).Sources, sv, &f)
		if err != nil {
			h.t.Fatal(err)
		}
		list, _ := v.Files()
		for _, x := range list {
			if at := lieAt(x, start); len(at) > 0 && x.IsFile() && strings.HasSuffix(x.Path, ".bin") {
				state, is := stand.File(x, start).State, h.now.file(at, int64(x.Bytes)) != 0
				h.right(fmt.Sprintf("files of finds said to be %s, there %v", state, is), 1)
				if state == seek.Untouched && !is || state == seek.Taken && is {
					h.untrue(string(state)+" files of finds", "%s of the find at %d", x.Path, f.Start)
				}
			}
		}
	}
}

// clone makes a copy of the drive elsewhere, or puts the drive back to what that was.
func (h *truthful) clone() {
	h.t.Helper()
	copied := func(from, to string) {
		if out, err := exec.Command("cp", "--sparse=always", from, to).CombinedOutput(); err != nil {
			h.t.Fatalf("%v: %s", err, out)
		}
	}
	kept := h.image + ".clone"
	if _, err := os.Stat(kept); err != nil {
		copied(h.image, kept)
		h.did = append(h.did, "a clone is made elsewhere")
		return
	}
	h.im.Close()
	copied(kept, h.image)
	os.Remove(kept)
	im, err := disk.OpenImage(h.image, 512, true)
	if err != nil {
		h.t.Fatal(err)
	}
	h.im, h.now = im, h.w.look()
	h.did = append(h.did, "the drive is put back to its clone")
}

// deed is one thing that happens to the drive or its shop.
func (h *truthful) deed() {
	h.hours += 1 + h.rng.IntN(30)
	switch h.rng.IntN(16) {
	case 0, 1, 2:
		n, kind := 1+h.rng.IntN(5), []shelf.Kind{shelf.Image, shelf.Files}[h.rng.IntN(2)]
		if m, err := BackUp(context.Background(), h.at(h.im), Wanted{Partition: n, Kind: kind}, nil); err == nil {
			h.did = append(h.did, fmt.Sprintf("hour %d: backup %s of %d", h.hours, m.ID, n))
		}
	case 3: // somebody changes a byte on the shelf
		if files, _ := filepath.Glob(filepath.Join(h.dir, "shelf", "b-*", "*.zst")); len(files) > 0 {
			path := files[h.rng.IntN(len(files))]
			b, err := os.ReadFile(path)
			if err == nil && len(b) > 0 {
				b[h.rng.IntN(len(b))] ^= 1 << h.rng.IntN(8)
				err = os.WriteFile(path, b, 0o644)
			}
			if err != nil {
				h.t.Fatal(err)
			}
			h.did = append(h.did, "a byte of "+path+" changed")
		}
	case 4: // the table is wiped
		if h.rng.IntN(3) > 0 {
			return
		}
		for _, at := range []disk.Bytes{0, h.im.Size() - 33*512} {
			if err := h.im.Zero(at, 33*512); err != nil {
				h.t.Fatal(err)
			}
		}
		h.did = append(h.did, "the table is wiped")
		h.now = h.w.look()
	case 5:
		h.finds()
	case 6:
		h.clone()
	default:
		for range 8 { // until one can be done
			if h.carry(h.plan()) {
				return
			}
		}
	}
}

// TestTruth lets days go by on random drives: plans of every kind, power cuts, undone and finished, backups
// between them, a shelf that is changed, tables that are lost. Whatever is said of the drive on the way is
// held against a witness who knows every sector and shares no code with the program.
func TestTruth(t *testing.T) {
	rng, wanted := tries(t, 6, 300)
	v := &verdicts{said: map[string]int{}, wrong: map[string][]string{}}
	for n := range wanted {
		dir := t.TempDir()
		h := &truthful{
			shop: &shop{dir: dir, image: filepath.Join(dir, "d.img"), seed: uint64(n)}, t: t, rng: rng, roles: map[string]madeFor{}, was: map[string]look{},
			begins: map[int64]bool{}, verdicts: v,
		}
		h.w = &witness{t, h.image, maphash.MakeSeed()}
		h.newDrive()
		var err error
		if h.im, err = disk.OpenImage(h.image, 512, true); err != nil {
			t.Fatal(err)
		}
		h.now = h.w.look()
		for range 14 {
			if h.deed(); h.over {
				break
			}
			h.judge()
		}
		h.im.Close()
		os.RemoveAll(dir)
	}
	for _, what := range slices.Sorted(maps.Keys(v.said)) {
		t.Logf("%s: %d", what, v.said[what])
	}
	for what, list := range v.wrong {
		t.Errorf("%s: %d wrong, such as %s", what, len(list), list[0])
	}
}

// TestPriceOfMadeAndMoved makes a volume and moves it in one plan: what is told of it is what both write.
func TestPriceOfMadeAndMoved(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	res := s.must(t, im,
		plan.Step{Body: plan.Creation{Size: "11 MiB", Type: "basic", Format: "ntfs", Label: "Made", As: "made"}},
		plan.Step{Partition: "made", Body: plan.Sliding{By: "6 MiB"}})
	told := plan.PriceOf(sv.Layout, res.Columns, plan.Facts{}).Rewritten
	if told < res.Bytes*4/5 || told > res.Bytes*5/4 {
		t.Errorf("%s are told, and %s were rewritten", told, res.Bytes)
	}
}

// number is a partition's number as a step has it, 0 for none.
func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}
