package shop

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"jadetrail/app/store"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// MaxTakenIn bounds a trail or an archive that is taken in, and what it may unpack to.
const MaxTakenIn = 64 << 20

// Bounds of what names a file that is taken in, in characters.
const (
	maxNumber   = 32
	maxFileName = 120
)

var takenForm = regexp.MustCompile(`^[0-9a-f]{64}\.(jsonl|zip)$`)

// NotTakenIn says of what went wrong that nothing has come of it.
func NotTakenIn(err error) error {
	return fmt.Errorf("it was not taken in: %w. Nothing was changed", err)
}

// TakeInFile takes in a trail that the bench commands made, or the archive of a job of another installation. It
// is kept as it is, to the byte; one entry of this trail says so, and names its head. Nothing of it becomes an
// act of this shop.
func (s *Shop) TakeInFile(who *store.Technician, named string, r io.Reader) (said string, err error) {
	b, err := io.ReadAll(io.LimitReader(r, MaxTakenIn+1))
	if err == nil && len(b) > MaxTakenIn {
		err = fmt.Errorf("it is larger than %d MiB", MaxTakenIn>>20)
	}
	if err == nil {
		named, err = lineSaid("the file's name", named, maxFileName, true)
	}
	if err != nil {
		return "", NotTakenIn(err)
	}
	e := trail.Entry{Time: s.Now(), Who: who.Name, Act: trail.ActTakeIn}
	var head, kind string
	var records map[string]map[string][]byte
	if bytes.HasPrefix(b, []byte("PK\x03\x04")) {
		var a *archived
		if a, err = readArchive(b); err == nil {
			head, kind, records = a.head, "zip", a.records
			e.Text = fmt.Sprintf(
				"Archive of job %s taken in: %s, %s; its trail had the head %s", a.number,
				words.Plural(a.entries, "entry", "entries"), words.Plural(len(a.records), "record", "records"), head,
			)
		}
	} else {
		var rep *trail.Report
		if rep, err = trail.Verify(bytes.NewReader(b), nil); err == nil && !rep.Sound() {
			err = fmt.Errorf("its chain is broken. %s", strings.Join(rep.Problems[:min(len(rep.Problems), 3)], " "))
		} else if err == nil && rep.Entries == 0 {
			err = errors.New("it holds no entries")
		}
		if err == nil {
			head, kind = rep.Head, "jsonl"
			e.Text = fmt.Sprintf(
				"Trail %q taken in: %s, head %s", named, words.Plural(int(rep.Entries), "entry", "entries"), head,
			)
		}
	}
	if err != nil {
		return "", NotTakenIn(err)
	}
	name := head + "." + kind
	e.ID, e.Reason = "e-taken-in-"+head[:40]+"-"+kind, "kept as "+name
	act := Act{
		ID: "taken-in-" + head[:40] + "-" + kind, Entry: e,
		Files: []File{{Name: filepath.Join("taken-in", name), Data: b}},
	}
	for id, files := range records { // where there are none of that name
		if _, err := os.Stat(filepath.Join(s.Records.Dir, id)); err == nil {
			continue
		}
		for part, x := range files {
			act.Files = append(act.Files, File{Name: filepath.Join("records", id, part), Data: x})
		}
	}
	if err := s.Books.Do(act); err != nil {
		return "", fmt.Errorf("%s: %w", named, err)
	}
	return e.Text + ".", nil
}

// archived is what an archive of a job holds.
type archived struct {
	number, head string
	entries      int
	records      map[string]map[string][]byte
}

// readArchive reads the archive of a job and checks it: every entry fits its hash, and every
// record is the one that its entry names.
func readArchive(b []byte) (*archived, error) {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, fmt.Errorf("it is no archive that can be read: %w", err)
	}
	if len(z.File) > 20000 {
		return nil, errors.New("it holds too many files")
	}
	left := int64(MaxTakenIn)
	files := map[string][]byte{}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if !filepath.IsLocal(f.Name) || strings.Contains(f.Name, `\`) {
			return nil, fmt.Errorf("the name %q leads out of it", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return nil, err
		}
		x, err := io.ReadAll(io.LimitReader(r, left+1))
		r.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		if left -= int64(len(x)); left < 0 {
			return nil, fmt.Errorf("it unpacks to more than %d MiB", MaxTakenIn>>20)
		}
		files[f.Name] = x
	}
	var job struct {
		Version      int
		Number, Head string
	}
	if err := json.Unmarshal(files["job.json"], &job); err != nil || job.Version != 1 || len(job.Head) != 64 {
		return nil, errors.New("it is not the archive of a job (job.json is missing, or of another version)")
	}
	a := &archived{head: strings.ToLower(job.Head), records: map[string]map[string][]byte{}}
	if a.number, err = lineSaid("its number", job.Number, maxNumber, true); err != nil {
		return nil, err
	}
	if !takenForm.MatchString(a.head + ".zip") {
		return nil, errors.New("its head is not a hash")
	}
	hashes := map[string]string{}
	for _, line := range bytes.Split(bytes.TrimSpace(files["trail.jsonl"]), []byte("\n")) {
		if len(line) == 0 {
			continue
		}
		e, err := trail.ReadLine(line)
		if err != nil {
			return nil, fmt.Errorf("entry %d of it: %w", a.entries+1, err)
		}
		if a.entries++; e.Act == trail.ActDelete && e.RecordHash != "" {
			hashes[e.Record] = e.RecordHash
		}
	}
	for name, x := range files {
		part := strings.Split(name, "/")
		if len(part) != 3 || part[0] != "records" {
			continue
		}
		if a.records[part[1]] == nil {
			a.records[part[1]] = map[string][]byte{}
		}
		a.records[part[1]][part[2]] = x
	}
	for id, parts := range a.records {
		if err := trail.CheckRecord(id, hashes[id], parts); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// TakenIn is what was taken in, as it came.
func (s *Shop) TakenIn(name string) ([]byte, error) {
	if !takenForm.MatchString(name) {
		return nil, fmt.Errorf("this page does not exist: %w", store.ErrNotFound)
	}
	b, err := os.ReadFile(filepath.Join(s.Folder("taken-in"), name))
	if err != nil {
		return nil, fmt.Errorf("this page does not exist: %w", store.ErrNotFound)
	}
	return b, nil
}
