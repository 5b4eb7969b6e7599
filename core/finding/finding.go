// Package finding is what reading a drive has to say about it: one remark a
// value, with a code for programs and a sentence for people.
package finding

import "fmt"

// Severity of a finding. Only an Error makes a drive unsound.
type Severity string

// The severities.
const (
	Note    Severity = "note"
	Warning Severity = "warning"
	Error   Severity = "error"
)

// Finding is one remark. Partition is the number of the partition it is about,
// 0 for the drive.
type Finding struct {
	Code      string   `json:"code"`
	Severity  Severity `json:"severity"`
	Text      string   `json:"text"`
	Partition int      `json:"partition,omitempty"`
}

// List collects findings.
type List []Finding

// Add appends a finding with a formatted text.
func (l *List) Add(s Severity, code, format string, args ...any) {
	*l = append(*l, Finding{Code: code, Severity: s, Text: fmt.Sprintf(format, args...)})
}

// On returns the findings with their partition set to number.
func (l List) On(number int) List {
	out := make(List, len(l))
	for i, f := range l {
		f.Partition = number
		out[i] = f
	}
	return out
}

// FirstError returns the first finding of severity Error, or nil.
func (l List) FirstError() *Finding {
	for i := range l {
		if l[i].Severity == Error {
			return &l[i]
		}
	}
	return nil
}
