package web

import (
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

// keptAct is a form that was sent after the session of whoever filled it in had ended. The browser has it, not the
// bench: it comes back with the name and the password, and is shown to be sent once more by whoever signs in.
type keptAct struct {
	Path   string     `json:"path"`
	Fields url.Values `json:"fields"`
}

// mostKept bounds a form that is kept, in bytes.
const mostKept = 16 << 10

// keptFrom is a form that comes too late, "" for one that is not kept: a file, a secret, or more than is typed.
func keptFrom(c *gin.Context) string {
	path := safeNext(c.Request.URL.RequestURI())
	form := c.Request.Method == http.MethodPost && c.ContentType() == "application/x-www-form-urlencoded"
	if !form || !strings.HasPrefix(path, "/jobs/") || c.Request.ContentLength > mostKept {
		return ""
	}
	if err := c.Request.ParseForm(); err != nil {
		return ""
	}
	b, err := json.Marshal(keptAct{path, c.Request.PostForm})
	if err != nil || len(b) > mostKept {
		return ""
	}
	return string(b)
}

// keptIn is the form that the browser has kept, nil for none.
func keptIn(c *gin.Context) *keptAct {
	var k keptAct
	text := c.PostForm("kept")
	if text == "" || len(text) > mostKept || json.Unmarshal([]byte(text), &k) != nil {
		return nil
	}
	if k.Path = safeNext(k.Path); !strings.HasPrefix(k.Path, "/jobs/") {
		return nil
	}
	return &k
}

// againView is a form that can be sent once more.
type againView struct {
	Path, Back string
	Fields     []choice
	Typed      []string // what was typed in it, for people
}

// sendAgain shows what could not be done because nobody was signed in any more.
func (s *Server) sendAgain(c *gin.Context, k *keptAct) {
	u, err := url.Parse(k.Path)
	if err != nil {
		c.Redirect(http.StatusSeeOther, "/")
		return
	}
	v := againView{Path: k.Path, Back: u.Path[:strings.LastIndex(u.Path, "/")]}
	if bay := u.Query().Get("bay"); bay != "" {
		v.Back += "?bay=" + url.QueryEscape(bay)
	}
	var names []string
	for name := range k.Fields {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, text := range k.Fields[name] {
			v.Fields = append(v.Fields, choice{name, text})
			if text = strings.TrimSpace(text); text != "" {
				v.Typed = append(v.Typed, strings.ReplaceAll(name, "_", " ")+": "+text)
			}
		}
	}
	s.render(c, http.StatusOK, "again", page{Title: "Send it again", Here: "signin", Body: v})
}
