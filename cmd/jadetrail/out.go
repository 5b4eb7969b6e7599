package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"unicode"

	"jadetrail/core/words"
)

// plain writes text for people to a terminal. Names come from drives, and must not be able to send the
// terminal anything but letters.
type plain struct{ w io.Writer }

// out is where text for people goes.
func out() io.Writer { return plain{os.Stdout} }

// Write implements io.Writer.
func (p plain) Write(b []byte) (int, error) {
	if _, err := p.w.Write(bytes.Map(shown, b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// shown is a letter, or what stands for one that is not written but would do something: control
// characters but for tab, return and line feed, which are ours, and signs that turn the direction.
func shown(r rune) rune {
	if hidden(r) {
		return unicode.ReplacementChar
	}
	return r
}

func hidden(r rune) bool {
	return unicode.IsControl(r) && !strings.ContainsRune("\t\r\n", r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f
}

// printJSON prints a value for programs; what a terminal might obey is escaped.
func printJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	var text strings.Builder
	for _, r := range b.String() {
		if hidden(r) {
			fmt.Fprintf(&text, "\\u%04x", r)
		} else {
			text.WriteRune(r)
		}
	}
	_, err := io.WriteString(os.Stdout, text.String())
	return err
}

// sentence words an error; what the system says of a file is said in words.
func sentence(err error) string {
	text := words.Sentence(err)
	var at *fs.PathError
	if !errors.As(err, &at) {
		return text
	}
	why := words.Either(errors.Is(at, fs.ErrNotExist), "there is no file "+at.Path, "")
	if errors.Is(at, fs.ErrPermission) {
		why = at.Path + " may not be read or written by this account"
	}
	if why == "" {
		return text
	}
	return words.Sentence(errors.New(strings.Replace(err.Error(), at.Error(), why, 1)))
}
