package shop

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Searched is what is kept of a search through a whole drive: where it came to, and where the
// structures lie that it saw. What they are worth is judged anew whenever it is asked for.
type Searched struct {
	DiskID  string       `json:"disk_id"`
	Size    disk.Bytes   `json:"size"`
	When    time.Time    `json:"when"`
	Who     string       `json:"who"`
	Reached disk.Bytes   `json:"reached"`
	Told    []disk.Bytes `json:"told_at"`
}

// mostJudged bounds how many noted structures are judged for a page.
const mostJudged = 3000

func (s *Shop) searchFile(d *Drive) string {
	return filepath.Join(s.Data, "searches", filepath.Base(d.Path)+".json")
}

// SearchedBefore is the search of a drive that is kept, nil for none. One that cannot be read is
// none: the drive can be searched again.
func (s *Shop) SearchedBefore(d *Drive) *Searched {
	b, err := os.ReadFile(s.searchFile(d))
	if err != nil {
		return nil
	}
	var k Searched
	if json.Unmarshal(b, &k) != nil || k.DiskID != d.Survey.Layout.DiskID || k.Size != d.Survey.Layout.Size {
		return nil // damaged, of another drive, or of another table
	}
	return &k
}

// Judged are the noted places that are looked at for a page.
func (k *Searched) Judged() []disk.Bytes { return k.Told[:min(len(k.Told), mostJudged)] }

// SeenOn tells where an earlier search of a drive saw structures.
func (s *Shop) SeenOn(d *Drive) ([]disk.Bytes, error) {
	if k := s.SearchedBefore(d); k != nil {
		return k.Judged(), nil
	}
	return nil, nil
}

// hints are the places that the trail tells of.
func (s *Shop) hints(d *Drive) ([]seek.Hint, error) {
	of, err := s.Records.Of(NameOf(d))
	return facts.Hints(of), err
}

// Lost searches where partitions are likeliest, and judges what an earlier search has seen.
func (s *Shop) Lost(ctx context.Context, d *Drive) ([]seek.Find, *Searched, error) {
	hints, err := s.hints(d)
	if err != nil {
		return nil, nil, err
	}
	before := s.SearchedBefore(d)
	x := seek.New(d.Image, d.Survey, hints)
	if err := x.Likely(ctx); err != nil {
		return nil, nil, err
	}
	if before != nil {
		if err := x.Look(before.Judged()...); err != nil {
			return nil, nil, err
		}
	}
	return x.Finds(), before, nil
}

// seenFinds keeps what was found on drives, while neither they nor what is known of them change.
type seenFinds struct {
	mu   sync.Mutex
	list map[string]foundThen
}

type foundThen struct {
	stamp string
	finds []seek.Find
	gone  []plan.Gone // those that are sure or likely, and of which no record tells
}

// findsOn are the lost partitions of a drive that are not ghosts.
func (s *Shop) findsOn(ctx context.Context, d *Drive) ([]seek.Find, error) {
	then, err := s.foundOn(ctx, d)
	return then.finds, err
}

// foundOn is what a search finds on a drive, worked out once for as long as nothing changes.
func (s *Shop) foundOn(ctx context.Context, d *Drive) (foundThen, error) {
	drive, _ := stampOf(d.Path, time.Now())
	stamp := fmt.Sprint(drive)
	for _, f := range []string{s.searchFile(d), s.Records.Dir} {
		if st, err := os.Stat(f); err == nil {
			stamp += st.ModTime().String()
		}
	}
	s.seen.mu.Lock()
	then, known := s.seen.list[d.Path]
	s.seen.mu.Unlock()
	if known && then.stamp == stamp {
		return then, nil
	}
	all, _, err := s.Lost(ctx, d)
	if err != nil {
		return then, err
	}
	now := foundThen{stamp: stamp, finds: slices.DeleteFunc(all, func(f seek.Find) bool { return f.Ghost })}
	o := s.here(d)
	for i := range now.finds {
		f := &now.finds[i]
		if f.Confidence != seek.Doubtful && f.Record == "" { // a record knows better
			stand, err := facts.FindStands(o, d.Survey, f)
			if err != nil {
				return now, err
			}
			now.gone = append(now.gone, plan.Gone{Find: f.Start, Span: f.Span(), Needs: facts.Needs(stand)})
		}
		f.Forget()
	}
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	s.seen.list[d.Path] = now
	return now, nil
}

// SearchDrive begins to go through every sector of a drive: from its start, or on from where an earlier search was
// stopped.
func (s *Shop) SearchDrive(at Errand, on bool) error {
	j, d, err := s.OpenJob(at.Job, at.Bay, false)
	if err != nil {
		return err
	}
	err = s.noOpenRun(d)
	var hints []seek.Hint
	if err == nil {
		hints, err = s.hints(d)
	}
	before := s.SearchedBefore(d)
	keep := Searched{DiskID: d.Survey.Layout.DiskID, Size: d.Survey.Layout.Size, Who: at.Who.Name}
	if before != nil && on && before.Reached < before.Size {
		keep.Reached, keep.Told = before.Reached, before.Told
	}
	if err == nil {
		err = s.Desk.Start(d.Path, "search", "Search", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer d.Close()
			return s.search(ctx, j, d, hints, keep, report)
		})
	}
	if err != nil {
		d.Close()
	}
	return err
}

func (s *Shop) search(ctx context.Context, j *store.Job, d *Drive, hints []seek.Hint, keep Searched, report func(work.Update)) (string, error) {
	x := seek.New(d.Image, d.Survey, hints)
	early := time.Now()
	var saving sync.Mutex
	x.Report = func(p seek.Progress) {
		// What was seen so far can be looked at while the search goes on.
		if saving.TryLock() {
			if time.Since(early) > 2*time.Second {
				early = time.Now()
				now := keep
				now.Told, now.When = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(keep.Told), x.Told()...)))), s.Now()
				if err := s.keepSearch(d, &now); err != nil {
					report(work.Update{Phase: "what was seen so far cannot be kept: " + err.Error()})
				}
			}
			saving.Unlock()
		}
		report(work.Update{
			Phase: fmt.Sprintf("reading every sector, %s seen", words.Plural(p.Finds, "structure", "structures")),
			Done:  p.Done, Total: p.Total,
		})
	}
	if err := x.Look(keep.Told...); err != nil { // what was seen before it was stopped
		return "", err
	}
	reached, err := x.Whole(ctx, keep.Reached)
	if err != nil {
		return "", err
	}
	finds := x.Finds()
	keep.Told = slices.Compact(slices.Sorted(slices.Values(append(keep.Told, x.Told()...))))
	keep.Reached, keep.When = reached, s.Now()
	found := 0
	for _, f := range finds {
		if !f.Ghost {
			found++
		}
	}
	came := words.Plural(found, "lost partition", "lost partitions")
	if reached < keep.Size {
		if err := s.keepSearch(d, &keep); err != nil {
			return "", err
		}
		return fmt.Sprintf("stopped after %s of %s; it can go on from there", reached, keep.Size), nil
	}
	id, err := s.tail()
	if err != nil {
		return "", err
	}
	kept, err := json.Marshal(&keep)
	if err != nil {
		return "", err
	}
	id = "search-" + s.Now().UTC().Format("20060102-150405") + "-" + id
	return "went through every sector: " + came, s.Books.Do(Act{ID: id, Files: []File{{Name: filepath.Join("searches", filepath.Base(s.searchFile(d))), Data: kept}},
		Entry: trail.Entry{ID: "e-" + id, Time: s.Now(), Who: keep.Who, Job: j.Number, Act: trail.ActSearch, Text: "Searched to its end: " + came, Drive: NameOf(d)}})
}

// keepSearch keeps how far a search has come, and what it has seen.
func (s *Shop) keepSearch(d *Drive, k *Searched) error {
	b, err := json.Marshal(k)
	if err == nil {
		err = os.MkdirAll(filepath.Join(s.Data, "searches"), 0o755)
	}
	if err == nil {
		err = disk.WriteDurably(s.searchFile(d), b)
	}
	return err
}
