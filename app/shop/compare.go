package shop

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"jadetrail/app/work"
	"jadetrail/core/compare"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// pair is two sides that are compared.
type pair struct{ here, there compare.Side }

// pairs are the sides that are to be compared.
func pairs(ask Comparison, d, o *Drive) ([]pair, error) {
	if ask.With != "*" {
		here, err := sideOf(d, ask.Partition, ask.Folder)
		if err != nil {
			return nil, err
		}
		there, err := sideOf(o, ask.With, ask.WithFolder)
		return []pair{{here, there}}, err
	}
	var out []pair
	for _, p := range d.Survey.Layout.Partitions() {
		if d.Survey.Volume(p.Number) == nil || o.Survey.Volume(p.Number) == nil {
			continue
		}
		here, err := sideOf(d, fmt.Sprint(p.Number), "")
		if err != nil {
			return nil, err
		}
		there, err := sideOf(o, fmt.Sprint(p.Number), "")
		if err != nil {
			return nil, err
		}
		out = append(out, pair{here, there})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf(
			"no volume of bay %s has one of the same number in bay %s that can be looked into; nothing was compared",
			d.Bay, o.Bay,
		)
	}
	return out, nil
}

// Comparison says what is compared with what: a partition of a drive, or a folder in it, with a partition of the
// drive in another bay; or with "*" as that, every volume with the one of the same number there.
type Comparison struct {
	Partition, Folder         string
	WithBay, With, WithFolder string
}

// Compare begins to compare two volumes, folders or drives.
func (s *Shop) Compare(at Errand, ask Comparison) error {
	j, d, err := s.OpenJob(at.Job, at.Bay, false)
	if err != nil {
		return err
	}
	var list []pair
	_, o, err := s.inBay(ask.WithBay)
	if err == nil {
		err = errors.Join(s.noOpenRun(d), s.noOpenRun(o))
	}
	if err == nil {
		list, err = pairs(ask, d, o)
	}
	closeBoth := func() {
		d.Close()
		if o != nil {
			o.Close()
		}
	}
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil {
		who := at.Who.Name
		err = s.Desk.Start("compare", "compare", "Comparison", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer closeBoth()
			var said []string
			for i, p := range list {
				r, err := compare.Run(ctx, p.here, p.there, func(x compare.Progress) {
					report(work.Update{
						Phase: "comparing contents of " + p.here.Place.Span.Title(), Step: i, Done: x.Done,
						Total: x.Total,
					})
				})
				if err != nil {
					return "", err
				}
				r.ID, r.Time, r.Who = fmt.Sprintf(
					"c-%s-%s-p%d", s.Now().UTC().Format("20060102-150405"), tail, p.here.Place.Span.Number,
				), s.Now(), who
				text := fmt.Sprintf(
					"%s compared with %s: %s", p.here.Place.Span.Title(), p.there.Place.Span.Title(), Verdict(r),
				)
				said = append(said, text)
				kept, err := json.Marshal(r)
				if err != nil {
					return "", err
				}
				if err := s.Books.Do(Act{ID: r.ID, Files: []File{{Name: filepath.Join("coverage", r.ID+".json"), Data: kept}},
					Entry: trail.Entry{ID: "e-" + r.ID, Time: r.Time, Who: who, Act: trail.ActCompare, Job: j.Number, Partition: p.here.Place.Span.Number, Text: strings.TrimSuffix(text, "."),
						Drive: p.here.Place.Drive()}}); err != nil {
					return "", err
				}
			}
			return strings.Join(said, " "), nil
		})
	}
	if err != nil {
		closeBoth()
	}
	return err
}

// sideOf is one side of a comparison.
func sideOf(d *Drive, number, dir string) (compare.Side, error) {
	n := 0
	fmt.Sscan(number, &n)
	p, ok := d.Survey.Layout.Find(n)
	v := d.Survey.Volume(n)
	if !ok || v == nil {
		return compare.Side{}, fmt.Errorf(
			"partition %s in bay %s cannot be looked into; nothing was compared", number, d.Bay,
		)
	}
	dir = strings.Trim(strings.ReplaceAll(dir, `\`, "/"), "/ ")
	if dir != "" {
		if f, err := v.Stat(dir); err != nil || f.Kind != volume.Folder {
			return compare.Side{}, fmt.Errorf(
				"there is no folder %s in %s; nothing was compared", volume.Shown(dir), p.Title(),
			)
		}
	}
	print, err := v.Fingerprint()
	return compare.Side{
		Volume: v, Dir: dir,
		Place: compare.Place{
			DiskID: d.Survey.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial, Span: *p,
			Fingerprint: print,
		},
	}, err
}

// Verdict is a comparison's outcome in a sentence.
func Verdict(r *compare.Result) string {
	if r.Covered {
		return fmt.Sprintf(
			"every file of the first, %d of them, is on the second too with the same contents.",
			r.Counts[compare.Same].Files,
		)
	}
	return fmt.Sprintf(
		"%d the same, %d only here, %d only there, %d different, %d unreadable.", r.Counts[compare.Same].Files,
		r.Counts[compare.OnlyHere].Files, r.Counts[compare.OnlyThere].Files, r.Counts[compare.Different].Files,
		r.Counts[compare.Unknown].Files,
	)
}
