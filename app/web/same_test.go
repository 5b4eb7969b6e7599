package web

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"html"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadetrail/core/plan"
)

// What of a page differs from run to run.
var (
	scriptTags = regexp.MustCompile(`(?s)<script type="application/json"[^>]*>(.*?)</script>`)
	otherTags  = regexp.MustCompile(`(?s)<(script|style|svg)\b.*?</(script|style|svg)>`)
	agoTags    = regexp.MustCompile(`just now|[0-9]+ (second|minute)s? ago|took [0-9.]+ s|[0-9.]+ (s|min)\b|[0-9.]+ [KMG]?i?B/s|[0-9.]+ GiB( free)?`)
	stateTags  = regexp.MustCompile(`(plan=\d+&(amp;)?)?drive=[0-9a-f]+|jadetrail-test-[0-9]+|\b[0-9a-f]{64}\b|(?m:^[0-9a-f]{8,12}…?$)`)
)

// inWords is what a page says, and its JSON.
func inWords(page string) string {
	var out strings.Builder
	for _, m := range scriptTags.FindAllStringSubmatch(page, -1) {
		var b bytes.Buffer
		if json.Indent(&b, []byte(m[1]), "", " ") == nil {
			out.Write(b.Bytes())
			out.WriteByte('\n')
		}
	}
	page = otherTags.ReplaceAllString(page, "")
	for line := range strings.Lines(html.UnescapeString(anyTag.ReplaceAllString(page, "\n"))) {
		if line = strings.TrimSpace(line); line != "" {
			out.WriteString(line + "\n")
		}
	}
	return stateTags.ReplaceAllString(agoTags.ReplaceAllString(out.String(), "SOME TIME"), "STATE")
}

// TestSamePages lays plans and carries them out through the pages, from seeds that are the same each time, and
// writes what the pages say into the folder that JADETRAIL_SAME names: see scripts/same.sh.
func TestSamePages(t *testing.T) {
	into := os.Getenv("JADETRAIL_SAME")
	if into == "" {
		t.Skip("scripts/same.sh records what the pages say, and compares")
	}
	plans, err := strconv.Atoi(os.Getenv("JADETRAIL_PLANS"))
	if err != nil {
		plans = 300
	}
	const each = 15 // plans of one shop
	for n := range (plans + each - 1) / each {
		t.Run(strconv.Itoa(n), func(t *testing.T) {
			rng, step := rand.New(rand.NewPCG(uint64(n), 19)), 0
			s, _ := openSmall(t)
			s.as(t, "odile")
			// A page that is asked for while a run is under way would draw from the same randomness.
			s.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
			var out strings.Builder
			next := func() {
				step++
				at := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC).Add(time.Duration(step) * time.Hour)
				s.Now, s.Random = func() time.Time { return at }, rand.NewChaCha8(sha256.Sum256(fmt.Appendf(nil, "%d %d", n, step)))
			}
			get := func(path string) {
				fmt.Fprintf(&out, "GET %s\n%s\n", path, inWords(s.get(t, path)))
			}
			for range min(each, plans-n*each) {
				next()
				steps := s.anySteps(rng)
				b, err := json.Marshal(plan.Plan{Version: 1, Steps: steps})
				if err != nil {
					t.Fatal(err)
				}
				fmt.Fprintf(&out, "%s\n", b)
				s.post(t, "/jobs/J-1042/plan/use", "text", string(b))
				for _, page := range []string{"", "/safeguard", "/plan.json"} {
					get("/jobs/J-1042" + page)
				}
				s.planned(t, steps...)
				next()
				s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
				s.idle(t)
				w, _ := s.Desk.State(filepath.Join(s.Data, "drives", "tidewater-reception.img"))
				fmt.Fprintln(&out, w.Kind, w.Trouble, w.Outcome)
				for _, page := range []string{"", "/confirm", "/hand-over", "/tables/trail.csv", "/tables/records.csv"} {
					get("/jobs/J-1042" + page)
				}
			}
			for _, page := range []string{"/", "/trail", "/trail.jsonl", "/shelf", "/dock"} {
				get(page)
			}
			if err := os.WriteFile(filepath.Join(into, fmt.Sprintf("pages-%02d.txt", n)), []byte(out.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		})
	}
}
