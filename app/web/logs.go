package web

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// requestID names a request in the log, and on the page that tells of a failure.
func requestID() string {
	var b [4]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// outcome is a reply of which it is noted how it went.
type outcome struct {
	http.ResponseWriter
	status int
	bytes  int64
}

// Unwrap implements what http.ResponseController asks for.
func (s *outcome) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// WriteHeader implements http.ResponseWriter.
func (s *outcome) WriteHeader(code int) {
	if s.status == 0 {
		s.status = code
	}
	s.ResponseWriter.WriteHeader(code)
}

// Write implements http.ResponseWriter.
func (s *outcome) Write(b []byte) (int, error) {
	if s.status == 0 {
		s.status = http.StatusOK
	}
	n, err := s.ResponseWriter.Write(b)
	s.bytes += int64(n)
	return n, err
}

// logged gives every request an id and writes a line about how it went: never what was sent with it, nor what
// stands behind the question mark of its address.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		was, x := &outcome{ResponseWriter: w}, &sending{id: requestID()}
		w.Header().Set("X-Request-Id", x.id)
		next.ServeHTTP(was, r.WithContext(context.WithValue(r.Context(), sendingKey{}, x)))
		level := slog.LevelInfo
		switch {
		case was.status >= http.StatusInternalServerError:
			level = slog.LevelError
		case r.URL.Path == "/healthz" || strings.HasPrefix(r.URL.Path, "/static/"):
			level = slog.LevelDebug
		}
		s.log.Log(r.Context(), level, "request", "id", x.id, "method", r.Method, "path", r.URL.Path, "status", was.status,
			"who", x.who, "bytes", was.bytes, "took", time.Since(began).Round(time.Microsecond))
	})
}

// refused notes that something was not done, and why.
func (s *Server) refused(r *http.Request, err error) {
	x := sent(r)
	s.log.Info("refused", "id", x.id, "who", x.who, "path", r.URL.Path, "why", err)
}

// failed notes that something went wrong which nobody could have known of.
func (s *Server) failed(r *http.Request, err error) {
	x := sent(r)
	s.log.Error("failed", "id", x.id, "who", x.who, "path", r.URL.Path, "error", err)
}

// recovered answers where the program itself made a mistake, and notes where.
func (s *Server) recovered(c *gin.Context, what any) {
	s.log.Error(
		"mistake", "id", sent(c.Request).id, "path", c.Request.URL.Path, "what", fmt.Sprint(what), "stack",
		string(debug.Stack()),
	)
	s.fail(c, errors.New("something went wrong inside the program"))
}
