package shop

import (
	"cmp"
	"slices"
	"strings"
	"unicode/utf8"

	"jadetrail/app/store"
	"jadetrail/core/layout"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Found is what a shop has that a text stands in, the newest of each kind first. Of each kind there are at most
// MostOfKind; More names the kinds of which there are more.
type Found struct {
	Jobs      []store.Job
	Customers []store.Customer
	Drives    []FoundDrive
	Records   []*trail.Record
	Backups   []*shelf.Manifest
	Entries   []trail.Entry
	Files     []FoundFile
	More      map[string]bool
}

// FoundDrive is a drive in a bay, with the partitions of it that the text stands in.
type FoundDrive struct {
	Bay, Job   string
	Identity   survey.Identity
	Partitions []layout.Span
}

// MostOfKind bounds what is shown of one kind.
const MostOfKind = 20

// LeastFind is how many letters something must have to be found by.
const LeastFind = 2

// Nothing tells that nothing was found.
func (f *Found) Nothing() bool {
	return len(f.Jobs)+len(f.Customers)+len(f.Drives)+len(f.Records)+len(f.Backups)+len(f.Entries)+len(f.Files) == 0
}

// capped is at most so many of a kind.
func capped[T any](f *Found, kind string, all []T) []T {
	if len(all) <= MostOfKind {
		return all
	}
	f.More[kind] = true
	return all[:MostOfKind]
}

// bare is a text as it is compared: in small letters, without the dashes and spaces that serial numbers are read with.
func bare(text string) string {
	return strings.NewReplacer("-", "", " ", "", ":", "").Replace(strings.ToLower(text))
}

// Find looks for a text in everything that the shop keeps, but in the contents of files: jobs open and closed,
// customers, the drives in the bays and their partitions, records of deletions, backups and the names of the files that
// these keep lists of, and the trail. No drive in a bay is read of which a glance is kept; of a shelf the lists of its
// backups are, once.
func (s *Shop) Find(text string) (*Found, error) {
	f := &Found{More: map[string]bool{}}
	if utf8.RuneCountInString(strings.TrimSpace(text)) < LeastFind {
		return f, nil
	}
	want := bare(text)
	in := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(t string) bool { return want != "" && strings.Contains(bare(t), want) })
	}
	jobs, err := s.Store.FindJobs(store.JobFilter{Text: text, Closed: true}, MostOfKind+1)
	if err != nil {
		return nil, err
	}
	f.Jobs = capped(f, "jobs", jobs)
	customers, err := s.Store.FindCustomers(text)
	if err != nil {
		return nil, err
	}
	f.Customers = capped(f, "customers", customers)
	if f.Drives, err = s.findDrives(in); err != nil {
		return nil, err
	}
	records, err := s.Records.All()
	if err != nil {
		return nil, err
	}
	slices.SortFunc(records, func(a, b *trail.Record) int { return b.Time.Compare(a.Time) })
	all := slices.Clone(records)
	records = slices.DeleteFunc(records, func(r *trail.Record) bool {
		return !in(r.ID, r.Span.Title(), r.Drive.Serial, r.Drive.Model, r.Reason, r.Who)
	})
	f.Records = capped(f, "records", records)
	backups, err := s.Shelf().List()
	if err != nil {
		return nil, err
	}
	slices.SortFunc(backups, func(a, b *shelf.Manifest) int {
		return cmp.Or(b.Made.Compare(a.Made), strings.Compare(a.ID, b.ID))
	})
	if err := s.findFiles(f, in, all, backups); err != nil {
		return nil, err
	}
	backups = slices.DeleteFunc(slices.Clone(backups), func(m *shelf.Manifest) bool {
		return !in(m.ID, m.From.Span.Title(), m.From.Serial, m.From.Model, m.Who)
	})
	f.Backups = capped(f, "backups", backups)
	entries, err := s.Store.Entries(store.Filter{Text: text, Limit: MostOfKind + 1})
	if err != nil {
		return nil, err
	}
	f.Entries = capped(f, "entries", entries)
	return f, nil
}

// findDrives are the drives in the bays of which something is in a text; one that cannot be read is not among them.
func (s *Shop) findDrives(in func(texts ...string) bool) (out []FoundDrive, err error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		g, err := s.Glance(&b)
		if err != nil {
			continue
		}
		x := FoundDrive{Bay: b.Letter, Identity: g.Identity}
		if b.Job != nil {
			x.Job = *b.Job
		}
		for _, p := range g.Layout.Partitions() {
			if in(p.Title(), p.Name, p.UniqueID) || p.Volume != nil && in(p.Volume.Label, p.Volume.Serial) {
				x.Partitions = append(x.Partitions, p)
			}
		}
		if len(x.Partitions) > 0 || in(g.Identity.Serial, g.Identity.Model) {
			out = append(out, x)
		}
	}
	return out, nil
}
