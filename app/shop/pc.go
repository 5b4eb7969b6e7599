package shop

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"strings"

	"jadetrail/app/store"
	"jadetrail/core/pc"
	"jadetrail/core/trail"
)

// ChangeFacts changes what is known of a drive's PC, unless something else may change it too. It returns what
// was changed, which change says.
func (s *Shop) ChangeFacts(who *store.Technician, j *store.Job, d *Drive, change func(d *Drive) (*pc.Facts, string, error)) (said string, err error) {
	pending, err := s.Unfinished(d)
	switch {
	case err != nil:
		return "", err
	case s.Desk.Busy(d.Path):
		return "", errors.New("work on this drive is under way; nothing was changed")
	case pending != nil:
		return "", errors.New("a run on this drive is not finished, and may change the same facts; nothing was changed. Finish the run or take it back first")
	}
	f, said, err := change(d)
	if err != nil {
		return "", err
	}
	return said, s.enterPC(who, j, d, f, said)
}

// enterPC keeps the facts about a drive's PC and enters what was changed.
func (s *Shop) enterPC(who *store.Technician, j *store.Job, d *Drive, f *pc.Facts, said string) error {
	tail, err := s.tail()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(f, "", "  ")
	if err != nil {
		return err
	}
	return s.Books.Do(Act{ID: "pc-" + tail, Files: []File{{Name: filepath.Join("drives", filepath.Base(d.Path)+".pc.json"), Data: append(text, '\n')}},
		Entry: trail.Entry{ID: "e-pc-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActLetter, Job: j.Number, Drive: NameOf(d), Text: strings.TrimSuffix(said, ".")}})
}
