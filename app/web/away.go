package web

import (
	"bytes"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
)

// sending is what becomes of what a request sends.
type sending struct {
	id     string // of the request, in the log
	who    string // the login of who sent it, "" for nobody who is signed in
	acting bool   // it may have been done, or begun
	said   string // what the next page would have said of it
}

type sendingKey struct{}

// sent is what becomes of what a request sends: nothing yet, for one that nobody follows.
func sent(r *http.Request) *sending {
	if s, ok := r.Context().Value(sendingKey{}).(*sending); ok {
		return s
	}
	return &sending{}
}

// awayView says what goes on while the database cannot be reached.
type awayView struct {
	Full    bool   // it is there, and has no room left
	Until   string // what must be so for things to go on
	NotDone bool   // something was sent, which was not done
	Unknown bool   // something was sent, of which it is not known whether it was done
	Said    string // what there is to say of what was sent
	Work    []string
	Waiting int // acts that are written down and finished later
	Again   string
}

// away tells that the database cannot be reached, or has no room: what that means, and what goes on
// meanwhile. It needs neither the database nor a session.
func (s *Server) away(w http.ResponseWriter, r *http.Request, full bool) {
	v := awayView{Full: full, Until: "the database is back", Said: sent(r).said, Waiting: s.Books.Waiting(), Again: "/"}
	switch {
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		v.Again = r.URL.RequestURI()
	case !sent(r).acting:
		v.NotDone = true
	case v.Said == "":
		v.Unknown = true
	}
	for _, st := range s.Desk.Busies() {
		v.Work = append(v.Work, strings.TrimSuffix(st.Title+": "+st.Phase, ": "))
	}
	title, status := "The database is away", http.StatusServiceUnavailable
	if full {
		title, status, v.Until = "The database has no room left", http.StatusInsufficientStorage, "there is room again"
	}
	var b bytes.Buffer
	if err := s.pages["away"].Execute(&b, page{Title: title, Here: "away", Body: v}); err != nil {
		http.Error(w, title+".", status)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Retry-After", "10")
	w.Header().Set("Content-Length", strconv.Itoa(b.Len())) // and not that of a page which is not sent
	w.Header().Del("Location")
	w.WriteHeader(status)
	w.Write(b.Bytes())
}

// reply is what a request is answered with. A session is kept when the page begins to be sent: where
// that fails, it is told instead of the page, which comes to nothing.
type reply struct {
	http.ResponseWriter
	told bool
}

// Unwrap implements what http.ResponseController asks for.
func (a *reply) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// WriteHeader implements http.ResponseWriter.
func (a *reply) WriteHeader(code int) {
	if !a.told {
		a.ResponseWriter.WriteHeader(code)
	}
}

// Write implements http.ResponseWriter.
func (a *reply) Write(b []byte) (int, error) {
	if a.told {
		return len(b), nil
	}
	return a.ResponseWriter.Write(b)
}

// sessionFailed answers where the session of a request cannot be read or kept.
func (s *Server) sessionFailed(w http.ResponseWriter, r *http.Request, err error) {
	if a, ok := w.(*reply); ok {
		defer func() { a.told = true }()
	}
	s.failed(r, err)
	if full := store.Full(err); full || store.Away(err) {
		s.away(w, r, full)
		return
	}
	http.Error(
		w, "Something went wrong inside the program. Look before you send anything once more.",
		http.StatusInternalServerError,
	)
}

// health tells a supervisor whether the application can be used.
func (s *Server) health(c *gin.Context) {
	if err := s.Store.Ping(c.Request.Context()); err != nil {
		c.String(http.StatusServiceUnavailable, "the database cannot be reached; work on drives goes on\n")
		return
	}
	c.String(http.StatusOK, "ok\n")
}
