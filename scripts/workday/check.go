package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

const (
	driveMiB = 320
	mib      = 1 << 20
)

// newDrive makes the person's drive: three partitions that nothing is known of, in an old table.
func (p *person) newDrive(path string, signature uint32) error {
	b := make([]byte, driveMiB*mib)
	binary.LittleEndian.PutUint32(b[440:], signature)
	b[510], b[511] = 0x55, 0xaa
	for i, x := range [][2]int{{1, 40}, {80, 64}, {220, 48}} {
		e := b[446+16*i:]
		e[4] = 0x07
		binary.LittleEndian.PutUint32(e[8:], uint32(x[0]*2048))
		binary.LittleEndian.PutUint32(e[12:], uint32(x[1]*2048))
		in := b[x[0]*mib : (x[0]+x[1])*mib]
		for at := 0; at < len(in); at += 8 {
			binary.LittleEndian.PutUint64(in[at:], p.rnd.Uint64())
		}
		sum := sha256.Sum256(in)
		p.parts = append(p.parts, part{at: x[0], size: x[1], sum: hex.EncodeToString(sum[:])})
	}
	return os.WriteFile(path, b, 0o644)
}

// entries are the partitions of a drive with an old table, by their numbers: first MiB and size.
func entries(path string) (map[int][2]int, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, 512)
	if _, err := io.ReadFull(f, b); err != nil {
		return nil, err
	}
	out := map[int][2]int{}
	for i := range 4 {
		if e := b[446+16*i:]; e[4] != 0 {
			out[i+1] = [2]int{int(binary.LittleEndian.Uint32(e[8:])) / 2048, int(binary.LittleEndian.Uint32(e[12:])) / 2048}
		}
	}
	return out, nil
}

// imageOf is where a person's drive lies.
func (h *house) imageOf(p *person) string {
	for _, dir := range []string{"drives", "dock"} {
		if path := filepath.Join(h.data, dir, p.file()); exists(path) {
			return path
		}
	}
	return ""
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

// holds says how the drive differs from the partitions, "" where it does not.
func (h *house) holds(p *person, want []part) (string, error) {
	path := h.imageOf(p)
	found, err := entries(path)
	if err != nil {
		return "", err
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	there := 0
	for _, x := range want {
		if x.away {
			continue
		}
		there++
		sum := sha256.New()
		if _, err := io.Copy(sum, io.NewSectionReader(f, int64(x.at)*mib, int64(x.size)*mib)); err != nil {
			return "", err
		}
		if !slices.Contains(slices.Collect(maps.Values(found)), [2]int{x.at, x.size}) {
			return fmt.Sprintf("no partition of %d MiB begins at %d MiB", x.size, x.at), nil
		}
		if hex.EncodeToString(sum.Sum(nil)) != x.sum {
			return fmt.Sprintf("the partition at %d MiB holds other bytes", x.at), nil
		}
	}
	if there != len(found) {
		return fmt.Sprintf("%d partitions are there, not %d", len(found), there), nil
	}
	return "", nil
}

// backups are the whole backups on the shelf, by the serial numbers of their drives.
func (h *house) backups() map[string][]string {
	out := map[string][]string{}
	list, _ := filepath.Glob(filepath.Join(h.data, "shelf", "b-*", "manifest.json"))
	for _, f := range list {
		var m struct {
			ID   string
			From struct{ Serial string }
		}
		if b, err := os.ReadFile(f); err == nil && json.Unmarshal(b, &m) == nil {
			out[m.From.Serial] = append(out[m.From.Serial], m.ID)
		}
	}
	return out
}

// entered is what the trail has of a drive.
type entered struct {
	acts map[string]int
	kept map[string]bool // backups
	ends map[string]int  // of runs
	runs map[string]bool
}

func (h *house) trail() (map[string]*entered, error) {
	rows, err := h.db.Query("SELECT line FROM trail_entries ORDER BY seq")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]*entered{}
	ids := map[string]bool{}
	for rows.Next() {
		var line []byte
		if err := rows.Scan(&line); err != nil {
			return nil, err
		}
		var e struct {
			ID, Act, Run, Backup string
			Drive                struct{ Serial string }
		}
		if err := json.Unmarshal(line, &e); err != nil {
			return nil, err
		}
		if ids[e.ID] {
			return nil, fmt.Errorf("the entry %s stands in the trail twice", e.ID)
		}
		ids[e.ID] = true
		x := out[e.Drive.Serial]
		if x == nil {
			x = &entered{map[string]int{}, map[string]bool{}, map[string]int{}, map[string]bool{}}
			out[e.Drive.Serial] = x
		}
		x.acts[e.Act]++
		if e.Run != "" {
			x.runs[e.Run] = true
		}
		switch e.Act {
		case "back-up":
			x.kept[e.Backup] = true
		case "delete-backup":
			delete(x.kept, e.Backup)
		case "carried-out", "undone", "not-begun", "left":
			x.ends[e.Run]++
		}
	}
	return out, rows.Err()
}

// check says what is not as it should be, when everything is back and nothing goes on.
func (h *house) check(people []*person) (wrong []string) {
	inTrail, err := h.trail()
	if err != nil {
		return []string{err.Error()}
	}
	shelf := h.backups()
	for _, p := range people {
		say := func(format string, args ...any) { wrong = append(wrong, p.name+": "+fmt.Sprintf(format, args...)) }
		for _, text := range p.wrong {
			say("%s", text)
		}
		p.wrong = nil
		x := inTrail[p.serial]
		if x == nil {
			say("the trail knows nothing of %s", p.serial)
			continue
		}
		switch is, err := h.holds(p, p.parts); {
		case err != nil:
			say("the drive: %v", err)
		case is != "":
			say("the drive: %s", is)
		}
		var image *string
		if err := h.db.QueryRow("SELECT image FROM bays WHERE letter = ?", p.bay).Scan(&image); err != nil {
			say("bay %s: %v", p.bay, err)
		}
		in, out := exists(filepath.Join(h.data, "drives", p.file())), exists(filepath.Join(h.data, "dock", p.file()))
		if in == out || in != (image != nil) {
			say("the drive is in the folder of drives: %v, in the dock: %v, in its bay: %v", in, out, image != nil)
		}
		if n := x.acts["attach"] - x.acts["detach"]; (n == 1) != in || n < 0 || n > 1 {
			say("it is in its bay: %v, attached %d times and detached %d times", in, x.acts["attach"], x.acts["detach"])
		}
		have := map[string]bool{}
		for _, id := range shelf[p.serial] {
			have[id] = true
		}
		if !maps.Equal(have, x.kept) {
			say("on the shelf are %v, in the trail %v", slices.Sorted(maps.Keys(have)), slices.Sorted(maps.Keys(x.kept)))
		}
		for run := range x.runs {
			if x.ends[run] != 1 {
				say("the run %s has ended %d times", run, x.ends[run])
			}
		}
		for _, act := range []string{"attach", "detach", "back-up", "delete-backup", "carried-out"} {
			if n := x.acts[act]; n < p.least[act] || n > p.most[act] {
				say("%s stands in the trail %d times; it was done %d to %d times", act, n, p.least[act], p.most[act])
			}
			p.least[act], p.most[act] = x.acts[act], x.acts[act]
		}
	}
	if err := h.verifies(people[0]); err != nil {
		wrong = append(wrong, "the trail: "+err.Error())
	}
	return wrong
}

// verifies exports the trail and has it verified at the terminal.
func (h *house) verifies(p *person) error {
	line, err := p.get("/trail.jsonl")
	if err != nil || line.status != 200 {
		return fmt.Errorf("it cannot be exported: %v %d", err, line.status)
	}
	path := h.disks + ".jsonl"
	if err := os.WriteFile(path, []byte(line.body), 0o644); err != nil {
		return err
	}
	defer os.Remove(path)
	if out, err := exec.Command("bin/jadetrail", "verify-trail", path).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// atTheEnd unpacks every backup with a program that is not ours, and compares it.
func (h *house) atTheEnd(people []*person) (wrong []string) {
	shelf := h.backups()
	for _, p := range people {
		for _, id := range shelf[p.serial] {
			c := exec.Command("zstd", "-d", "-c", filepath.Join(h.data, "shelf", id, "image.zst"))
			sum, said := sha256.New(), &bytes.Buffer{}
			c.Stdout, c.Stderr = sum, said
			err := c.Run()
			hash := hex.EncodeToString(sum.Sum(nil))
			if err != nil || !slices.ContainsFunc(p.parts, func(x part) bool { return x.sum == hash }) {
				wrong = append(wrong, fmt.Sprintf("%s: the backup %s is none of a partition: %v %s", p.name, id, err, strings.TrimSpace(said.String())))
			}
		}
	}
	return wrong
}
