// Package trail keeps what was done: entries in a chain in which each holds the
// hash of the one before, and the records of deletions.
//
// An entry is one line of canonical JSON: the keys of every object in order, no
// white space. Its hash is the SHA-256 of that line without the fields hash
// and signature; a signature is Ed25519 over the hash's text.
package trail

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"jadetrail/core/layout"
)

// Version of the entries' format.
const Version = 1

// First is what the first entry has for the hash of the one before.
var First = strings.Repeat("0", 64)

// Act is what an entry says was done.
type Act string

// The acts.
const (
	ActBackup       Act = "back-up"
	ActRestore      Act = "restore"
	ActCopyBack     Act = "copy-back"
	ActCreate       Act = "create"
	ActDeleteBackup Act = "delete-backup"
	ActVerify       Act = "verify-backup"
	ActPlan         Act = "plan"
	ActRelease      Act = "release"
	ActWaiver       Act = "waiver"
	ActDelete       Act = "delete"
	ActGrow         Act = "grow"
	ActMend         Act = "mend"
	ActLetter       Act = "letter"
	ActDetach       Act = "detach"
	ActCompare      Act = "compare"
	ActBringBack    Act = "bring-back"
	ActDone         Act = "carried-out"
	ActUndone       Act = "undone"
	// ActBlank tells that what a record kept was overwritten.
	ActBlank Act = "blank-record"
	// ActLeft ends a run that was neither finished nor taken back: the drive stays as it is.
	ActLeft Act = "left"
	// ActVoid ends a run of which nothing was written to the drive.
	ActVoid   Act = "not-begun"
	ActAttach Act = "attach"
	ActAnswer Act = "answer"
	ActMark   Act = "mark"
	ActShelf  Act = "shelf"
	ActSearch Act = "search"
	ActTakeIn Act = "take-in"
)

// Acts about jobs, people and the shop itself. They name no customer: what a customer is called stands with the job,
// and can be taken out there.
const (
	ActOpenJob  Act = "open-job"
	ActJob      Act = "change-job"
	ActHandOver Act = "hand-over"
	ActCloseJob Act = "close-job"
	ActReopen   Act = "open-again"
	// ActClearJob tells that what was kept of a closed job until a day was taken away.
	ActClearJob Act = "clear-job"
	ActPerson   Act = "person"
	ActShop     Act = "shop"
)

// Drive names the drive an entry is about.
type Drive = layout.Drive

// Answer is the lead's yes or no to what somebody asked for: one step of a plan, one partition, and its
// contents as they were.
type Answer struct {
	Yes      bool   `json:"yes"`
	Lifts    string `json:"lifts"` // a protection, the need of a backup, or what the table calls it
	Purpose  string `json:"purpose"`
	UniqueID string `json:"unique_id"`
	State    string `json:"state"`
	Touched  []int  `json:"touched"`
	AskedBy  string `json:"asked_by"`
	AskedFor string `json:"asked_for"` // the reason that was given with it
}

// Entry is one act. Seq, Previous, Hash and Signature are given by the trail it
// is added to; ID keeps it from being added twice.
type Entry struct {
	Seq     int64     `json:"seq"`
	Version int       `json:"version"`
	ID      string    `json:"id"`
	Time    time.Time `json:"time"`
	Who     string    `json:"who"`
	Act     Act       `json:"act"`
	Job     string    `json:"job,omitempty"`
	Drive   Drive     `json:"drive"`
	Text    string    `json:"text"`
	// Titles name what it is about, as that was called then: the partition that was backed up, or the steps of a
	// plan. Entries of earlier versions have none.
	Titles []string `json:"titles,omitempty"`
	Reason string   `json:"reason,omitempty"`
	Lead   string   `json:"lead,omitempty"` // who answered for it, where the lead had to
	// Approval is the entry by which the lead approved of it.
	Approval string `json:"approval,omitempty"`
	// Answer is what the lead said to an ask.
	Answer     *Answer `json:"answer,omitempty"`
	Partition  int     `json:"partition,omitempty"`
	Run        string  `json:"run,omitempty"`
	Record     string  `json:"record,omitempty"`
	RecordHash string  `json:"record_hash,omitempty"`
	Backup     string  `json:"backup,omitempty"`
	// Key is a change of the key that signs the trail.
	Key *KeyChange `json:"key,omitempty"`
	// Prints are the fingerprints of the volumes in a state that is marked as good.
	Prints    map[string]string `json:"fingerprints,omitempty"`
	Before    *layout.Layout    `json:"before,omitempty"`
	After     *layout.Layout    `json:"after,omitempty"`
	Previous  string            `json:"previous"`
	Hash      string            `json:"hash"`
	Signature string            `json:"signature"`
}

// Seal gives an entry its place in the chain and returns its line.
func Seal(e Entry, seq int64, previous string, key ed25519.PrivateKey) ([]byte, Entry, error) {
	e.Seq, e.Version, e.Previous, e.Hash, e.Signature = seq, Version, previous, "", ""
	e.Time = e.Time.UTC().Truncate(time.Millisecond)
	b, err := json.Marshal(e)
	if err != nil {
		return nil, e, err
	}
	m, _, err := canonical(b)
	if err != nil {
		return nil, e, err
	}
	if e.Hash, err = hashOf(m); err != nil {
		return nil, e, err
	}
	if key != nil {
		e.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(e.Hash)))
	}
	m["hash"], m["signature"] = e.Hash, e.Signature
	line, err := marshal(m)
	return line, e, err
}

func canonical(line []byte) (map[string]any, []byte, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	d.UseNumber()
	var m map[string]any
	if err := d.Decode(&m); err != nil {
		return nil, nil, err
	}
	b, err := marshal(m)
	return m, b, err
}

func marshal(m map[string]any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(m)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), err
}

func hashOf(m map[string]any) (string, error) {
	bare := make(map[string]any, len(m))
	for k, v := range m {
		if k != "hash" && k != "signature" {
			bare[k] = v
		}
	}
	b, err := marshal(bare)
	if err != nil {
		return "", err
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:]), nil
}

// ReadLine reads one line of a trail by itself, and checks that its contents fit its hash.
func ReadLine(line []byte) (Entry, error) {
	var e Entry
	m, _, err := canonical(line)
	if err != nil {
		return e, fmt.Errorf("%w: it is not an entry", ErrChain)
	}
	hash, err := hashOf(m)
	if err == nil {
		err = json.Unmarshal(line, &e)
	}
	if err != nil || e.Hash != hash || e.Version != Version {
		return e, fmt.Errorf("%w: its contents do not fit its hash", ErrChain)
	}
	return e, nil
}

// Report is the outcome of a verification.
type Report struct {
	Entries  int64    `json:"entries"`
	Head     string   `json:"head"` // hash of the newest entry
	Signed   int64    `json:"signed"`
	Problems []string `json:"problems"`
	// Kept is the newest entry whose head was kept elsewhere, 0 for none: what was added since
	// could be cut off without being found.
	Kept   int64     `json:"kept,omitempty"`
	KeptAt time.Time `json:"kept_at,omitzero"`
	// Keys are the changes of the key that signs.
	Keys []KeyNote `json:"keys,omitempty"`
}

// Sound tells whether nothing is wrong.
func (r *Report) Sound() bool { return len(r.Problems) == 0 }

// Verifier checks a chain line by line.
type Verifier struct {
	Key   ed25519.PublicKey // nil to leave signatures unchecked
	r     Report
	bad   bool
	heads map[int64][]Head

	waiting []unproven
	keys    []KeyChange
	doubted []Head           // heads that the key did not sign
	at      map[int64]string // the hashes of their entries
}

// maxLine bounds a line of a trail.
const maxLine = 16 << 20

// Add checks the next line.
func (v *Verifier) Add(line []byte) {
	at := v.r.Entries + 1
	say := func(format string, args ...any) { v.say(at, fmt.Sprintf(format, args...)) }
	previous := v.r.Head
	if v.r.Entries == 0 {
		previous = First
	}
	v.r.Entries = at
	m, same, err := canonical(line)
	if err != nil {
		say("it cannot be read: %v.", err)
		return
	}
	if !bytes.Equal(same, line) {
		say("it is not written as entries are; something was changed by hand.")
	}
	if n, ok := m["version"].(json.Number); !ok || n.String() != "1" {
		say("it is of version %v; this program reads version 1.", m["version"])
	}
	if n, ok := m["seq"].(json.Number); !ok || n.String() != fmt.Sprint(at) {
		say("it has number %v: entries were removed, added or put in another order.", m["seq"])
	}
	hash, err := hashOf(m)
	if err != nil || m["hash"] != hash {
		say("its contents do not fit its hash: it was altered.")
	}
	if m["previous"] != previous {
		say("it does not follow the entry before it: one of the two was altered, removed or added.")
	}
	if sig, _ := m["signature"].(string); sig != "" {
		v.r.Signed++
		raw, err := base64.StdEncoding.DecodeString(sig)
		if v.Key != nil && (err != nil || !ed25519.Verify(v.Key, []byte(fmt.Sprint(m["hash"])), raw)) {
			v.waiting = append(v.waiting, unproven{at, fmt.Sprint(m["hash"]), sig})
		}
	} else if v.Key != nil {
		say("it is not signed.")
	}
	if m["act"] == string(ActKey) {
		var e Entry
		if err := json.Unmarshal(line, &e); err != nil || e.Key == nil {
			say("it does not say which key follows.")
		} else {
			v.changes(&e)
		}
	}
	v.r.Head, _ = m["hash"].(string)
	v.compareHeads(at)
}

func (v *Verifier) say(at int64, text string) {
	v.bad = true
	if len(v.r.Problems) < 100 {
		v.r.Problems = append(v.r.Problems, fmt.Sprintf("Entry %d: ", at)+text)
	}
}

// Report returns what was found, when all entries have been added.
func (v *Verifier) Report() *Report {
	v.settled()
	v.formerHeads()
	v.ended()
	return &v.r
}

// Verify checks a trail file, and that it agrees with heads that were kept elsewhere. An error means that it could not be read.
func Verify(r io.Reader, key ed25519.PublicKey, heads ...Head) (*Report, error) {
	v := Verifier{Key: key}
	v.Expect(heads)
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 64<<10), maxLine)
	for s.Scan() {
		v.Add(s.Bytes())
	}
	if err := s.Err(); err != nil {
		return nil, fmt.Errorf("the trail cannot be read: %w", err)
	}
	return v.Report(), nil
}

// Sink is a trail that entries are added to, each exactly once by its ID.
type Sink interface {
	Append(entries ...Entry) error
	// Unended are the runs on a drive that the trail knows to have begun and not to have ended.
	Unended(d Drive) ([]Begun, error)
	// RecordHash is the hash that a record has by the newest entry of it, "" for a record that
	// the trail does not know.
	RecordHash(record string) (string, error)
}

// ErrChain is returned when entries cannot be added because the trail's end
// cannot be read.
var ErrChain = errors.New("the trail cannot be added to")
