package plan

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Step is one change in a plan: the partition that it is about, and what its kind says besides. As JSON it is one
// object, with the kind as "do" and what the kind says beside it.
type Step struct {
	Partition string // its number when the plan begins, or the name that an earlier step has given; "" for none
	Body             // of its kind
	strays    []string
}

// Body is what a step of one kind says besides its partition. Each kind has a type of its own, in the file of its
// name; its zero value says nothing.
type Body interface {
	// Do is the kind of step that it is the body of.
	Do() Do
}

// Of is the body of a step, the zero one where the step is of another kind.
func Of[B Body](s Step) B {
	b, _ := s.Body.(B)
	return b
}

// Blank is the body of a kind that says nothing; nil for a kind that nobody knows.
func Blank(do Do) Body {
	if k := kinds[do]; k != nil {
		return k.blank
	}
	return nil
}

// Do is what a step does, "" for one without a body.
func (s Step) Do() Do {
	if s.Body == nil {
		return ""
	}
	return s.Body.Do()
}

// unheard is the body of a step of a kind that nobody knows.
type unheard Do

func (u unheard) Do() Do { return Do(u) }

// What bodies of several kinds say.
type (
	// reasoned is a body with the reasons for lifting what protects a partition.
	reasoned interface {
		reasons() (release, waiver string)
		withReasons(release, waiver string) Body
	}
	// naming is a body that gives what it makes or copies out a name, by which later steps speak of it.
	naming interface{ named() string }
	// amounting is a body with an amount that can be changed later.
	amounting interface {
		amount() string
		withAmount(text string) Body
	}
	// foldered is a body whose files go into a folder.
	foldered interface {
		folder() string
		withFolder(path string) Body
	}
	// recorded is a body that makes a partition from a record.
	recorded interface{ record() string }
	// backedUp is a body that fills a partition from a backup.
	backedUp interface{ backup() string }
	// edged is a body that changes one end of what it is about.
	edged interface{ edge() string }
	// referring is a body that speaks of another partition than that of the step.
	referring interface {
		refers() string
		referringTo(partition string) Body
	}
)

// Release is the reason for which a step lifts the protection of what it touches, "" for none.
func (s Step) Release() string { release, _ := s.reasons(); return release }

// Waiver is the reason for which a step goes without a backup, "" for none.
func (s Step) Waiver() string { _, waiver := s.reasons(); return waiver }

func (s Step) reasons() (release, waiver string) {
	if b, ok := s.Body.(reasoned); ok {
		return b.reasons()
	}
	return "", ""
}

// WithReasons is the step with other reasons; one of a kind that has none stays as it is.
func (s Step) WithReasons(release, waiver string) Step {
	if b, ok := s.Body.(reasoned); ok {
		s.Body = b.withReasons(release, waiver)
	}
	return s
}

// Record is the record that a step makes a partition from, "" for none.
func (s Step) Record() string {
	if b, ok := s.Body.(recorded); ok {
		return b.record()
	}
	return ""
}

// Backup is the backup that a step fills a partition from, or the name of what an earlier step copied out; "" for
// none.
func (s Step) Backup() string {
	if b, ok := s.Body.(backedUp); ok {
		return b.backup()
	}
	return ""
}

// Unreasoned is the step without the reasons and without the acceptance of damage that it was given.
func (s Step) Unreasoned() Step {
	return s.WithReasons("", "").Accepting("")
}

// Accepting is a step that brings something back although it is damaged, for a reason; one of another kind stays
// as it is.
func (s Step) Accepting(reason string) Step {
	if b, ok := s.Body.(BringingBack); ok {
		b.Damaged = reason
		s.Body = b
	}
	return s
}

// Unnamed is the step without the names of the files that it brings or takes.
func (s Step) Unnamed() Step {
	switch b := s.Body.(type) {
	case CopyingBack:
		b.Only = nil
		s.Body = b
	case CopyingOut:
		b.Only = nil
		s.Body = b
	}
	return s
}

// As is the name that a step gives what it makes or copies out, "" for none.
func (s Step) As() string {
	if b, ok := s.Body.(naming); ok {
		return b.named()
	}
	return ""
}

// Amount is the amount that a step can be given anew, "" for none.
func (s Step) Amount() string {
	if b, ok := s.Body.(amounting); ok {
		return b.amount()
	}
	return ""
}

// SetAmount gives the step another amount; it returns false for a kind that has none.
func (s *Step) SetAmount(text string) bool {
	b, ok := s.Body.(amounting)
	if ok {
		s.Body = b.withAmount(text)
	}
	return ok
}

// Folder is the folder that a step's files go into, "" for the root or where it is of another kind.
func (s Step) Folder() string {
	if b, ok := s.Body.(foldered); ok {
		return b.folder()
	}
	return ""
}

// WithFolder is the step with another folder; one of a kind that has none stays as it is.
func (s Step) WithFolder(path string) Step {
	if b, ok := s.Body.(foldered); ok {
		s.Body = b.withFolder(path)
	}
	return s
}

// AtHead tells that a step changes the head of what it is about, not its end.
func (s Step) AtHead() bool {
	b, ok := s.Body.(edged)
	return ok && b.edge() == "head"
}

// Other is the second partition that a step speaks of, "" for none.
func (s Step) Other() string {
	if b, ok := s.Body.(referring); ok {
		return b.refers()
	}
	return ""
}

// head is what JSON has of every step.
type head struct {
	Do        Do     `json:"do"`
	Partition string `json:"partition,omitempty"`
}

// MarshalJSON writes what all steps have, and behind it what the step's kind has.
func (s Step) MarshalJSON() ([]byte, error) {
	first, err := json.Marshal(head{s.Do(), s.Partition})
	if _, unknown := s.Body.(unheard); err != nil || unknown || s.Body == nil {
		return first, err
	}
	rest, err := json.Marshal(s.Body)
	if err != nil || string(rest) == "{}" {
		return first, err
	}
	return slices.Concat(bytes.TrimSuffix(first, []byte("}")), []byte(","), rest[1:]), nil
}

// UnmarshalJSON reads a step of any kind. What its kind has no use for is noted, and Valid refuses the step for it:
// what was kept by earlier versions is read all the same.
func (s *Step) UnmarshalJSON(b []byte) error {
	var h head
	if err := json.Unmarshal(b, &h); err != nil {
		return err
	}
	*s = Step{Partition: h.Partition, Body: unheard(h.Do)}
	k := kinds[h.Do]
	if k == nil {
		return nil
	}
	body := reflect.New(reflect.TypeOf(k.blank))
	if err := json.Unmarshal(b, body.Interface()); err != nil {
		return err
	}
	s.Body = body.Elem().Interface().(Body)
	var all map[string]json.RawMessage
	if err := json.Unmarshal(b, &all); err != nil {
		return err
	}
	known := slices.Concat(fieldsOf(reflect.TypeOf(h)), fieldsOf(body.Type().Elem()))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if !slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, name) }) {
			s.strays = append(s.strays, name)
		}
	}
	return nil
}

// fieldsOf are the names that JSON has for the fields of a type.
func fieldsOf(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		out = append(out, name)
	}
	return out
}

// Valid says what is wrong with a step's words; nil where they can be laid over a drive.
func (s Step) Valid() error {
	k := kinds[s.Do()]
	switch {
	case k == nil && s.Do() == "":
		return errors.New("it does not say what to do")
	case k == nil:
		return fmt.Errorf("%q is not a step that can be carried out", s.Do())
	case len(s.strays) > 0:
		return fmt.Errorf("it has a field %q, which a step that does %q has no use for", s.strays[0], s.Do())
	}
	return k.valid(s)
}
