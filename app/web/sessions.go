package web

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"

	"jadetrail/app/signin"
	"jadetrail/app/store"
)

// How long somebody stays signed in: in all, and without being there. Whoever watches work is there.
const (
	longestSession = 12 * time.Hour
	idleSession    = 2 * time.Hour
)

// hashedSessions keep sessions under the hash of what the browser holds: who reads them cannot take one over.
type hashedSessions struct{ scs.Store }

func keptToken(token string) string {
	h := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(h[:])
}

// Find implements scs.Store.
func (s hashedSessions) Find(token string) ([]byte, bool, error) {
	return s.Store.Find(keptToken(token))
}

// Commit implements scs.Store.
func (s hashedSessions) Commit(token string, data []byte, until time.Time) error {
	return s.Store.Commit(keptToken(token), data, until)
}

// Delete implements scs.Store.
func (s hashedSessions) Delete(token string) error { return s.Store.Delete(keptToken(token)) }

// sits begins a sitting of somebody who has shown who they are.
func (s *Server) sits(c *gin.Context, t *store.Technician) error {
	ctx := c.Request.Context()
	if err := s.sessions.RenewToken(ctx); err != nil {
		return err
	}
	now := s.Now().UTC()
	x := store.Sitting{
		ID: rand.Text(), Technician: t.ID, BegunAt: now, SeenAt: now, Source: s.source(c),
		Browser: cut(c.Request.UserAgent(), 200),
	}
	if err := errors.Join(s.Store.ForgetSittings(now.Add(-longestSession), now.Add(-idleSession)), s.Store.Begin(x)); err != nil {
		return err
	}
	s.sessions.Remove(ctx, "half")
	s.sessions.Put(ctx, "sitting", x.ID)
	s.log.Info("signed in", "id", sent(c.Request).id, "who", t.Login, "from", x.Source)
	return s.knows(c, t)
}

// cut is a text of at most most bytes, without half a letter at its end.
func cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && text[most]&0xC0 == 0x80 {
		most--
	}
	return text[:most]
}

// browserOf says in words what a browser calls itself.
func browserOf(agent string) string {
	has := func(text string) bool { return strings.Contains(agent, text) }
	name := "a program"
	switch {
	case has("Firefox/"):
		name = "Firefox"
	case has("Edg/"):
		name = "Edge"
	case has("Chrome/"):
		name = "Chrome"
	case has("Safari/"):
		name = "Safari"
	}
	switch {
	case has("Android"):
		return name + " on Android"
	case has("iPhone"), has("iPad"):
		return name + " on iOS"
	case has("Windows"):
		return name + " on Windows"
	case has("Mac OS X"):
		return name + " on macOS"
	case has("Linux"):
		return name + " on Linux"
	}
	return name
}

// sitting is who sits where the request comes from.
func (s *Server) sitting(c *gin.Context) (*store.Technician, error) {
	id := s.sessions.GetString(c.Request.Context(), "sitting")
	if id == "" {
		return nil, store.ErrNotFound
	}
	return s.stillSits(id)
}

func (s *Server) stillSits(id string) (*store.Technician, error) {
	now := s.Now().UTC()
	return s.Store.Sits(id, now.Add(-longestSession), now.Add(-idleSession), now)
}

// knownFor is for how long a browser is known in which somebody has signed in.
const knownFor = 180 * 24 * time.Hour

// knows lets a browser be known as one of somebody's: strangers who try the account do not keep it out.
func (s *Server) knows(c *gin.Context, t *store.Technician) error {
	token := rand.Text()
	http.SetCookie(c.Writer, &http.Cookie{
		Name: s.cookie("known"), Value: token, Path: "/", MaxAge: int(knownFor / time.Second), HttpOnly: true,
		Secure: s.secure, SameSite: http.SameSiteStrictMode,
	})
	return s.Store.Know(signin.KeptOf(token), t.ID, s.Now())
}

// cookie is what a cookie is called: one that is sent over TLS alone belongs to this host alone.
func (s *Server) cookie(name string) string {
	if s.secure {
		return "__Host-jadetrail-" + name
	}
	return "jadetrail-" + name
}

// source is where a request comes from: the address, of which one host may have many in the newer protocol.
func (s *Server) source(c *gin.Context) string {
	at, err := netip.ParseAddr(c.ClientIP())
	if err != nil {
		host, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
		return host
	}
	if at = at.Unmap(); at.Is6() && !at.IsLoopback() {
		if p, err := at.Prefix(64); err == nil {
			return p.String()
		}
	}
	return at.String()
}

// attempt is a try to sign in to an account.
func (s *Server) attempt(c *gin.Context, login string) (signin.Attempt, error) {
	a := signin.Attempt{Source: s.source(c), Account: login}
	had, err := c.Request.Cookie(s.cookie("known"))
	if err != nil {
		return a, nil // none
	}
	t, err := s.Store.Account(login)
	if err != nil {
		return a, notThere(err)
	}
	kept := signin.KeptOf(had.Value)
	if ok, err := s.Store.Knows(kept, t.ID); err != nil || !ok {
		return a, err
	}
	a.Known = kept
	return a, nil
}

// streams counts what is watched, by whose sitting.
type streams struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

// Bounds of streams that are open at once.
const (
	mostStreams   = 400
	streamsOfEach = 16
)

// open lets a stream be opened, until it is closed; false where there are too many.
func (x *streams) open(sitting string) (closed func(), ok bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.all >= mostStreams || x.of[sitting] >= streamsOfEach {
		return nil, false
	}
	x.all++
	x.of[sitting]++
	return func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.all--
		if x.of[sitting]--; x.of[sitting] == 0 {
			delete(x.of, sitting)
		}
	}, true
}

// slowest is how long one piece of an answer may take to be read.
const slowest = 30 * time.Second

// patient gives each piece of an answer its time: who reads too slowly is let go.
type patient struct {
	http.ResponseWriter
	control *http.ResponseController
	within  time.Duration
}

func patiently(within time.Duration, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(&patient{w, http.NewResponseController(w), within}, r)
	})
}

// Unwrap implements what http.ResponseController asks for.
func (p *patient) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// Write implements http.ResponseWriter.
func (p *patient) Write(b []byte) (int, error) {
	p.control.SetWriteDeadline(time.Now().Add(p.within)) // where there is no such limit, there is nobody who is slow
	return p.ResponseWriter.Write(b)
}
