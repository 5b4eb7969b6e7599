// Package form reads what people and other programs write as JSON, and says in words what is wrong with it.
package form

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Read reads one JSON value into v, with no field that v does not have and nothing behind it. How long b may be is
// for the caller to say.
func Read(b []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return read(d, v)
}

// ReadOf is Read of what may have fields besides that v does not have: another program may have use for them.
func ReadOf(b []byte, v any) error { return read(json.NewDecoder(bytes.NewReader(b)), v) }

func read(d *json.Decoder, v any) error {
	if err := d.Decode(v); err != nil {
		return errors.New(inWords(err))
	}
	if _, err := d.Token(); err != io.EOF {
		return errors.New("something follows it")
	}
	return nil
}

// inWords says what is wrong with JSON.
func inWords(err error) string {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	const unknown = `json: unknown field "`
	switch {
	case errors.As(err, &syntax):
		return fmt.Sprintf("it is no JSON: something is wrong at byte %d", syntax.Offset)
	case errors.As(err, &kind) && kind.Field != "":
		return fmt.Sprintf("its field %q holds a %s, where that does not belong", kind.Field, kind.Value)
	case errors.As(err, &kind):
		return fmt.Sprintf("it is of the kind %s, where an object with fields belongs", kind.Value)
	case errors.Is(err, io.EOF):
		return "it is empty"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it breaks off in the middle"
	case strings.HasPrefix(err.Error(), unknown):
		return fmt.Sprintf(
			"it has a field %q, which is not known",
			strings.TrimSuffix(strings.TrimPrefix(err.Error(), unknown), `"`),
		)
	}
	return "a value in it cannot be read"
}
