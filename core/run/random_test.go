package run

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// randomDrive makes a drive of a few partitions with gaps between them: NTFS volumes with
// clusters of several sizes, FAT, and one that nothing is known of.
func randomDrive(t *testing.T, path string, rng *rand.Rand) {
	sector := []disk.Bytes{512, 512, 4096}[rng.IntN(3)]
	im, err := disk.CreateImage(path, 200*disk.MiB, sector)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	var entries []table.Entry
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
		start := at.At(sector)
		entries = append(entries, table.NewEntry(table.Entry{Slot: n, TypeID: table.TypeBasic, UniqueID: uid(n), Start: start, End: start + size.At(sector) - 1, Name: fmt.Sprint("part ", n)}))
		w, tag := disk.NewWindow(im, at, size), fmt.Sprint("Volume ", n)
		switch {
		case kind == 0 && sector == 512:
			err = fat.Make(w, fat.Options{Label: "SMALL", Cluster: 512, Hidden: uint32(start), Time: day, Files: files(tag, 5+rng.IntN(20))})
		case kind == 1:
			noise := make([]byte, 3*disk.MiB)
			for i := range noise {
				noise[i] = byte(rng.Uint32())
			}
			_, err = w.WriteAt(noise, int64(size/2))
		default:
			cluster := []disk.Bytes{0, 0, 4096, 16384}[rng.IntN(4)]
			err = ntfs.Make(w, ntfs.Options{Label: tag, Cluster: cluster, Serial: uint64(n), Hidden: uint32(start), Time: day, Files: files(tag, 5+rng.IntN(60))})
		}
		if err != nil {
			t.Fatal(err)
		}
		at += size
	}
	if err := table.New(im, uid(0xd0), entries...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
}

// randomSteps is a plan that may or may not be possible.
func randomSteps(rng *rand.Rand) []plan.Step {
	var out []plan.Step
	for range 1 + rng.IntN(5) {
		s := plan.Step{Partition: strconv.Itoa(1 + rng.IntN(5)), By: fmt.Sprintf("%d MiB", 1+rng.IntN(12))}
		if rng.IntN(3) == 0 {
			s.By = fmt.Sprintf("%d MiB", 12+rng.IntN(20))
		}
		switch rng.IntN(9) {
		case 0:
			s = plan.Step{Do: plan.Delete, Partition: s.Partition, Waiver: "for the test"}
		case 1, 2:
			s.Do = plan.Grow
		case 3:
			s.Do, s.Edge = plan.Grow, "head"
		case 4:
			s.Do = plan.Shrink
		case 5:
			s.Do, s.Edge = plan.Shrink, "head"
		default:
			if s.Do = plan.Slide; rng.IntN(2) == 0 {
				s.By = "-" + s.By
			}
		}
		out = append(out, s)
	}
	return out
}

// TestRandomPlans carries random plans out on random drives: every file of what survives is
// the same, the drive is sound and laid out as planned. Some are stopped on the way and
// finished, or taken back as far as that can be had.
func TestRandomPlans(t *testing.T) {
	seed, wanted := uint64(time.Now().UnixNano()), 25
	if s := os.Getenv("JADETRAIL_SEED"); s != "" {
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	if os.Getenv("JADETRAIL_PROVE") != "" {
		wanted = 500
	}
	t.Logf("JADETRAIL_SEED=%d", seed)
	rng := rand.New(rand.NewPCG(seed, 1))
	done, finished, back, kinds := 0, 0, 0, map[plan.Do]int{}
	for done < wanted {
		dir := t.TempDir()
		s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), seed: uint64(done)}
		randomDrive(t, s.image, rng)
		im := s.open(t)
		before := contents(t, im)
		for tries := 0; tries < 40 && done < wanted; tries++ {
			s.steps = randomSteps(rng)
			o := s.options(im)
			o.PC, o.Serial = nil, "7f3k"
			ctx, stop := context.WithCancel(context.Background())
			if stops := rng.IntN(3) == 0; stops {
				left := rng.IntN(6)
				o.Report = func(carry.Progress) {
					if left--; left < 0 {
						stop()
					}
				}
			}
			_, err := CarryOut(ctx, o)
			stop()
			var blocked *Blocked
			if errors.As(err, &blocked) {
				continue
			}
			undone := false
			if errors.Is(err, carry.ErrStopped) {
				undo := rng.IntN(2) == 0
				again := s.options(im)
				again.PC = nil
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
			done++
			for _, x := range s.steps {
				kinds[x.Do]++
				if x.Do == plan.Delete && !undone {
					maps.DeleteFunc(before, func(path, _ string) bool { return strings.HasPrefix(path, x.Partition+"/") })
				}
			}
			after := contents(t, im)
			if !maps.Equal(before, after) {
				t.Fatalf("%+v: %d files before, %d after; undone: %v", s.steps, len(before), len(after), undone)
			}
			sv, err := survey.Read(im, nil)
			if err != nil || sv.Check().FirstError() != nil {
				t.Fatalf("%+v: %v, %v", s.steps, err, sv.Check().FirstError())
			}
		}
		im.Close()
		os.RemoveAll(dir)
	}
	t.Logf("%d plans, %v; %d stopped and finished, %d taken back", done, kinds, finished, back)
}
