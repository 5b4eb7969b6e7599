package plan

import (
	"os"
	"strings"
	"testing"
)

// TestKinds names what a kind of step lacks: each is registered with what lays it and reads its words, and stands
// in the file of its name.
func TestKinds(t *testing.T) {
	for _, do := range Kinds() {
		k := kinds[do]
		if k.valid == nil {
			t.Errorf("%s: nothing says what is wrong with its words", do)
		}
		if k.lay == nil {
			t.Errorf("%s: nothing says what it leads to", do)
		}
		if k.blank == nil || k.blank.Do() != do {
			t.Errorf("%s: it has no body of its own", do)
		}
		file := strings.ReplaceAll(string(do), "-", "_") + ".go"
		b, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(b), " = kind{") {
			t.Errorf("%s: it does not stand in %s: %v", do, file, err)
		}
	}
	if s := (Step{Body: unheard("melt")}); s.Valid() == nil || s.Deletes() {
		t.Error("a kind that nobody knows is valid")
	}
}
