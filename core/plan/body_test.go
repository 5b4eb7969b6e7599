package plan

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

// filledBody is a body of a kind with something in each of its fields.
func filledBody(t *testing.T, do Do) Body {
	v := reflect.New(reflect.TypeOf(Blank(do))).Elem()
	for i := range v.NumField() {
		switch f := v.Field(i); f.Kind() {
		case reflect.String:
			f.SetString(strings.ToLower(v.Type().Field(i).Name))
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Int, reflect.Int64:
			f.SetInt(int64(i + 7))
		case reflect.Slice:
			f.Set(reflect.ValueOf([]string{"a", "b"}))
		case reflect.Pointer:
			p := reflect.New(f.Type().Elem())
			if p.Elem().Kind() == reflect.Bool {
				p.Elem().SetBool(true)
			}
			f.Set(p)
		default:
			t.Fatalf("%s has a field of kind %s", do, f.Kind())
		}
	}
	return v.Interface().(Body)
}

// TestBodies writes a step of each kind as JSON, with every field that the kind has, and reads it back. The order
// of the fields is what approvals of earlier versions were given for, and stays.
func TestBodies(t *testing.T) {
	order := []string{
		"do", "partition", "by", "to", "edge", "drop_restore_points", "release", "waiver", "erase", "record", "find", "told_at", "damaged",
		"keep", "backups", "start_lba", "size", "type", "format", "label", "name", "attributes", "as", "test", "active", "backup", "only",
		"folder", "into", "volume", "move", "act", "scheme", "letter", "wait_seconds",
	}
	// "in" stands before "act" as it did.
	order = append(order[:31:31], append([]string{"in"}, order[31:]...)...)
	for _, do := range Kinds() {
		for _, want := range []Step{
			{Body: Blank(do)}, {Partition: "4", Body: Blank(do)}, {Partition: "4", Body: filledBody(t, do)},
		} {
			b, err := json.Marshal([]Step{want})
			if err != nil {
				t.Fatal(err)
			}
			var got []Step
			if err := json.Unmarshal(b, &got); err != nil || !reflect.DeepEqual(got, []Step{want}) {
				t.Errorf("%s: %s came back as %+v, %v", do, b, got, err)
			}
			at := -1
			for i, name := range order {
				if k := strings.Index(string(b), `"`+name+`":`); k >= 0 && k < at {
					t.Errorf("%s: %q does not stand in its order: %s", do, order[i], b)
				} else if k >= 0 {
					at = k
				}
			}
		}
	}
	for text, want := range map[string]string{
		`{"do":"grow","partition":"3","by":"all"}`:              "",
		`{"do":"grow","partition":"3","By":"all"}`:              "",
		`{"do":"grow","partition":"3","by":"all","label":"X"}`:  `"label"`,
		`{"do":"delete","partition":"3","waver":"none needed"}`: `"waver"`,
		`{"do":"restart","wait_seconds":3}`:                     `"wait_seconds"`,
		`{"do":"melt","partition":"3"}`:                         `"melt"`,
		`{"partition":"3"}`:                                     "what to do",
	} {
		var s Step
		if err := json.Unmarshal([]byte(text), &s); err != nil {
			t.Fatal(err)
		}
		if err := s.Valid(); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	for _, text := range []string{`{"do":"grow","by":3}`, `{"do":3}`, `[]`, `{"do":"grow","partition":{}}`} {
		var s Step
		if err := json.Unmarshal([]byte(text), &s); err == nil {
			t.Errorf("%s is read as %+v", text, s)
		}
	}
}

// TestWhatBodiesSay asks steps of other kinds what only some kinds say.
func TestWhatBodiesSay(t *testing.T) {
	for _, do := range Kinds() {
		s := Step{Partition: "4", Body: filledBody(t, do)}
		if got := s.WithReasons("r", "w"); got.Release() != "" && got.Release() != "r" || got.Waiver() != "" && got.Waiver() != "w" {
			t.Errorf("%s: its reasons are %q and %q", do, got.Release(), got.Waiver())
		}
		if bare := s.Unreasoned(); bare.Release()+bare.Waiver()+Of[BringingBack](bare).Damaged != "" {
			t.Errorf("%s: reasons stay: %+v", do, bare)
		}
		if had := s.Amount(); (had != "") != s.SetAmount("9 MiB") || had != "" && s.Amount() != "9 MiB" {
			t.Errorf("%s: its amount was %q and is %q", do, had, s.Amount())
		}
		if had := s.Folder(); had != "" && s.WithFolder("there").Folder() != "there" {
			t.Errorf("%s: its folder stays %q", do, had)
		}
		if b, err := json.Marshal(s.Unnamed()); err != nil || strings.Contains(string(b), `"only"`) {
			t.Errorf("%s: files keep their names: %s", do, b)
		}
	}
}
