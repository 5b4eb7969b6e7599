package pc

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
)

func till() *Facts {
	return &Facts{
		Version: 1, Name: "till PC", State: Running, Start: "c", Letters: map[string]string{"c": "C", "d": "D"},
		Devices: []Device{{"card reader", "T"}, {"optical drive", "U"}}, Wanted: map[string]string{"t": "T", "g": "G", "d": "D"},
	}
}

func TestParse(t *testing.T) {
	b, _ := json.Marshal(till())
	if f, err := Parse(b); err != nil || f.Devices[1].Letter != "U" {
		t.Errorf("written out and read in: %+v, %v", f, err)
	}
	for name, text := range map[string]string{
		"not JSON":         `{`,
		"an unknown field": `{"version":1,"state":"off","colour":"red"}`,
		"version":          `{"version":2,"state":"off"}`,
		"state":            `{"version":1,"state":"asleep"}`,
		"a letter twice":   `{"version":1,"state":"off","letters":{"a":"T"},"devices":[{"name":"card reader","letter":"T"}]}`,
		"no letter":        `{"version":1,"state":"off","letters":{"a":"TT"}}`,
		"waiting":          `{"version":1,"state":"off","wait_seconds":-1}`,
		"too long":         `{"version":1,"state":"off","name":"` + strings.Repeat("x", maxFacts) + `"}`,
	} {
		if _, err := Parse([]byte(text)); !errors.Is(err, ErrFacts) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestLetters(t *testing.T) {
	f := till()
	for _, c := range []struct{ id, letter, want, says string }{
		{"t", "e:", "E", ""}, {"d", "", "", ""}, {"d", "d", "D", ""},
		{"t", "T", "", "card reader; V: is free"}, {"t", "D", "", "another volume; E: is free"},
		{"t", "5", "", "not a letter"}, {"t", "TT", "", "not a letter"}, {"c", "K", "", "finds itself by it"},
	} {
		g, err := f.WithLetter(c.id, c.letter)
		switch {
		case c.says != "":
			if !errors.Is(err, ErrLetter) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s to %q: %v, want %q", c.id, c.letter, err, c.says)
			}
		case err != nil || g.Letters[c.id] != c.want:
			t.Errorf("%s to %q: %v, %v", c.id, c.letter, g, err)
		}
	}
	if f.Letters["d"] != "D" || len(f.Letters) != 2 {
		t.Errorf("the facts were changed: %v", f.Letters)
	}
	got := f.MissingLetters(func(id string) bool { return id != "g" })
	if len(got) != 2 || got[0] != (Missing{Letter: "G", Partition: "g", Gone: true}) || got[1] != (Missing{Letter: "T", Partition: "t", Holder: "card reader", Device: true, Propose: "V"}) {
		t.Errorf("%+v", got)
	}
	full := &Facts{Letters: map[string]string{}}
	for l := 'C'; l <= 'Z'; l++ {
		full.Letters[string(l)+"-volume"] = string(l)
	}
	if l := full.FreeLetter("T"); l != "" {
		t.Errorf("with all letters taken %q is proposed", l)
	}
}

func FuzzParse(f *testing.F) {
	b, _ := json.Marshal(till())
	f.Add(b)
	f.Add([]byte(`{"version":1,"state":"off","letters":{"a":"C"},"wanted_letters":{"b":"C"}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		x, err := Parse(b)
		if err != nil {
			return
		}
		x.MissingLetters(func(string) bool { return true })
		for _, l := range []string{"", "T", "d:", "1"} {
			if y, err := x.WithLetter("some", l); err == nil && l == "T" && y.Letters["some"] != "T" {
				t.Errorf("%s: the letter was not given", b)
			}
		}
	})
}

// TestOpens has a volume open under the letter that is expected of it again, whatever has that letter.
func TestOpens(t *testing.T) {
	reader, drive := Device{Name: "the card reader", Letter: "T"}, Device{Name: "the optical drive", Letter: "D"}
	f := &Facts{Version: 1, Letters: map[string]string{"c": "C"}, Devices: []Device{reader, drive}, Wanted: map[string]string{"t": "T"}}
	out, moved, err := f.Opens("t", "T")
	if err != nil || moved == nil || *moved != (Device{Name: "the card reader", Letter: "U"}) || out.Letters["t"] != "T" || out.Devices[0].Letter != "U" {
		t.Errorf("held by a device: %+v, %+v, %v", out, moved, err)
	}
	if f.Devices[0] != reader || f.Letters["t"] != "" {
		t.Errorf("the facts themselves were changed: %+v", f)
	}
	if m := out.MissingLetters(func(string) bool { return true }); len(m) != 0 {
		t.Errorf("still missing: %+v", m)
	}
	if m := f.MissingLetters(func(string) bool { return true }); len(m) != 1 || !m[0].Device {
		t.Errorf("missing: %+v", m)
	}
	if out, moved, err = f.Opens("t", "X"); err != nil || moved != nil || out.Letters["t"] != "X" {
		t.Errorf("a free letter: %+v, %+v, %v", out, moved, err)
	}
	if _, _, err := f.Opens("t", "C"); !errors.Is(err, ErrLetter) {
		t.Errorf("held by another volume: %v", err)
	}
	for from, to := range map[string]string{"T": "C", "D": "T", "Q": "R", "": "R", "C": "E"} {
		if _, err := f.WithDevice(from, to); !errors.Is(err, ErrLetter) {
			t.Errorf("from %q to %q: %v", from, to, err)
		}
	}
	full := &Facts{Version: 1, Letters: map[string]string{}}
	for l := 'A'; l <= 'Z'; l++ {
		full.Devices = append(full.Devices, Device{Name: "a device", Letter: string(l)})
	}
	if _, _, err := full.Opens("t", "T"); !errors.Is(err, ErrLetter) {
		t.Errorf("no letter is free: %v", err)
	}
}
