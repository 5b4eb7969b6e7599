package web

import (
	"go/parser"
	positions "go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestPagesTouchNothing holds that pages ask the shop: what is in its files, and who entered what, is nothing that a
// handler reads or writes by itself.
func TestPagesTouchNothing(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(positions.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			t.Fatal(err)
		}
		for _, im := range f.Imports {
			path, _ := strconv.Unquote(im.Path.Value)
			switch path {
			case "os", "jadetrail/core/carry", "jadetrail/core/compile", "jadetrail/core/script", "gorm.io/gorm":
				t.Errorf("%s imports %s", name, path)
			}
		}
	}
}
