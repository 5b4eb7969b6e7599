package store

import (
	"bytes"
	"slices"
	"strings"
	"sync"
	"time"
)

// words is what every entry of the trail says, in memory: looking for a text reads the few
// entries that a page shows, and not the whole trail. It takes about 250 bytes an entry. What
// is shown comes from the database all the same.
type words struct {
	mu    sync.Mutex
	all   []brief // the oldest first
	text  []byte  // what they say, in small letters, a line each
	names map[string]string
}

// brief is what an entry can be found by.
type brief struct {
	Seq                          uint64
	Time                         time.Time
	Who, Act, Job, Label, Record string
	hash                         string
	end                          int // of its line in the text
}

// LearnWords reads what entries have come since, so that the next search for a text need not.
func (t *Trail) LearnWords() error {
	w := &t.words
	w.mu.Lock()
	defer w.mu.Unlock()
	return t.learn()
}

func (t *Trail) learn() error {
	w, last := &t.words, uint64(0)
	if n := len(w.all); n > 0 {
		last = w.all[n-1].Seq
		// Were the newest entries cut off behind this program's back, later ones have their numbers.
		var same int64
		if err := t.db.Model(&trailEntry{}).Where("seq = ? AND hash = ?", last, w.all[n-1].hash).Count(&same).Error; err != nil {
			return err
		}
		if same == 0 {
			w.all, w.text, last = nil, nil, 0
		}
	}
	columns := "seq, hash, time, who, act, job, " + labelColumn + ", record, JSON_VALUE(line, '$.text') AS text"
	rows, err := t.db.Model(&trailEntry{}).Select(columns).Where("seq > ?", last).Order("seq").Rows()
	if err != nil {
		return inWords(err)
	}
	defer rows.Close()
	if w.names == nil {
		w.names = map[string]string{}
	}
	for rows.Next() {
		var b brief
		var text *string
		if err := rows.Scan(&b.Seq, &b.hash, &b.Time, &b.Who, &b.Act, &b.Job, &b.Label, &b.Record, &text); err != nil {
			return err
		}
		for _, s := range []*string{&b.Who, &b.Act, &b.Job, &b.Label} { // each of them is kept once
			if same, there := w.names[*s]; there {
				*s = same
			} else {
				w.names[*s] = *s
			}
		}
		if text != nil {
			w.text = append(w.text, strings.ReplaceAll(strings.ToLower(*text), "\n", " ")...)
		}
		w.text = append(w.text, '\n')
		b.end = len(w.text)
		w.all = append(w.all, b)
	}
	return inWords(rows.Err())
}

// saying are the numbers of the entries that a filter lets through, the newest first, as many
// as its limit.
func (t *Trail) saying(f Filter) ([]uint64, error) {
	w := &t.words
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := t.learn(); err != nil {
		return nil, err
	}
	is := func(wanted, has string) bool { return wanted == "" || wanted == has }
	var out []uint64
	// Piece by piece from the newest on, so that what is frequent is found at once.
	const piece = 2000
	for to := len(w.all); to > 0; to -= piece {
		from := max(to-piece, 0)
		found := w.lines(from, to, strings.ToLower(f.Text))
		for _, i := range slices.Backward(found) {
			b := &w.all[i]
			if f.Before > 0 && b.Seq >= uint64(f.Before) || !f.From.IsZero() && b.Time.Before(f.From) || !f.To.IsZero() && !b.Time.Before(f.To) {
				continue
			}
			if !is(f.Job, b.Job) || !is(f.Label, b.Label) || !is(f.Act, b.Act) || !is(f.Who, b.Who) || !is(f.Record, b.Record) {
				continue
			}
			if out = append(out, b.Seq); f.Limit > 0 && len(out) == f.Limit {
				return out, nil
			}
		}
	}
	return out, nil
}

// lines are the places of the entries of a range whose line holds a text.
func (w *words) lines(from, to int, text string) (found []int) {
	if text == "" {
		for i := from; i < to; i++ {
			found = append(found, i)
		}
		return found
	}
	at := 0
	if from > 0 {
		at = w.all[from-1].end
	}
	for i := from; i < to; i++ {
		k := bytes.Index(w.text[at:w.all[to-1].end], []byte(text))
		if k < 0 {
			break
		}
		// The entry in whose line it lies.
		n, _ := slices.BinarySearchFunc(w.all[i:to], at+k, func(b brief, at int) int {
			if b.end <= at {
				return -1
			}
			return 1
		})
		i += n
		found, at = append(found, i), w.all[i].end
	}
	return found
}
