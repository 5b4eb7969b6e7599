package words

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// constants are the values of a type's constants in a package, by their names.
func constants(t *testing.T, dir, typ string) map[string]string {
	t.Helper()
	out := map[string]string{}
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, path := range files {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, b, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			v, ok := n.(*ast.ValueSpec)
			if !ok || len(v.Values) != 1 {
				return true
			}
			if id, ok := v.Type.(*ast.Ident); ok && id.Name == typ {
				if lit, ok := v.Values[0].(*ast.BasicLit); ok {
					out[v.Names[0].Name], _ = strconv.Unquote(lit.Value)
				}
			}
			return true
		})
	}
	return out
}

// TestEveryEntryHasWords names the kinds of entry that have no words, or cannot be chosen from.
func TestEveryEntryHasWords(t *testing.T) {
	acts := constants(t, "../trail", "Act")
	if len(acts) < 25 {
		t.Fatalf("only %d kinds of entry were found", len(acts))
	}
	for _, do := range plan.Kinds() {
		acts["step "+string(do)] = string(do)
	}
	for name, act := range acts {
		if Entered(trail.Act(act)) == "" {
			t.Errorf("%s: no words say what was done", name)
		}
		if !slices.Contains(Acts, trail.Act(act)) {
			t.Errorf("%s: it cannot be chosen from the trail", name)
		}
	}
}

// TestEveryStepHasWords names the kinds of steps of which nothing says what they do with the partition that they
// name; those of notThere name none that is there before.
func TestEveryStepHasWords(t *testing.T) {
	notThere := []plan.Do{plan.Create, plan.Rebuild, plan.BringBack, plan.Mend, plan.Restart}
	for _, do := range plan.Kinds() {
		for _, act := range []plan.ContainerAct{plan.GrowIt, plan.ShrinkIt, plan.Dissolve} {
			step := plan.Step{Partition: "1", Body: plan.Blank(do)}
			if do == plan.Container {
				step.Body = plan.Containing{Act: act}
			}
			does := Does(step, 3)
			has := !strings.HasPrefix(does, " ")
			numbered := strings.Contains(does, "in step 3") || strings.Contains(does, "from step 3")
			if has == slices.Contains(notThere, do) || !numbered {
				t.Errorf("%s: %q", do, does)
			}
		}
	}
	if got := Does(plan.Step{Body: plan.Deletion{Erase: true}}, 2); got != "deleted and erased in step 2" {
		t.Errorf("of an erasing: %q", got)
	}
}

// TestOffered names what can be chosen and has no words for it.
func TestOffered(t *testing.T) {
	for _, a := range []plan.Act{
		{Do: plan.Grow}, {Do: plan.Grow, Edge: "head"}, {Do: plan.Shrink}, {Do: plan.Slide}, {Do: plan.Combine}, {Do: plan.Split}, {Do: plan.Delete},
		{Do: plan.Letter}, {Do: plan.Look}, {Do: plan.Create}, {Do: plan.BringBack}, {Do: plan.Clear}, {Do: plan.ParkRecovery}, {Do: plan.UseRecovery},
		{Do: plan.StartOrder}, {Do: plan.DropStartEntry}, {Do: plan.NoteIdentity}, {Do: plan.Container, Act: plan.GrowIt}, {Do: plan.Container, Act: plan.Dissolve},
	} {
		if Offered(a) == "" {
			t.Errorf("%s %s: it is offered without words", a.Do, a.Act)
		}
	}
}

// TestInShort names the obstacles that have no word. Those of notes stand beside a step that can be done.
func TestInShort(t *testing.T) {
	notes := []plan.Code{plan.PlaceNamed, plan.OverRecord, plan.PathsChange, plan.WrongContents, plan.StartEntryLeft, plan.NotKnown, plan.LessKept}
	codes := constants(t, "../plan", "Code")
	if len(codes) < 50 {
		t.Fatalf("only %d codes were found", len(codes))
	}
	for name, code := range codes {
		if strings.HasSuffix(name, "Missing") || slices.Contains(notes, plan.Code(code)) {
			continue // the gate asks for what is missing
		}
		if InShort(&plan.Obstacle{Code: plan.Code(code)}) == "" {
			t.Errorf("%s (%s): no word says it in short", name, code)
		}
	}
}
