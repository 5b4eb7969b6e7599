package shop

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Facts is all that plans on a job's drive depend on, with these steps: whoever lays a plan for a page asks here, so
// that no page knows less than another.
func (s *Shop) Facts(d *Drive, j *store.Job, steps []plan.Step) (plan.Facts, error) {
	o := s.Options(d, j, "").Sources
	o.Printed, o.Print = s.prints.of(d.Path)
	f, err := facts.Gather(o, d.Survey, steps)
	if err != nil {
		return f, err
	}
	f.Insides = s.insides(d)
	for _, x := range steps { // how much the folders hold that move
		n, err := strconv.Atoi(x.Partition)
		if err != nil || !plan.Of[plan.CopyingOut](x).Move {
			continue
		}
		if sum, err := s.summaryOf(d, n); err == nil && sum != nil {
			f = facts.WithFolders(f, n, sum)
		}
	}
	f.Elsewhere = s.elsewhere(j.Number, d.Bay)
	rate, err := s.Store.Rate(d.Label())
	if err != nil {
		return f, err
	}
	f.Rate = rate.Rate
	of := History(d)
	of.Act, of.Limit = string(trail.ActDelete), 1
	deleted, err := s.Store.Entries(of)
	if err != nil {
		return f, err
	}
	f.Deleted = len(deleted) > 0
	return f, nil
}

// WithFolders are the facts with the folders of people's files in the volume that is to gain
// something: moving those may do as well.
func (s *Shop) WithFolders(st *JobState, g *route.Goal) plan.Facts {
	n, err := strconv.Atoi(g.Receiver)
	if err != nil {
		return st.Facts
	}
	sum, err := s.summaryOf(st.Drive, n)
	if err != nil || sum == nil {
		return st.Facts // it is said where the volume is looked into
	}
	return facts.WithFolders(st.Facts, n, sum)
}

// summaryOf is the summary of the volume in a partition, nil where that cannot be looked into.
func (s *Shop) summaryOf(d *Drive, number int) (*volume.Summary, error) {
	return survey.Remembered(d.Survey, "summary "+strconv.Itoa(number), func() (*volume.Summary, error) {
		v := d.Survey.Volume(number)
		if v == nil {
			return nil, nil
		}
		return s.Summary(v)
	})
}

// summaries keeps what volumes were found to hold, by their fingerprint.
type summaries struct {
	mu   sync.Mutex
	list map[string]*volume.Summary
	last map[string]plan.InsideFacts
}

// Summary of a volume as it is now; read anew when it has changed.
func (s *Shop) Summary(v volume.Volume) (*volume.Summary, error) {
	print, err := v.Fingerprint()
	if err != nil {
		return nil, err
	}
	s.sums.mu.Lock()
	sum := s.sums.list[print]
	s.sums.mu.Unlock()
	if sum != nil {
		return sum, nil
	}
	if sum, err = volume.Summarise(v); err != nil {
		return nil, err
	}
	s.sums.mu.Lock()
	defer s.sums.mu.Unlock()
	if len(s.sums.list) > 50 {
		clear(s.sums.list)
	}
	s.sums.list[print] = sum
	return sum, nil
}

// maxLook is the largest volume of which a drive's page looks at every file by itself.
const maxLook = 512 * disk.GiB

// insides says for the volumes of a drive which file holds the last used cluster; what
// was found is kept as long as the image's file is the same.
func (s *Shop) insides(d *Drive) map[int]plan.InsideFacts {
	st, err := os.Stat(d.Path)
	if err != nil {
		return nil
	}
	out := map[int]plan.InsideFacts{}
	for _, p := range d.Survey.Layout.Partitions() {
		if p.Volume == nil || p.Bytes > maxLook || p.Volume.Kind != volume.NTFS {
			continue
		}
		key := fmt.Sprintf("%s %d %d %d", d.Path, p.Start, p.End, st.ModTime().UnixNano())
		s.sums.mu.Lock()
		x, known := s.sums.last[key]
		s.sums.mu.Unlock()
		if !known {
			v := d.Survey.Volume(p.Number)
			if v == nil {
				continue
			}
			if x.LastFile, x.Fixed, err = volume.LastFile(v); err != nil {
				continue
			}
			s.sums.mu.Lock()
			if len(s.sums.last) > 500 {
				clear(s.sums.last)
			}
			s.sums.last[key] = x
			s.sums.mu.Unlock()
		}
		out[p.Number] = x
	}
	return out
}

// elsewhere are the largest gaps of the other drives of a job: another customer's are nobody's business.
func (s *Shop) elsewhere(job, bay string) []plan.Elsewhere {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil
	}
	var out []plan.Elsewhere
	for _, b := range bays {
		if b.Image == nil || b.Letter == bay || b.Job == nil || *b.Job != job {
			continue
		}
		if e, ok := s.largestGap(b.Letter, filepath.Join(s.Folder("drives"), filepath.Base(*b.Image))); ok {
			out = append(out, e)
		}
	}
	return out
}

// largestGap reads only the table of a drive.
func (s *Shop) largestGap(bay, path string) (plan.Elsewhere, bool) {
	im, err := disk.OpenImage(path, 0, false)
	if err != nil {
		return plan.Elsewhere{}, false
	}
	defer im.Close()
	t, err := table.Read(im)
	if err != nil || t.Scheme == table.None {
		return plan.Elsewhere{}, false
	}
	e := plan.Elsewhere{Bay: bay}
	next := t.FirstUsable
	for _, x := range append(slices.Clone(t.Entries), table.Entry{Start: t.LastUsable + 1, End: t.LastUsable + 1}) {
		if x.Container == 0 {
			e.Room = max(e.Room, (x.Start - next).Offset(t.Sector))
			next = max(next, x.End+1)
		}
	}
	return e, e.Room >= disk.GiB
}
