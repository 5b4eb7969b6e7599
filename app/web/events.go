package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

// eventStream is an answer of server-sent events, for as long as the one who reads it sits here.
type eventStream struct {
	s       *Server
	w       io.Writer
	out     *http.ResponseController
	sitting string
	beat    *time.Ticker // when it is to be looked whether somebody still sits there
	closed  func()
}

// tells begins a stream of events; where there are too many, that is the answer. It is to be closed.
func (s *Server) tells(c *gin.Context) (*eventStream, bool) {
	sitting := s.sessions.GetString(c.Request.Context(), "sitting")
	closed, ok := s.watching.open(sitting)
	if !ok {
		c.Status(http.StatusTooManyRequests)
		return nil, false
	}
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	c.Header("Content-Type", "text/event-stream")
	c.Status(http.StatusOK)
	out := http.NewResponseController(c.Writer)
	// The server's limit for reading a request would end the watching.
	if err := out.SetReadDeadline(time.Time{}); err != nil && !errors.Is(err, http.ErrNotSupported) {
		c.Error(err)
		closed()
		return nil, false
	}
	return &eventStream{s, c.Writer, out, sitting, time.NewTicker(5 * time.Second), closed}, true
}

func (x *eventStream) close() {
	x.beat.Stop()
	x.closed()
}

// send tells whether the text has gone out.
func (x *eventStream) send(text string) bool {
	_, err := io.WriteString(x.w, text)
	return err == nil && x.out.Flush() == nil
}

// tell sends an event; "" is the name of the ordinary one.
func (x *eventStream) tell(name string, of any) bool {
	b, err := json.Marshal(of)
	if err != nil {
		return false
	}
	if name != "" {
		name = "event: " + name + "\n"
	}
	return x.send(fmt.Sprintf("%sdata: %s\n\n", name, b))
}

// still sends a sign of life, where the one who reads is neither signed out nor switched off.
func (x *eventStream) still() bool {
	if _, err := x.s.stillSits(x.sitting); notThere(err) == nil && err != nil {
		return false
	}
	return x.send(": still here\n\n")
}
