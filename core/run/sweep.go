package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/held"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// settle takes away what goes with what was erased: its backups, where the plan says so, and all else
// that the installation holds of it. It returns what the trail is to say of that, and the entries that
// tell how records are from now on. It may be called again after it was cut short.
func settle(o Options, m *ran.Meta) (text string, entries []trail.Entry, err error) {
	for _, x := range m.Erased {
		for _, id := range x.Backups {
			o.Lead = true // it was answered for when the plan was let through
			if err := takeOff(o, id, "its partition was erased: "+x.Title, o.Shelf.Erase); err != nil && !shelf.Missing(err) {
				return "", nil, err
			}
		}
		all, err := held.Of(o.Shop, o.Besides, m.Drive(), x.Span, m.ID)
		if err != nil {
			return "", nil, err
		}
		told, err := heldAtFirst(filepath.Join(o.Runs, m.ID), x, all)
		if err != nil {
			return "", nil, err
		}
		for _, h := range all {
			if err := h.Erase(); err != nil {
				return "", nil, fmt.Errorf("%s %s of %s could not be overwritten: %w", h.Kind, h.Name, x.Title, err)
			}
		}
		where := held.Looked
		if o.Besides != nil {
			where = append(slices.Clone(held.Looked), o.BesidesLooked...)
		}
		if told != "" {
			text += fmt.Sprintf("; of %s this installation also held %s, overwritten and gone", x.Title, told)
		} else {
			text += fmt.Sprintf("; of %s this installation held nothing else", x.Title)
		}
		text += ". Looked through: " + strings.Join(where, ", ") + ". What the trail itself says stays: it cannot be changed"
		blanked, err := blanked(o, m, x)
		if err != nil {
			return "", nil, err
		}
		entries = append(entries, blanked...)
	}
	return text, entries, nil
}

// sweptFile keeps, in the folder of a run that erases, what was held before anything of it was
// overwritten: a run that is cut short while it does that says the same when it is finished.
const sweptFile = "swept.json"

// heldAtFirst is what is held of a partition, in words, as it was when the run came to that.
func heldAtFirst(dir string, x ran.Erased, all []held.Holding) (string, error) {
	path := filepath.Join(dir, sweptFile)
	known := map[string]string{}
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &known)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	key := fmt.Sprint(x.Step)
	if text, there := known[key]; there {
		return text, nil
	}
	if known[key] = ""; len(all) > 0 {
		known[key] = held.Text(all)
	}
	if b, err = json.Marshal(known); err != nil {
		return "", err
	}
	return known[key], disk.WriteDurably(path, b)
}

// blanked are the entries that say of records that what they kept was taken away, with what they are
// like from now on.
func blanked(o Options, m *ran.Meta, x ran.Erased) ([]trail.Entry, error) {
	all, err := o.Records.Of(m.Drive())
	if err != nil {
		return nil, err
	}
	var out []trail.Entry
	for _, rec := range all {
		if !rec.Erased || rec.Run == m.ID || !layout.SamePartition(rec.Span, x.Span) {
			continue
		}
		_, hash, err := o.Records.Load(rec.ID)
		if err != nil {
			return nil, err
		}
		known, err := o.Trail.RecordHash(rec.ID)
		if err != nil {
			return nil, err
		}
		if known == hash { // that was entered before
			continue
		}
		out = append(out, trail.Entry{ID: "e-" + m.ID + "-blank-" + rec.ID, Act: trail.ActBlank, Record: rec.ID, RecordHash: hash, Partition: rec.Span.Number,
			Text: fmt.Sprintf("What was kept of %s when it was deleted %s was overwritten: its partition was erased", rec.Span.Title(), rec.Time.Format("2 Jan 2006"))})
	}
	return out, nil
}
