package web

import (
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"os"
	"slices"
	"strings"
	"testing"

	"jadetrail/app/signin"
	"jadetrail/app/store"
	"jadetrail/core/trail"
)

// TestRights asks for every address there is, as everybody there is: what the table says is what is answered.
func TestRights(t *testing.T) {
	s := open(t)
	routes := map[string]bool{}
	for _, r := range s.routes().Routes() {
		routes[r.Method+" "+r.Path] = true
	}
	delete(routes, "HEAD /static/*path")
	for r := range routes {
		if _, ok := rights[r]; !ok {
			t.Errorf("nobody has a right to %s: it is missing in the table", r)
		}
	}
	for r := range rights {
		if !routes[r] {
			t.Errorf("the table has %s, which there is not", r)
		}
	}
	hash, err := signin.Hash(t.Context(), "lantern-rhea", signin.Public)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.AddPerson(&store.Technician{Login: "rhea", Name: "Rhea Moss", Role: store.Reader, PasswordHash: hash}, trail.Entry{ID: "e-rhea", Act: trail.ActPerson}); err != nil {
		t.Fatal(err)
	}
	who := map[store.Role]*http.Client{everybody: {}}
	for role, login := range map[store.Role]string{store.Reader: "rhea", store.Worker: "tobias", store.Leader: "odile"} {
		jar, _ := cookiejar.New(nil)
		who[role] = &http.Client{Jar: jar}
		x := *s
		x.client = who[role]
		x.as(t, login)
	}
	for _, c := range who {
		c.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	// Nothing is there that these would do something to.
	fill := strings.NewReplacer(
		":job", "J-9999", ":ask", "ask-none", ":id", "999999", ":note", "none", ":what", "none", ":record", "d-none", ":backup",
		"b-none", ":key", "none", ":upload", "none", ":file", "none", ":name", "none", ":seq", "999999", "*path", "mark.svg",
	)
	for r, needs := range rights {
		if r == "POST /sign-out" {
			continue
		}
		method, path, _ := strings.Cut(r, " ")
		for role, client := range who {
			req, err := http.NewRequest(method, s.url+fill.Replace(path), nil)
			if err != nil {
				t.Fatal(err)
			}
			answer, err := client.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			answer.Body.Close()
			out := strings.HasPrefix(answer.Header.Get("Location"), "/sign-in?next=")
			switch {
			case needs == everybody || role.May(needs):
				if answer.StatusCode == http.StatusForbidden || out {
					t.Errorf("%s is refused to %q: %d", r, role, answer.StatusCode)
				}
			case role == everybody:
				if !out {
					t.Errorf("%s answers somebody who is not signed in: %d", r, answer.StatusCode)
				}
			case answer.StatusCode != http.StatusForbidden:
				t.Errorf("%s answers a %s: %d", r, role, answer.StatusCode)
			}
			if answer.StatusCode >= 500 {
				t.Errorf("%s as %q: %d", r, role, answer.StatusCode)
			}
		}
	}
}

// TestRightsAreTold holds the table in docs to the one that counts. JADETRAIL_FORMATS writes it anew.
func TestRightsAreTold(t *testing.T) {
	const file = "../../docs/rights.md"
	var b strings.Builder
	b.WriteString("# Who may do what\n\nMade from the table that the application goes by, and held to it by a test. What is not here, nobody may.\n\n")
	b.WriteString("| address | everybody | reader | technician | lead |\n|---|---|---|---|---|\n")
	list := make([]string, 0, len(rights))
	for r := range rights {
		list = append(list, r)
	}
	slices.SortFunc(list, func(a, b string) int {
		x, y := strings.SplitN(a, " ", 2), strings.SplitN(b, " ", 2)
		return strings.Compare(x[1]+" "+x[0], y[1]+" "+y[0])
	})
	for _, r := range list {
		fmt.Fprintf(&b, "| `%s` |", r)
		for _, role := range []store.Role{everybody, store.Reader, store.Worker, store.Leader} {
			mark := " "
			if rights[r] == everybody || role.May(rights[r]) {
				mark = " yes "
			}
			b.WriteString(mark + "|")
		}
		b.WriteString("\n")
	}
	if os.Getenv("JADETRAIL_FORMATS") != "" {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != b.String() {
		t.Errorf("%s is not what the application goes by: %v. JADETRAIL_FORMATS=1 writes it anew", file, err)
	}
}
