package web

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"html"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"jadetrail/app/store"
	"jadetrail/core/chance"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// entry is a partition as a GPT has it: read here from the bytes alone (UEFI 2.10, 5.3.3).
type entry struct {
	number        int
	start, length int64 // in sectors
}

// entries are those of a drive's table, by their unique ids.
func entries(t *testing.T, image string) map[string]entry {
	t.Helper()
	f, err := os.Open(image)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := make([]byte, 34*512)
	if _, err := f.ReadAt(b, 0); err != nil {
		t.Fatal(err)
	}
	out := map[string]entry{}
	for n := range 128 {
		e := b[1024+n*128:][:128]
		if [16]byte(e) == ([16]byte{}) {
			continue
		}
		first, last := binary.LittleEndian.Uint64(e[32:]), binary.LittleEndian.Uint64(e[40:])
		out[hex.EncodeToString(e[16:32])] = entry{n + 1, int64(first), int64(last - first + 1)}
	}
	return out
}

// line is a row of a table on a page: sizes in bytes, -1 for none, and what is said.
type line struct {
	before, after int64
	what          string
}

var (
	rowTags  = regexp.MustCompile(`(?s)<tr><td.*?</tr>`)
	cellTags = regexp.MustCompile(`(?s)<td[^>]*>(.*?)</td>`)
	sizeTags = regexp.MustCompile(`title="([0-9 \x{202f}\x{a0}]+)(?: B| bytes)`)
	anyTag   = regexp.MustCompile(`<[^>]*>`)
)

var aroundTags = regexp.MustCompile(`\s*(</?[^>]*>)\s*`)

// closedUp is a page without the space around its tags, and with one space for each other stretch of it.
func closedUp(page string) string {
	return spaces.ReplaceAllString(aroundTags.ReplaceAllString(page, "$1"), " ")
}

// lines are the rows that say what became of partitions.
func lines(t *testing.T, page string) (out []line) {
	t.Helper()
	_, page, _ = strings.Cut(page, "What became of it</th>")
	page, _, _ = strings.Cut(page, "</table>")
	for _, row := range rowTags.FindAllString(closedUp(page), -1) {
		cells := cellTags.FindAllStringSubmatch(row, -1)
		if len(cells) < 4 {
			t.Fatalf("a row with %d cells: %s", len(cells), row)
		}
		size := func(cell string) int64 {
			m := sizeTags.FindStringSubmatch(cell)
			if m == nil {
				return -1
			}
			n, err := strconv.ParseInt(strings.NewReplacer(" ", "", "\u202f", "", "\u00a0", "").Replace(m[1]), 10, 64)
			if err != nil {
				t.Fatal(err)
			}
			return n
		}
		out = append(out, line{size(cells[1][1]), size(cells[2][1]), strings.TrimSpace(html.UnescapeString(anyTag.ReplaceAllString(cells[3][1], " ")))})
	}
	return out
}

// holdsTrue holds rows against what the two tables say.
func holdsTrue(t *testing.T, what string, rows []line, before, after map[string]entry, back map[string]bool, did []string) {
	t.Helper()
	fail := func(format string, args ...any) {
		t.Errorf("%s: %s\nrows: %+v\nafter %s", what, fmt.Sprintf(format, args...), rows, strings.Join(did, "\n"))
	}
	left := slices.Clone(rows)
	take := func(b, a int64, fits func(string) bool) {
		i := slices.IndexFunc(left, func(x line) bool { return x.before == b && x.after == a && fits(x.what) })
		if i < 0 {
			fail("no row says that %d bytes became %d", b, a)
			return
		}
		left = slices.Delete(left, i, i+1)
	}
	for id, was := range before {
		is, there := after[id]
		if !there {
			take(was.length*512, -1, func(s string) bool {
				return strings.Contains(s, "deleted") || strings.Contains(s, "absorbed") || strings.Contains(s, "not on the drive any more")
			})
			continue
		}
		take(was.length*512, is.length*512, func(s string) bool {
			return strings.Contains(s, "grown by") == (is.length > was.length) && strings.Contains(s, "smaller by") == (is.length < was.length) &&
				strings.Contains(s, "further on") == (is.start > was.start) && strings.Contains(s, "toward the start") == (is.start < was.start)
		})
	}
	for id, is := range after {
		if _, was := before[id]; !was {
			// Of several runs together it may be called either.
			take(-1, is.length*512, func(s string) bool {
				return strings.Contains(s, "brought back") == back[id] && (back[id] || strings.Contains(s, "new")) || back == nil && s != ""
			})
		}
	}
	if len(left) > 0 {
		fail("more is said than happened: %+v", left)
	}
}

// anySteps is a plan that may or may not be possible.
func (s *front) anySteps(rng *rand.Rand) (out []plan.Step) {
	any := func() string { return strconv.Itoa(1 + rng.IntN(5)) }
	amount := func() string { return fmt.Sprintf("%d MiB", 1+rng.IntN(20)) }
	if all, err := s.Records.All(); err == nil && len(all) > 0 && rng.IntN(4) == 0 {
		return []plan.Step{{Body: plan.BringingBack{Record: all[rng.IntN(len(all))].ID, Damaged: "r"}}}
	}
	for range 1 + rng.IntN(3) {
		out = append(out, []plan.Step{
			{Partition: any(), Body: plan.Deletion{Release: "r", Waiver: "w"}}, {Partition: any(), Body: plan.Deletion{Release: "r", Waiver: "w"}},
			{Body: plan.Creation{Size: amount(), Type: "basic", Format: "ntfs", Label: "Made"}},
			{Body: plan.Creation{Size: amount(), Type: "basic", Format: "ntfs", Label: "Made"}},
			{Partition: any(), Body: plan.Growth{By: amount()}}, {Partition: any(), Body: plan.Sliding{By: amount()}}, {Partition: any(), Body: plan.Shrinking{By: "2 MiB"}},
			{Partition: any(), Body: plan.Absorbing{Into: any(), Folder: "Taken", Release: "r"}},
		}[rng.IntN(8)])
	}
	return out
}

// TestToldOfRuns carries random plans out through the pages. What the confirm page says of each run, and the
// report of all of them, is held against the table's bytes before and after.
func TestToldOfRuns(t *testing.T) {
	rng := chance.Of(t)
	drives := 2
	if os.Getenv("JADETRAIL_PROVE") != "" {
		drives = 60
	}
	runs, rows := 0, 0
	for range drives {
		t.Run("", func(t *testing.T) {
			s, _ := openSmall(t)
			s.as(t, "odile")
			image := filepath.Join(s.Data, "drives", "tidewater-reception.img")
			first, ever := entries(t, image), map[string]bool{}
			var did []string
			for range 12 {
				steps := s.anySteps(rng)
				before := entries(t, image)
				for id := range before {
					ever[id] = true
				}
				s.planned(t, steps...)
				n := s.entered(t)
				s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
				s.idle(t)
				ended, err := s.Store.Entries(store.Filter{Act: string(trail.ActDone), Limit: 1})
				if err != nil {
					t.Fatal(err)
				}
				if len(ended) == 0 || ended[0].Seq <= n {
					continue
				}
				for _, x := range steps {
					did = append(did, fmt.Sprint(len(did)+1, " ", x.Do(), " ", x.Partition, x.Other(), x.Record(), " ", x.Amount()))
				}
				after, back := entries(t, image), map[string]bool{}
				for id := range after {
					back[id] = ever[id]
				}
				told := lines(t, s.get(t, "/jobs/J-1042/confirm"))
				runs, rows = runs+1, rows+len(told)
				holdsTrue(t, "confirm", told, before, after, back, did)
			}
			if len(did) > 0 {
				now := entries(t, image)
				holdsTrue(t, "report", lines(t, s.get(t, "/jobs/J-1042/hand-over")), first, now, nil, did)
			}
		})
	}
	t.Logf("%d runs, %d rows", runs, rows)
	if runs == 0 {
		t.Error("nothing was carried out")
	}
}
