package trail

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"time"
)

// Head is how far a trail had come at a time, signed by the shop and kept elsewhere than the
// trail: from then on nothing up to it can be changed, removed or added without being found,
// not even by somebody who can write all of the trail anew.
type Head struct {
	Version   int       `json:"version"`
	Seq       int64     `json:"seq"`
	Hash      string    `json:"hash"` // of the newest entry
	Time      time.Time `json:"time"`
	Signature string    `json:"signature"` // Ed25519 over what signed returns
}

func (h Head) signed() []byte {
	return fmt.Appendf(
		nil, "jade trail head %d %d %s %s", h.Version, h.Seq, h.Hash, h.Time.UTC().Format(time.RFC3339Nano),
	)
}

// SignHead signs the head of a trail.
func SignHead(seq int64, hash string, now time.Time, key ed25519.PrivateKey) Head {
	h := Head{Version: Version, Seq: seq, Hash: hash, Time: now.UTC().Truncate(time.Millisecond)}
	h.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, h.signed()))
	return h
}

// Genuine tells whether a head was signed with a key.
func (h Head) Genuine(key ed25519.PublicKey) bool {
	raw, err := base64.StdEncoding.DecodeString(h.Signature)
	return err == nil && ed25519.Verify(key, h.signed(), raw)
}

// ParseHeads reads kept heads, one a line. Lines that are none are told, and left out.
func ParseHeads(b []byte) (heads []Head, bad int) {
	s := bufio.NewScanner(bytes.NewReader(b))
	s.Buffer(nil, 64<<10)
	for s.Scan() {
		var h Head
		if err := json.Unmarshal(s.Bytes(), &h); err != nil || h.Version != Version || h.Seq < 1 || len(h.Hash) != 64 {
			bad++
			continue
		}
		heads = append(heads, h)
	}
	if s.Err() != nil {
		bad++
	}
	return heads, bad
}

// AddHead is the kept heads with one more.
func AddHead(b []byte, h Head) ([]byte, error) {
	line, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	if n := len(b); n > 0 && b[n-1] != '\n' {
		b = append(slices.Clone(b), '\n')
	}
	return append(append(slices.Clone(b), line...), '\n'), nil
}

// Expect makes the verifier compare the chain with heads that were kept elsewhere. Those that
// were not signed with its key are told of and do not count.
func (v *Verifier) Expect(heads []Head) {
	v.heads, v.at = map[int64][]Head{}, map[int64]string{}
	for _, h := range heads {
		if v.Key != nil && !h.Genuine(v.Key) {
			v.doubted = append(v.doubted, h) // a former key of the shop may have signed it
			continue
		}
		v.heads[h.Seq] = append(v.heads[h.Seq], h)
		if h.Seq > v.r.Kept || h.Seq == v.r.Kept && h.Time.After(v.r.KeptAt) {
			v.r.Kept, v.r.KeptAt = h.Seq, h.Time
		}
	}
}

// formerHeads compares the chain with heads that a former key has signed. One that none has signed
// does not count, which is told.
func (v *Verifier) formerHeads() {
	for _, h := range v.doubted {
		if !slices.ContainsFunc(v.keys, func(k KeyChange) bool { return h.genuine(k.Old) }) {
			v.r.Problems = append(v.r.Problems, fmt.Sprintf(
				"A head kept on the shelf for entry %d was not signed with this shop's key; it does not count.",
				h.Seq,
			))
			continue
		}
		switch hash, there := v.at[h.Seq]; {
		case !there:
			v.heads[h.Seq] = append(v.heads[h.Seq], h)
		case hash != h.Hash:
			v.say(
				h.Seq,
				fmt.Sprintf(
					"it is not the one whose head was signed and kept on the shelf %s: it, or what comes before it, was written anew since.",
					h.Time.Local().Format("2 Jan 2006 15:04"),
				),
			)
		case h.Seq > v.r.Kept:
			v.r.Kept, v.r.KeptAt = h.Seq, h.Time
		}
	}
	v.doubted = nil
}

// genuine tells whether a head was signed with a key in base64.
func (h Head) genuine(public string) bool {
	return made(public, string(h.signed()), h.Signature)
}

// compareHeads compares an entry with the heads that were kept of it.
func (v *Verifier) compareHeads(seq int64) {
	for _, h := range v.doubted {
		if h.Seq == seq {
			v.at[seq] = v.r.Head
		}
	}
	for _, h := range v.heads[seq] {
		if h.Hash != v.r.Head {
			v.say(
				seq,
				fmt.Sprintf(
					"it is not the one whose head was signed and kept on the shelf %s: it, or what comes before it, was written anew since.",
					h.Time.Local().Format("2 Jan 2006 15:04"),
				),
			)
		}
	}
	delete(v.heads, seq)
}

// ended compares the end of the chain with the heads that are left.
func (v *Verifier) ended() {
	last := Head{}
	for _, hs := range v.heads {
		for _, h := range hs {
			if h.Seq > last.Seq {
				last = h
			}
		}
	}
	if last.Seq > v.r.Entries {
		v.r.Problems = append(v.r.Problems, fmt.Sprintf(
			"Entries %d to %d are gone: the head of entry %[2]d was signed and kept on the shelf %s, and the trail ends before it.",
			v.r.Entries+1, last.Seq, last.Time.Local().Format("2 Jan 2006 15:04"),
		))
	}
	v.heads = nil
}
