package web

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"html"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/chance"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// letters are where a drive has somebody's letters, by their first bytes.
type letters map[int64][]byte

// done is how the last run on a drive ended.
type done string

// overDays is the shop over days, as one knows it who sees every byte: two customers' drives that change their
// bays, and a shelf that goes away and comes back.
type overDays struct {
	*front
	t       *testing.T
	rng     *rand.Rand
	theirs  [][]byte
	job     map[string]string                     // by a drive's serial number, the job in whose bay it is
	tables  map[string]map[int64]map[string]entry // by a drive's serial number and an entry of the trail, its table then
	entries map[string]int                        // how much was entered of a drive
	last    map[string]done                       // how the last run on it ended
	gone    map[string]map[int64][]byte           // by a record, the letters that went with it
	sums    map[string][sha256.Size]byte          // what a backup had in it when it was made
	shelved time.Time                             // when the shelf came into its bay last
	did     []string
	seen    map[string]int
}

const (
	oneDrive, otherDrive = "TLX5-220-7F3K", "QPD4-305-1C8M"
	shelfDrive           = "KRN9-771-0B42"
)

func (d *overDays) untrue(format string, args ...any) {
	d.t.Helper()
	d.t.Errorf("%s\nafter %s", fmt.Sprintf(format, args...), strings.Join(d.did, "\n      "))
}

func (d *overDays) deed(format string, args ...any) {
	d.did = append(d.did, fmt.Sprintf("%d: ", len(d.did)+1)+fmt.Sprintf(format, args...))
}

// image is where the image of a drive is, in its bay or in the dock.
func (d *overDays) image(serial string) string {
	d.t.Helper()
	for _, dir := range []string{"drives", "dock"} {
		all, _ := filepath.Glob(filepath.Join(d.Data, dir, "*.img"))
		for _, path := range all {
			if id, err := survey.ReadIdentity(path); err == nil && id.Serial == serial {
				return path
			}
		}
	}
	d.t.Fatalf("no image of %s", serial)
	return ""
}

// letters finds every letter on a drive.
func (d *overDays) letters(serial string) letters {
	d.t.Helper()
	b, err := os.ReadFile(d.image(serial))
	if err != nil {
		d.t.Fatal(err)
	}
	out := letters{}
	for at := 0; ; at += 512 {
		i := bytes.Index(b[at:], []byte("letter "))
		if i < 0 {
			return out
		}
		at = (at + i) / 512 * 512
		for _, x := range d.theirs {
			if bytes.HasPrefix(b[at:], x) {
				out[int64(at)] = x
			}
		}
	}
}

// since gives the entries of the trail after one, oldest first, and holds that they are of that drive.
func (d *overDays) since(n int64, serial string) []trail.Entry {
	d.t.Helper()
	all, err := d.Store.Entries(store.Filter{})
	if err != nil {
		d.t.Fatal(err)
	}
	slices.Reverse(all)
	all = slices.DeleteFunc(all, func(e trail.Entry) bool { return e.Seq <= n })
	for _, e := range all {
		if e.Drive.Serial != serial {
			d.untrue("entry %d (%s, %s) is told to be of %q, and was of %s", e.Seq, e.Act, e.Text, e.Drive.Serial, serial)
		}
	}
	d.entries[serial] += len(all)
	return all
}

var (
	stageTags = regexp.MustCompile(`(?s)<strong>(?:<a [^>]*>)?([A-Z][a-z ]+)(?:</a>)?</strong><span class="line[^"]*">([^<]*)</span>`)
	shelfTags = regexp.MustCompile(`(?s)<a href="/shelf/(b-[^"]+)">.*?</tr>`)
	timeTags  = regexp.MustCompile(`<span class="sound">verified</span><time class="soft" datetime="([^"]+)"`)
)

// stages are the lines of a job's stages.
func (d *overDays) stages(job string) map[string]string {
	d.t.Helper()
	out := map[string]string{}
	_, page, _ := strings.Cut(d.get(d.t, "/jobs/"+job), `class="stages"`)
	page, _, _ = strings.Cut(page, "</ol>")
	for _, m := range stageTags.FindAllStringSubmatch(closedUp(page), -1) {
		out[m[1]] = html.UnescapeString(m[2])
	}
	if len(out) != 6 {
		d.t.Fatalf("the stages of %s: %v", job, out)
	}
	return out
}

// carry has a drive's job carry steps out, now and then stopped on the way, then finished or taken back.
func (d *overDays) carry(serial string, steps []plan.Step) bool {
	d.t.Helper()
	job, image := d.job[serial], d.image(serial)
	before, n := entries(d.t, image), d.entered(d.t)
	d.plannedFor(d.t, job, steps...)
	ready, was := d.stages(job)["Carry out"] == "ready", letters{}
	if ready {
		was = d.letters(serial)
	}
	said := d.post(d.t, d.shown(d.t, job, "carry-out"), "serial", lastFour(serial))
	if d.rng.IntN(4) == 0 {
		time.Sleep(time.Duration(d.rng.IntN(200)) * time.Millisecond)
		d.post(d.t, "/jobs/"+job+"/stop")
	}
	d.idle(d.t)
	if d.stages(job)["Carry out"] == "an unfinished run" {
		_, dr, err := d.front.Server.OpenJob(job, "", false)
		if err != nil {
			d.t.Fatal(err)
		}
		u, err := d.Unfinished(dr)
		dr.Close()
		if err != nil || u == nil {
			d.untrue("an unfinished run is told, and there is none: %v", err)
			return false
		}
		d.seen["runs that were stopped"]++
		d.post(d.t, "/jobs/"+job+"/resume", "run", u.ID, "undo", []string{"", "yes"}[d.rng.IntN(2)])
		d.idle(d.t)
	}
	after, ran := entries(d.t, image), false
	news := d.since(n, serial)
	for _, e := range news {
		if e.Act == trail.ActDone || e.Act == trail.ActUndone {
			d.last[serial], ran = done(e.Act), true
			d.tables[serial][e.Seq] = after
			if e.Act == trail.ActUndone && !maps.Equal(before, after) {
				d.untrue("entry %d: taken back, and the table is not what it was: %v, %v", e.Seq, before, after)
			}
		}
	}
	for _, x := range steps {
		d.deed("on %s: %s %+v, carried out %v", serial, x.Partition, x.Body, ran)
	}
	switch {
	case !ran && !maps.Equal(before, after):
		d.untrue("nothing was entered, and the table is another one: %v, %v", before, after)
	case ran && !ready:
		d.untrue("it was carried out, and the page had not called it ready")
	case ready && !ran:
		d.seen["ready, and then refused"]++
		st, _ := d.Desk.State(image)
		d.t.Logf("ready, and refused: %v: %s %s", d.did[len(d.did)-len(steps):], st.Trouble, firstNotice(said))
	}
	if !ran || d.last[serial] == done(trail.ActUndone) {
		return false
	}
	d.seen["runs"]++
	for _, e := range news {
		if e.Act != trail.ActDelete {
			continue
		}
		rec, _, err := d.Records.Load(e.Record)
		if err != nil {
			d.t.Fatal(err)
		}
		d.gone[rec.ID] = map[int64][]byte{}
		from, to := int64(rec.Span.Start.Offset(512)), int64(rec.Span.End+1)*512
		for at, x := range was { // of what was deleted as it was
			if at >= from && at < to && len(steps) == 1 {
				d.gone[rec.ID][at] = x
			}
		}
	}
	return true
}

// firstNotice is what a page says first.
func firstNotice(page string) string {
	_, page, _ = strings.Cut(page, `class="flash`)
	return strings.Join(strings.Fields(anyTag.ReplaceAllString(page[:min(len(page), 600)], " ")), " ")
}

// backUp makes a backup through the page.
func (d *overDays) backUp(serial string) {
	d.t.Helper()
	n := d.entered(d.t)
	d.post(d.t, "/jobs/"+d.job[serial]+"/back-up", "partition", strconv.Itoa(1+d.rng.IntN(5)), "kind", []string{"image", "files"}[d.rng.IntN(2)])
	d.idle(d.t)
	for _, e := range d.since(n, serial) {
		if e.Backup != "" {
			d.sums[e.Backup] = d.contents(e.Backup)
			d.deed("backup %s of partition %d of %s", e.Backup, e.Partition, serial)
		}
	}
}

// contents is the sum of what a backup has in it, as it is handed out.
func (d *overDays) contents(id string) [sha256.Size]byte {
	d.t.Helper()
	r, err := d.client.Get(d.url + "/shelf/" + id + "/contents.zst")
	if err != nil {
		d.t.Fatal(err)
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	if err != nil || r.StatusCode != 200 { // it ends before its end
		return [sha256.Size]byte{}
	}
	return sha256.Sum256(b)
}

// out takes a drive out of its bay.
func (d *overDays) out(bay, serial string) string {
	d.t.Helper()
	n := d.entered(d.t)
	page := d.post(d.t, "/dock/detach", "bay", bay)
	path := d.image(serial)
	if filepath.Base(filepath.Dir(path)) != "dock" {
		d.t.Fatalf("%s is not out of bay %s: %s", serial, bay, firstNotice(page))
	}
	d.since(n, serial)
	return path
}

// in puts a drive into a bay, for a job.
func (d *overDays) in(bay, serial, job string) {
	d.t.Helper()
	n := d.entered(d.t)
	page := d.post(d.t, "/dock/attach", "file", filepath.Base(d.image(serial)), "bay", bay, "job", job)
	d.idle(d.t)
	if path := d.image(serial); filepath.Base(filepath.Dir(path)) != "drives" {
		d.t.Fatalf("%s is not in bay %s: %s", serial, bay, firstNotice(page))
	}
	d.since(n, serial)
}

// exchange takes both drives out, changes what a stranger may have changed meanwhile, and puts them into each
// other's bays, or back.
func (d *overDays) exchange() {
	d.t.Helper()
	bay := map[string]string{"J-1042": "A", "J-1043": "D"}
	for _, serial := range []string{oneDrive, otherDrive} {
		d.stranger(d.out(bay[d.job[serial]], serial))
	}
	if d.rng.IntN(3) > 0 {
		d.job[oneDrive], d.job[otherDrive] = d.job[otherDrive], d.job[oneDrive]
	}
	for _, serial := range []string{oneDrive, otherDrive} {
		d.in(bay[d.job[serial]], serial, d.job[serial])
	}
	d.deed("both were out; %s is the drive of %s now", oneDrive, d.job[oneDrive])
}

// stranger does to a drive what anybody can who has it in hand.
func (d *overDays) stranger(path string) {
	d.t.Helper()
	clone := filepath.Join(d.t.TempDir(), "clone")
	switch d.rng.IntN(4) {
	case 0:
		kept := path + " as it was"
		if b, err := os.ReadFile(kept); err == nil {
			if err := os.WriteFile(path, b, 0o644); err != nil {
				d.t.Fatal(err)
			}
			d.deed("%s is put back to its clone", filepath.Base(path))
		} else if b, err := os.ReadFile(path); err != nil || os.WriteFile(clone, b, 0o644) != nil || os.Rename(clone, kept) != nil {
			d.t.Fatal(err)
		}
	case 1:
		d.wipe(path)
	}
}

// wipe takes a drive's table away.
func (d *overDays) wipe(path string) {
	d.t.Helper()
	im, err := disk.OpenImage(path, 512, true)
	if err != nil {
		d.t.Fatal(err)
	}
	defer im.Close()
	if err := errors.Join(im.Zero(0, 34*512), im.Zero(im.Size()-33*512, 33*512)); err != nil { // UEFI 2.10, 5.3.1
		d.t.Fatal(err)
	}
	d.deed("the table of %s is wiped", filepath.Base(path))
}

// shelfAway takes the shelf out, changes a byte of a backup or none, and brings it back.
func (d *overDays) shelfAway() {
	d.t.Helper()
	path := d.out("B", shelfDrive)
	b, err := os.ReadFile(path)
	if err != nil {
		d.t.Fatal(err)
	}
	var frames []int // RFC 8878, 3.1.1
	for at := 0; ; at++ {
		i := bytes.Index(b[at:], []byte{0x28, 0xb5, 0x2f, 0xfd})
		if i < 0 {
			break
		}
		at += i
		frames = append(frames, at)
	}
	if len(frames) > 0 && d.rng.IntN(2) == 0 {
		at := frames[d.rng.IntN(len(frames))] + 20 + d.rng.IntN(400)
		b[at] ^= 1 << d.rng.IntN(8)
		if err := os.WriteFile(path, b, 0o644); err != nil {
			d.t.Fatal(err)
		}
		d.deed("byte %d of the shelf changed while it was out", at)
	} else {
		d.deed("the shelf was out")
	}
	d.in("B", shelfDrive, "")
	n := d.entered(d.t)
	d.shelved = time.Now()
	d.post(d.t, "/dock/shelf", "bay", "B")
	d.since(n, shelfDrive)
}

// walkBack walks a drive back to where an entry of the trail left it.
func (d *overDays) walkBack(serial string) {
	d.t.Helper()
	if len(d.tables[serial]) == 0 {
		return
	}
	seqs := slices.Sorted(maps.Keys(d.tables[serial]))
	seq := seqs[d.rng.IntN(len(seqs))]
	at := fmt.Sprintf("/trail/%d", seq)
	_, told, _ := strings.Cut(d.get(d.t, at), "To how it was after this</h3>")
	told, _, _ = strings.Cut(told, "</section>")
	d.plannedFor(d.t, d.job[serial])
	d.post(d.t, at, "to", "after")
	j, dr, err := d.front.Server.OpenJob(d.job[serial], "", false)
	if err != nil {
		d.t.Fatal(err)
	}
	dr.Close()
	steps, _, err := j.Steps()
	if err != nil || len(steps) == 0 {
		return
	}
	for i := range steps {
		if steps[i].Deletes() {
			steps[i] = steps[i].WithReasons("r", "w")
		}
	}
	d.deed("walking %s back to entry %d", serial, seq)
	if !d.carry(serial, steps) || strings.Contains(told, `class="care"`) {
		return
	}
	d.seen["walks back"]++
	places := func(m map[string]entry) (out []string) {
		for _, e := range m {
			out = append(out, fmt.Sprint(e.start, "+", e.length))
		}
		slices.Sort(out)
		return out
	}
	if is, want := places(entries(d.t, d.image(serial))), places(d.tables[serial][seq]); !slices.Equal(is, want) {
		d.untrue("walked back to entry %d: partitions at %v, and then at %v", seq, is, want)
	}
}

// judge holds what the pages say against what is so.
func (d *overDays) judge() {
	d.t.Helper()
	for serial, job := range d.job {
		st, now := d.stages(job), entries(d.t, d.image(serial))
		d.seen["stage lines"] += len(st)
		if n, _, _ := strings.Cut(st["Look"], " "); n != strconv.Itoa(len(now)) {
			d.untrue("%s, %s: %q, and its table has %d", job, serial, st["Look"], len(now))
		}
		if n, _, _ := strings.Cut(st["Hand over"], " "); n != strconv.Itoa(d.entries[serial]) {
			d.untrue("%s, %s: %q, and %d were of it", job, serial, st["Hand over"], d.entries[serial])
		}
		want := map[done]string{"": "", done(trail.ActDone): "as planned", done(trail.ActUndone): "taken back"}[d.last[serial]]
		if got, _, _ := strings.Cut(st["Confirm"], ","); got != want {
			d.untrue("%s, %s: confirm says %q, and the last run ended %q", job, serial, st["Confirm"], d.last[serial])
		}
	}
	for _, row := range shelfTags.FindAllStringSubmatch(closedUp(d.get(d.t, "/shelf")), -1) {
		m := timeTags.FindStringSubmatch(row[0])
		if m == nil {
			continue
		}
		d.seen["backups said to be verified"]++
		when, err := time.Parse(time.RFC3339, m[1])
		if err != nil || when.Before(d.shelved.Truncate(time.Second)) {
			d.untrue("%s is told to be verified at %s, and its shelf came back at %s", row[1], m[1], d.shelved)
		}
		if d.contents(row[1]) != d.sums[row[1]] {
			d.untrue("%s is told to be verified, and is not what it was", row[1])
		}
	}
	d.toldOfLetters()
}

// toldOfLetters holds what the pages of deleted partitions say of the letters in them against the bytes.
func (d *overDays) toldOfLetters() {
	d.t.Helper()
	seen := map[string]letters{oneDrive: d.letters(oneDrive), otherDrive: d.letters(otherDrive)}
	for _, id := range slices.Sorted(maps.Keys(d.gone)) {
		page := d.get(d.t, "/records/"+id)
		rec, _, err := d.Records.Load(id)
		if err != nil {
			d.t.Fatal(err)
		}
		_, after, there := strings.Cut(page, "letter.txt")
		if !there {
			_, after, there = strings.Cut(page, "picture.txt")
		}
		if !there || len(d.gone[id]) != 1 {
			continue
		}
		row, _, _ := strings.Cut(after, "</tr>")
		now := seen[rec.Drive.Serial]
		for at, x := range d.gone[id] {
			is := bytes.Equal(now[at], x)
			off := disk.Bytes(at) - rec.Span.Start.Offset(512)
			kept := off < disk.MiB || off+disk.Bytes(len(x)) > rec.Span.Bytes-disk.MiB // comes from the record
			switch {
			case strings.Contains(row, ">untouched<"):
				d.seen["letters said to be untouched"]++
				if !is && !kept {
					d.untrue("record %s: its letter is told to be untouched, and is not there", id)
				}
			case strings.Contains(row, "of it taken"):
				d.seen["letters said to be taken"]++
				if is {
					d.untrue("record %s: its letter is told to be taken, and is there", id)
				}
			default:
				d.seen[fmt.Sprintf("letters of which it is not known, there %v", is)]++
			}
		}
	}
}

// TestToldOverDays lets days go by in a shop: plans of every kind on two customers' drives, stopped, finished
// and taken back, drives that are exchanged between bays, cloned and wiped while they are out, a shelf that
// comes back changed, walks back. After each deed all that the pages say is held against the bytes.
func TestToldOverDays(t *testing.T) {
	rng := chance.Of(t)
	shops, deeds := 2, 12
	if os.Getenv("JADETRAIL_PROVE") != "" {
		shops, deeds = 40, 24
	}
	if n, err := strconv.Atoi(os.Getenv("JADETRAIL_PLANS")); err == nil {
		shops = n
	}
	seen := map[string]int{}
	for range shops {
		t.Run("", func(t *testing.T) {
			s, theirs := openSmall(t)
			s.as(t, "odile")
			d := &overDays{
				front: s, t: t, rng: rng, theirs: theirs, job: map[string]string{oneDrive: "J-1042", otherDrive: "J-1043"},
				tables: map[string]map[int64]map[string]entry{oneDrive: {}, otherDrive: {}}, entries: map[string]int{}, last: map[string]done{},
				gone: map[string]map[int64][]byte{}, sums: map[string][sha256.Size]byte{}, seen: seen,
			}
			for range deeds {
				d.once()
				if d.judge(); t.Failed() {
					return
				}
			}
		})
	}
	for _, what := range slices.Sorted(maps.Keys(seen)) {
		t.Logf("%s: %d", what, seen[what])
	}
	if seen["runs"] == 0 {
		t.Error("nothing was carried out")
	}
}

// once does one thing.
func (d *overDays) once() {
	d.t.Helper()
	serial := []string{oneDrive, otherDrive}[d.rng.IntN(2)]
	switch d.rng.IntN(12) {
	case 0, 1:
		d.backUp(serial)
	case 2:
		d.exchange()
	case 3:
		d.shelfAway()
	case 4:
		for id := range d.sums {
			n := d.entered(d.t)
			page := d.post(d.t, "/shelf/verify", "backup", id)
			d.idle(d.t)
			all, _ := d.Store.Entries(store.Filter{Limit: 1})
			if len(all) > 0 && all[0].Seq > n {
				d.since(n, all[0].Drive.Serial)
				d.deed("%s read back: %s", id, all[0].Text)
				text := all[0].Text
				damaged, none := strings.Contains(text, "damaged"), strings.Contains(text, "no file's contents")
				list := strings.Contains(text, "the list of its files is not what was written")
				same := d.contents(id) == d.sums[id]
				if same && damaged && !none || !same && (!damaged || list && none) {
					d.untrue("%s: %s; its contents are what they were: %v", id, text, same)
				}
			} else {
				d.deed("%s not read back: %s", id, firstNotice(page))
			}
		}
	case 5:
		d.walkBack(serial)
	case 6:
		scheme := []string{"gpt", "none"}[d.rng.IntN(2)]
		if d.rng.IntN(2) == 0 {
			d.carry(serial, []plan.Step{{Body: plan.Clearing{Scheme: scheme, Release: "r", Waiver: "w"}}})
		}
	default:
		for range 8 {
			if d.carry(serial, d.anySteps(d.rng)) {
				return
			}
		}
	}
}
