// Package core_test holds the rule that imports point inwards.
package core_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// rank orders the packages of the core: each may import only what stands before
// it.
var rank = map[string]int{
	"form": -1, "finding": 0, "disk": 0, "chance": 0, "pc": 0, "sign": 1, "block": 1, "script": 1, "digest": 1, "intake": 1, "traces": 1, "table": 2, "volume": 2, "volume/ntfs": 3, "volume/fat": 3, "volume/exfat": 3,
	"volume/ext": 3, "volume/recognise": 4, "layout": 4, "sample": 5, "sample/loop": 2, "survey": 5, "plan": 5, "route": 6, "shelf": 6, "seek": 6, "carry": 5, "compare": 7, "trail": 7, "compile": 7, "words": 8,
	"ran": 9, "facts": 10, "sample/drives": 11, "prove": 11, "held": 11, "rehearse": 12, "run": 13,
}

func list(t *testing.T, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Fields(string(out))
}

func TestImportsPointInwards(t *testing.T) {
	for _, pkg := range list(t, "./...") {
		name := strings.TrimPrefix(pkg, "jadetrail/core/")
		if pkg == "jadetrail/core" {
			continue
		}
		mine, known := rank[name]
		if !known {
			t.Errorf("%s has no place in the order of the core", name)
		}
		for _, dep := range list(t, "-deps", pkg) {
			for _, out := range []string{"net/http", "database/sql", "html/template", "text/template", "jadetrail/app", "gorm.io", "github.com/gin-gonic", "github.com/spf13"} {
				if dep == out || strings.HasPrefix(dep, out+"/") {
					t.Errorf("%s reaches %s", name, dep)
				}
			}
		}
		for _, dep := range list(t, "-f", `{{join .Imports "\n"}}`, pkg) {
			if other, ok := strings.CutPrefix(dep, "jadetrail/core/"); ok && rank[other] >= mine {
				t.Errorf("%s imports %s, which does not stand before it", name, other)
			}
		}
	}
}

// sources calls visit with every source file below a folder that is no test.
func sources(t *testing.T, root string, visit func(path, text string)) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		visit(filepath.ToSlash(path), string(text))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestNoClock finds where the core asks a clock that was not handed in. Only chance, which tests alone use, does.
func TestNoClock(t *testing.T) {
	sources(t, ".", func(path, text string) {
		for _, clock := range []string{"time.Now()", "time.Since(", "time.Until("} {
			if strings.Contains(text, clock) && !strings.HasPrefix(path, "chance/") {
				t.Errorf("%s asks %s", path, clock)
			}
		}
	})
}

// TestNoSentenceTakenApart finds where something is learnt from what is said to people: a text, a title, an error's
// words. The dot at its end may go. Only form reads an error's words, because encoding/json says in no other way
// that a field is not known.
func TestNoSentenceTakenApart(t *testing.T) {
	apart := regexp.MustCompile(`strings\.(Contains|HasPrefix|HasSuffix|Cut|CutPrefix|CutSuffix|TrimPrefix|Split|SplitN|Index|LastIndex|Fields)\(` +
		`[^,()]*(\([^()]*\))?[^,()]*\.(Text|Title|Detail|Why|Reason|Outcome|Title\(\)|Error\(\)|Told\(\))[,)]`)
	for _, root := range []string{".", "../app", "../cmd"} {
		sources(t, root, func(path, text string) {
			for _, found := range apart.FindAllString(text, -1) {
				if path != "form/form.go" {
					t.Errorf("%s: %s", path, found)
				}
			}
		})
	}
}
