package web

import (
	"encoding/json"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
)

var keptField = regexp.MustCompile(`name="kept" value="([^"]*)"`)

// kept is the form that a page has kept, "" for none.
func kept(page string) string {
	if m := keptField.FindStringSubmatch(page); m != nil {
		return html.UnescapeString(m[1])
	}
	return ""
}

// A form that is sent after the session has ended does nothing, and is not lost: whoever signs in is shown it, and sends
// it. What is no form of a job, or more than is typed, is not kept; what somebody else has made up leads nowhere else.
func TestSentTooLate(t *testing.T) {
	s := open(t)
	steps := s.shown(t, "J-1042", "steps")
	form := []string{"do", "delete", "partition", "4", "release", `the "customer" has <a> stick`, "waiver", "none needed"}
	s.post(t, "/sign-out")
	page := s.post(t, steps, form...)
	held := kept(page)
	if !strings.Contains(page, "nothing was done") || held == "" {
		t.Fatalf("sent too late: %.600s", page)
	}
	// A wrong password does not lose it.
	if page = s.post(t, "/sign-in", "login", "tobias", "password", "wrong-wrong-wrong", "kept", held); kept(page) != held {
		t.Fatalf("after a wrong password: %.600s", page)
	}
	page = s.post(t, "/sign-in", "login", "tobias", "password", "lantern-tobias", "kept", held)
	if !strings.Contains(page, "Send it now") || !strings.Contains(page, html.EscapeString(form[5])) || strings.Contains(page, "<a> stick") {
		t.Fatalf("signed in again: %.900s", page)
	}
	if st, err := s.WorkOut("J-1042", ""); err != nil || len(st.Steps) != 0 {
		t.Fatalf("done before anybody sent it again: %v", err)
	} else {
		st.Drive.Close()
	}
	if page = s.post(t, steps, form...); !strings.Contains(page, "Delete Recovery") {
		t.Errorf("sent again: %.600s", page)
	}
	for name, made := range map[string]keptAct{
		"another site":       {"//elsewhere.example/jobs/x", url.Values{"a": {"b"}}},
		"another address":    {"/people", url.Values{"login": {"x"}}},
		"a script":           {"javascript:alert(1)", nil},
		"up and out of jobs": {"https://elsewhere.example/jobs/J-1042/steps", nil},
	} {
		b, err := json.Marshal(made)
		if err != nil {
			t.Fatal(err)
		}
		s.post(t, "/sign-out")
		if page := s.post(t, "/sign-in", "login", "tobias", "password", "lantern-tobias", "kept", string(b)); strings.Contains(page, "Send it now") {
			t.Errorf("%s is shown to be sent: %.400s", name, page)
		}
	}
	s.post(t, "/sign-out")
	for name, c := range map[string]struct{ path, body, kind string }{
		"a password":     {"/account/password", "new=secret-secret-1", "application/x-www-form-urlencoded"},
		"a whole upload": {"/jobs/J-1042/steps", "a=" + strings.Repeat("x", mostKept), "application/x-www-form-urlencoded"},
		"a file":         {"/jobs/J-1042/pictures", "--x\r\n\r\n--x--", "multipart/form-data; boundary=x"},
	} {
		r := s.raw(t, http.MethodPost, c.path, func(r *http.Request) {
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader(c.body)), int64(len(c.body))
			r.Header.Set("Content-Type", c.kind)
		})
		if r.StatusCode == http.StatusUnauthorized {
			t.Errorf("%s is kept", name)
		}
	}
}
