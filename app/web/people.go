package web

import (
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/demo"
	"jadetrail/app/store"
)

type signInView struct {
	Next, Login, Trouble string
	Accounts             []store.NewPerson
}

// safeNext is a path of this application to go on to after signing in.
func safeNext(p string) string {
	if !strings.HasPrefix(p, "/") || strings.HasPrefix(p, "//") || strings.ContainsAny(p, "\\\r\n") {
		return "/"
	}
	return p
}

func (s *Server) signInPage(c *gin.Context) { s.showSignIn(c, http.StatusOK, signInView{}) }

func (s *Server) showSignIn(c *gin.Context, status int, v signInView) {
	v.Next = safeNext(c.Query("next"))
	if s.demo {
		v.Accounts = demo.People
	}
	s.render(c, status, "signin", page{Title: "Sign in", Here: "signin", Body: v})
}

func (s *Server) signIn(c *gin.Context) {
	login := c.PostForm("login")
	if !s.signIns.allow(strings.ToLower(strings.TrimSpace(login)), s.Now()) {
		s.showSignIn(
			c, http.StatusTooManyRequests,
			signInView{Login: login, Trouble: "Too many tries with this name. Wait a minute and try again."},
		)
		return
	}
	t, err := s.Store.SignIn(login, c.PostForm("password"))
	if err != nil && !errors.Is(err, store.ErrSignIn) {
		s.fail(c, err)
		return
	}
	if err != nil {
		s.showSignIn(
			c, http.StatusUnauthorized,
			signInView{Login: login, Trouble: "Name and password do not belong together. Try again."},
		)
		return
	}
	if err := s.sessions.RenewToken(c.Request.Context()); err != nil {
		s.fail(c, err)
		return
	}
	s.sessions.Put(c.Request.Context(), "technician", int64(t.ID))
	c.Redirect(http.StatusSeeOther, safeNext(c.PostForm("next")))
}

func (s *Server) signOut(c *gin.Context) {
	if err := s.sessions.Destroy(c.Request.Context()); err != nil {
		s.fail(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/sign-in")
}

// signedIn lets only technicians in.
func (s *Server) signedIn(c *gin.Context) {
	id := s.sessions.GetInt64(c.Request.Context(), "technician")
	t, err := s.Store.Technician(uint64(id))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.fail(c, err)
		return
	}
	if id == 0 || err != nil {
		next := "/"
		if c.Request.Method == http.MethodGet {
			next = c.Request.URL.RequestURI()
		}
		c.Redirect(http.StatusSeeOther, "/sign-in?next="+strings.ReplaceAll(next, "&", "%26"))
		c.Abort()
		return
	}
	c.Set("me", t)
	sent(c.Request).who = t.Login
	s.CatchUp()
	sent(c.Request).acting = true
}

// limiter allows ten tries a minute for each name.
type limiter struct {
	mu    sync.Mutex
	tries map[string][]time.Time
}

func newLimiter() *limiter { return &limiter{tries: map[string][]time.Time{}} }

func (l *limiter) allow(name string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.tries) > 10000 { // names that nobody has are forgotten
		clear(l.tries)
	}
	var recent []time.Time
	for _, t := range l.tries[name] {
		if now.Sub(t) < time.Minute {
			recent = append(recent, t)
		}
	}
	if len(recent) >= 10 {
		return false
	}
	l.tries[name] = append(recent, now)
	return true
}
