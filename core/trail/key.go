package trail

import (
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"time"
)

// ActKey is that the shop signs with another key from then on.
const ActKey Act = "new-key"

// KeyChange is what an entry says of a change of the key that signs the trail. Where the former key
// is there, it signs the entry; where it is lost, the new one does, and the signing begins anew.
type KeyChange struct {
	Old      string `json:"old"` // public keys, in base64
	New      string `json:"new"`
	Anew     bool   `json:"anew,omitempty"`
	Endorsed string `json:"endorsed"` // by the new key: that it follows the former one
}

func (k *KeyChange) signed() []byte { return fmt.Appendf(nil, "jade trail key %s %s", k.Old, k.New) }

// NewKey is the change from one key to another. old is nil where the former is lost; oldPublic is its
// public half.
func NewKey(oldPublic ed25519.PublicKey, fresh ed25519.PrivateKey, anew bool) *KeyChange {
	public, _ := fresh.Public().(ed25519.PublicKey)
	k := &KeyChange{
		Old: base64.StdEncoding.EncodeToString(oldPublic), New: base64.StdEncoding.EncodeToString(public), Anew: anew,
	}
	k.Endorsed = base64.StdEncoding.EncodeToString(ed25519.Sign(fresh, k.signed()))
	return k
}

// KeyNote tells of a change of the key, for people.
type KeyNote struct {
	Seq    int64     `json:"seq"`
	Time   time.Time `json:"time"`
	Who    string    `json:"who"`
	Reason string    `json:"reason,omitempty"`
	Anew   bool      `json:"anew,omitempty"`
}

// unproven is a signature that the last key did not make: a former one may have.
type unproven struct {
	seq             int64
	hash, signature string
}

// made tells that a key made a signature.
func made(public, hash, signature string) bool {
	key, err := base64.StdEncoding.DecodeString(public)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return false
	}
	raw, err := base64.StdEncoding.DecodeString(signature)
	return err == nil && ed25519.Verify(key, []byte(hash), raw)
}

// changes takes in that the key changes with an entry: what was not proven so far must be of the
// key before.
func (v *Verifier) changes(e *Entry) {
	k := e.Key
	if !made(k.New, string(k.signed()), k.Endorsed) {
		v.say(e.Seq, "it names a new key that has not agreed to that.")
	}
	if len(v.keys) > 0 && v.keys[len(v.keys)-1].New != k.Old {
		v.say(e.Seq, "it follows a key that was not the one before.")
	}
	signer := k.Old
	if k.Anew {
		signer = k.New
	}
	if !made(signer, e.Hash, e.Signature) {
		v.say(e.Seq, "its signature was not made with this key.")
	}
	for _, u := range v.waiting {
		if u.seq != e.Seq && !made(k.Old, u.hash, u.signature) {
			v.say(u.seq, "its signature was not made with this key.")
		}
	}
	v.waiting = nil
	v.keys = append(v.keys, *k)
	v.r.Keys = append(v.r.Keys, KeyNote{e.Seq, e.Time, e.Who, e.Reason, k.Anew})
}

// settled says of what is not proven at the end that it is not.
func (v *Verifier) settled() {
	for _, u := range v.waiting {
		v.say(u.seq, "its signature was not made with this key.")
	}
	v.waiting = nil
	if n := len(v.keys); n > 0 && v.Key != nil && v.keys[n-1].New != base64.StdEncoding.EncodeToString(v.Key) {
		v.say(v.r.Keys[n-1].Seq, "from here on another key signs than the one that this was checked with.")
	}
}
