package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/invopop/jsonschema"
	schema "github.com/santhosh-tekuri/jsonschema/v6"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// formats are the open files and the shapes of JSON that other programs read or write, by the names of their
// schemas in docs/formats.
var formats = map[string]any{
	"answer":        route.Answer{},    // what routes prints
	"backup":        shelf.Manifest{},  // manifest.json of a backup
	"drive":         survey.Identity{}, // IMAGE.drive.json
	"drives":        driveList{},       // what drives prints
	"entry":         trail.Entry{},     // a line of a trail
	"facts":         pc.Facts{},        // IMAGE.pc.json
	"file-of-a-tar": shelf.Entry{},     // a line of files.jsonl.zst
	"goal":          route.Goal{},
	"head":          trail.Head{},    // a line of heads.jsonl
	"layout":        layout.Layout{}, // what inspect prints
	"plan":          plan.Plan{},
	"record":        trail.Record{}, // record.json of a deletion
	"result":        run.Result{},   // what carry-out prints
	"verification":  trail.Report{}, // what verify-trail prints
}

// shaped is the shape of what writes its JSON itself: a range of bytes is its start and its end, and a step has
// what its kind has.
func shaped(t reflect.Type) *jsonschema.Schema {
	switch t {
	case reflect.TypeFor[disk.Range]():
		two := uint64(2)
		return &jsonschema.Schema{Type: "array", Items: &jsonschema.Schema{Type: "integer"}, MinItems: &two, MaxItems: &two}
	case reflect.TypeFor[plan.Step]():
		any := &jsonschema.Schema{}
		for _, do := range plan.Kinds() {
			r := &jsonschema.Reflector{Anonymous: true, DoNotReference: true, Mapper: shaped}
			one := r.ReflectFromType(reflect.TypeOf(plan.Blank(do)))
			one.Version, one.Required = "", []string{"do"}
			one.Properties.Set("do", &jsonschema.Schema{Const: do})
			one.Properties.Set("partition", &jsonschema.Schema{Type: "string"})
			any.OneOf = append(any.OneOf, one)
		}
		return any
	}
	return nil
}

// TestFormats holds the schemas in docs/formats against the types; with JADETRAIL_FORMATS it writes them anew.
func TestFormats(t *testing.T) {
	dir := filepath.Join("..", "..", "docs", "formats")
	for name, v := range formats {
		r := &jsonschema.Reflector{Mapper: shaped, Anonymous: true, AllowAdditionalProperties: name != "plan" && name != "goal" && name != "facts"}
		made := r.ReflectFromType(reflect.TypeOf(v))
		if span := made.Definitions["Span"]; span != nil { // a gap has nothing of what the table says of a partition
			span.Required = []string{"kind", "start_lba", "end_lba", "bytes", "container"}
		}
		b, err := json.MarshalIndent(made, "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		b = append(b, '\n')
		path := filepath.Join(dir, name+".schema.json")
		if os.Getenv("JADETRAIL_FORMATS") != "" {
			if err := os.WriteFile(path, b, 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		kept, err := os.ReadFile(path)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		} else if string(kept) != string(b) {
			t.Errorf("%s is another shape than %s says; JADETRAIL_FORMATS=1 go test ./cmd/jadetrail -run TestFormats writes it anew", name, path)
		}
	}
	there, err := filepath.Glob(filepath.Join(dir, "*.schema.json"))
	if err != nil || len(there) != len(formats) {
		t.Errorf("%d schemas, and %d formats: %v", len(there), len(formats), err)
	}
}

// TestFormatsHold has the program write files and print JSON of every kind, and holds these against the schemas.
func TestFormatsHold(t *testing.T) {
	image := reception(t)
	held := map[string]int{}
	hold := func(name string, b []byte) {
		t.Helper()
		s, err := schema.NewCompiler().Compile(filepath.Join("..", "..", "docs", "formats", name+".schema.json"))
		if err != nil {
			t.Fatal(err)
		}
		v, err := schema.UnmarshalJSON(bytes.NewReader(b))
		if err == nil {
			err = s.Validate(v)
		}
		if err != nil {
			t.Errorf("%s: %v\n%.500s", name, err, b)
		}
		held[name]++
	}
	file := func(name string, path ...string) {
		t.Helper()
		all, err := filepath.Glob(filepath.Join(path...))
		if err != nil || len(all) == 0 {
			t.Fatalf("%s: %v, %v", name, path, err)
		}
		for _, x := range all {
			b, err := os.ReadFile(x)
			if err != nil {
				t.Fatal(err)
			}
			if filepath.Ext(x) != ".jsonl" {
				hold(name, b)
				continue
			}
			for line := range bytes.Lines(b) {
				hold(name, line)
			}
		}
	}
	facts := image + ".pc.json"
	goal, steps := `{"version": 1, "receiver": "3", "gain": "1 GiB"}`, `{"version": 1, "steps": [{"do": "delete", "partition": "4", "release": "not wanted"}, {"do": "grow", "partition": "3", "by": "1 GiB"}]}`
	hold("goal", []byte(goal))
	hold("plan", []byte(steps))
	plans, err := schema.NewCompiler().Compile(filepath.Join("..", "..", "docs", "formats", "plan.schema.json"))
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{
		`{"version": 1, "steps": [{"do": "grow", "partition": "3", "by": "all", "label": "of another kind"}]}`,
		`{"version": 1, "steps": [{"do": "melt"}]}`, `{"version": 1, "steps": [{"partition": "3"}]}`,
	} {
		v, err := schema.UnmarshalJSON(strings.NewReader(text))
		_, refused := plan.Parse([]byte(text))
		if err != nil || plans.Validate(v) == nil || refused == nil {
			t.Errorf("%s is a plan to the schema, or to the program: %v, %v", text, err, refused)
		}
	}
	hold("layout", []byte(ends(t, 0, "inspect", "--json", "--pc", facts, image)))
	hold("answer", []byte(ends(t, 0, "routes", "--json", "--pc", facts, "--goal", write(t, "goal.json", goal), image)))
	ends(t, 0, "back-up", "--json", "--partition", "4", "--kind", "files", image)
	hold("result", []byte(ends(t, 0, "carry-out", "--json", "--pc", facts, "--serial", "7F3K", "--plan", write(t, "plan.json", steps), image)))
	hold("verification", []byte(ends(t, 0, "verify-trail", "--json", image+".trail/trail.jsonl")))
	if status, out, _ := bin(t, "drives", "--json"); status == 0 {
		hold("drives", []byte(out))
	} else {
		held["drives"]++ // a machine that tells nothing of its drives
	}
	file("drive", image+".drive.json")
	file("facts", facts)
	file("backup", image+".trail", "shelf", "b-*", "manifest.json")
	file("entry", image+".trail", "trail.jsonl")
	file("record", image+".trail", "records", "d-*", "record.json")
	list, err := exec.Command("zstd", "-dcq", filepath.Join(glob(t, image+".trail/shelf/b-*"), "files.jsonl.zst")).Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range bytes.Lines(list) {
		hold("file-of-a-tar", line)
	}
	for name := range formats {
		if held[name] == 0 && name != "head" { // heads are kept by the application alone
			t.Errorf("nothing was held against %s", name)
		}
	}
}

// glob is the one file of a form.
func glob(t *testing.T, form string) string {
	t.Helper()
	all, err := filepath.Glob(form)
	if err != nil || len(all) != 1 {
		t.Fatalf("%s: %v, %v", form, all, err)
	}
	return all[0]
}
