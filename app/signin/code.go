package signin

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"strings"
)

// NewCode is a one-time code that can be read out: three groups of four letters and digits, of 60 bits.
func NewCode() string {
	text := rand.Text() // base32, of at least 128 bits
	return text[:4] + "-" + text[4:8] + "-" + text[8:12]
}

// plainCode is a code without what people put between its groups, in capitals.
func plainCode(code string) string {
	return strings.ToUpper(strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' || r == '\t' {
			return -1
		}
		return r
	}, code))
}

// KeptOf is what is kept of a code or a token that nobody could guess: its hash.
func KeptOf(code string) string {
	h := sha256.Sum256([]byte(plainCode(code)))
	return hex.EncodeToString(h[:])
}

// SameCode tells whether a code is the one of which kept was kept; no code is where nothing was.
func SameCode(kept, code string) bool {
	return kept != "" && subtle.ConstantTimeCompare([]byte(kept), []byte(KeptOf(code))) == 1
}
