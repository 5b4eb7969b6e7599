package web

import (
	"html"
	"net/url"
	"path"
	"strings"
	"testing"
	"time"

	"jadetrail/core/plan"
	"jadetrail/core/volume"
)

// TestCopyPicked picks a folder and a file in one volume: they go to the shelf, putting them into another volume of the
// same drive becomes a step, and carried out they are there, and stay where they were. What cannot be is refused.
func TestCopyPicked(t *testing.T) {
	s := open(t)
	in := func(number int) map[string]volume.File {
		t.Helper()
		_, d, err := s.OpenJob("J-1042", "", false)
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		all, err := d.Survey.Volume(number).Files()
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]volume.File{}
		for _, f := range all {
			if f.IsFile() {
				out[f.Path] = f
			}
		}
		return out
	}
	before := in(5)
	folder, single := "", ""
	for p := range before {
		if d := path.Dir(p); strings.HasPrefix(p, "X-rays/2024/") && folder == "" {
			folder = d
		} else if strings.HasPrefix(p, "X-rays/2025/") && single == "" {
			single = p
		}
	}
	page := s.get(t, "/jobs/J-1042/inside?p=5&path=X-rays")
	if !strings.Contains(page, "Copy what is ticked to another volume") || strings.Contains(page, `<option value="A:5">`) {
		t.Fatalf("it is not offered, or into itself: %.3000s", page)
	}
	for _, form := range [][]string{
		{"partition", "5", "target", "A:3"},
		{"partition", "5", "only", folder},
		{"partition", "5", "only", folder, "target", "A:5"},
		{"partition", "5", "only", "no such thing", "target", "A:3"},
		{"partition", "77", "only", folder, "target", "A:3"},
		{"partition", "5", "only", folder, "target", "Q:3"},
	} {
		s.post(t, "/jobs/J-1042/copy", form...)
		s.idle(t)
		if j, _, err := s.Store.Job("J-1042", ""); err != nil || j.Plan != nil {
			t.Errorf("%v: a step was planned, %v", form, err)
		}
	}
	read(t)(s.client.PostForm(s.url+"/jobs/J-1042/copy", url.Values{
		"partition": {"5"}, "only": {folder, single}, "target": {"A:3"}, "folder": {"From X"},
	}))
	s.idle(t)
	st, err := s.WorkOut("J-1042", "")
	if err != nil {
		t.Fatal(err)
	}
	st.Drive.Close()
	if len(st.Steps) != 1 || st.Steps[0].Do() != plan.CopyBack || st.Steps[0].Partition != "3" {
		t.Fatalf("planned: %+v; %+v", st.Steps, st.Work)
	}
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K", "compare", "yes")
	if out := s.settle(t); !strings.Contains(out, "Carried out and read back") {
		t.Fatal(out)
	}
	after, c := in(5), in(3)
	n := 0
	for p, f := range before {
		if after[p].Bytes != f.Bytes {
			t.Errorf("%s is not where it was", p)
		}
		picked := p == single || strings.HasPrefix(p, folder+"/")
		if there, ok := c["From X/"+p]; ok != picked || ok && there.Bytes != f.Bytes {
			t.Errorf("%s, picked %v: in the other volume %v, %+v", p, picked, ok, there)
		}
		if picked {
			n++
		}
	}
	if n < 2 {
		t.Errorf("only %d were picked", n)
	}
	// Their names are found in the backup, and after the first time no drive is read for that.
	find := "/find?q=" + url.QueryEscape(path.Base(single))
	time.Sleep(2500 * time.Millisecond) // until what was written is old enough to be kept
	s.get(t, find)
	s.get(t, find)
	count := s.reads(t)
	if page := s.get(t, find); !strings.Contains(page, "in the backup of X: X-rays") || !strings.Contains(page, html.EscapeString(single)) {
		t.Errorf("a file in a backup is not found by its name: %.3000s", page)
	}
	if of := count(); len(of) > 0 {
		t.Errorf("reads: %v", of)
	}
}
