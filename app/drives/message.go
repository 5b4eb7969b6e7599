package drives

import (
	"encoding/json"
	"errors"
	"fmt"

	"jadetrail/core/block"
	"jadetrail/core/form"
)

// maxRequest bounds a request, maxAnswer an answer.
const (
	maxRequest = 1 << 10
	maxAnswer  = 1 << 20
)

// Request asks the helper for something: one JSON object, with a line's end, and one for each connection.
type Request struct {
	Version int    `json:"version"`
	Do      string `json:"do"` // list, open, release
	// Name and Sequence are of the drive that was listed: what has its name by now, and is another, is not opened.
	Name     string `json:"name,omitempty"`
	Sequence string `json:"sequence,omitempty"`
	Write    bool   `json:"write,omitempty"`
}

// Answer is what the helper says. With the answer to open comes the open file, as ancillary data (unix(7), SCM_RIGHTS).
type Answer struct {
	Version int      `json:"version"`
	Code    string   `json:"code,omitempty"` // why not, "" where it was done
	Text    string   `json:"text,omitempty"` // the same in a sentence
	Drives  []Listed `json:"drives,omitempty"`
}

// Listed is a drive, and whether it may be opened.
type Listed struct {
	block.Drive
	Allowed bool `json:"allowed"`
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

// ParseRequest reads a request. Nothing that it says is more than bounded and of the right form.
func ParseRequest(b []byte) (*Request, error) {
	if len(b) > maxRequest {
		return nil, fmt.Errorf("%w: it is longer than %d bytes", ErrRequest, maxRequest)
	}
	var r Request
	if err := form.Read(b, &r); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRequest, err)
	}
	named := r.Name != "" && r.Sequence != ""
	switch {
	case r.Version != 1:
		return nil, fmt.Errorf("%w: version %d is not known", ErrRequest, r.Version)
	case r.Do == "list" && r == Request{Version: 1, Do: "list"}, r.Do == "open" && named, r.Do == "release" && named && !r.Write:
		return &r, nil
	}
	return nil, fmt.Errorf("%w: it is no list, open or release", ErrRequest)
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

func (a *Answer) line() ([]byte, error) {
	b, err := json.Marshal(a)
	if err == nil && len(b) >= maxAnswer {
		err = errors.New("there are too many drives to tell of")
	}
	return append(b, '\n'), err
}
