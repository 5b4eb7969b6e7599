package drives

import (
	"errors"
	"fmt"

	"jadetrail/core/block"
	"jadetrail/core/form"
)

// maxLine bounds a request, and an answer.
const maxLine = 4 << 10

// Request asks the helper to open a drive: one JSON object, with a line's end. Name and Sequence are of the drive that
// was looked at: what has its name by now, and is another, is not opened.
type Request struct {
	Version  int    `json:"version"`
	Name     string `json:"name"`
	Sequence string `json:"sequence"`
	Write    bool   `json:"write,omitempty"`
}

// Answer is what the helper says, with a line's end: once when it has opened a drive, with the open file as ancillary
// data (unix(7), SCM_RIGHTS), and once when it has let go of it.
type Answer struct {
	Version int    `json:"version"`
	Code    string `json:"code,omitempty"` // why not, "" where it was done
	Text    string `json:"text,omitempty"` // the same in a sentence
}

// ErrNotAllowed tells that no rule names a drive.
var ErrNotAllowed = errors.New("no rule of this machine allows it")

// ErrRequest tells that a request was none.
var ErrRequest = errors.New("the request was not understood")

// codes are the refusals that whoever asks may tell apart.
var codes = []struct {
	code string
	err  error
}{
	{"not-allowed", ErrNotAllowed}, {"own", block.ErrOwn}, {"busy", block.ErrBusy}, {"other", block.ErrOther},
	{"none", block.ErrNoDrive}, {"read-only", block.ErrReadOnly}, {"request", ErrRequest},
}

// ParseRequest reads a request.
func ParseRequest(b []byte) (*Request, error) {
	if len(b) > maxLine {
		return nil, fmt.Errorf("%w: it is longer than %d bytes", ErrRequest, maxLine)
	}
	var r Request
	if err := form.Read(b, &r); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRequest, err)
	}
	switch {
	case r.Version != 1:
		return nil, fmt.Errorf("%w: version %d is not known", ErrRequest, r.Version)
	case r.Name == "" || r.Sequence == "":
		return nil, fmt.Errorf("%w: it does not say which drive is meant", ErrRequest)
	}
	return &r, nil
}

// refusal is the answer that something was not done.
func refusal(err error) Answer {
	a := Answer{Version: 1, Code: "failed", Text: err.Error()}
	for _, c := range codes {
		if errors.Is(err, c.err) {
			a.Code = c.code
			break
		}
	}
	return a
}

// refused is the error of an answer, nil where it was done.
func (a *Answer) refused() error {
	if a.Code == "" {
		return nil
	}
	for _, c := range codes {
		if c.code == a.Code {
			return told{a.Text, c.err}
		}
	}
	return errors.New(a.Text)
}

// told is a refusal in the helper's words, of a kind that is known here.
type told struct {
	text string
	kind error
}

func (t told) Error() string { return t.text }

func (t told) Unwrap() error { return t.kind }
