package rehearse

import (
	"encoding/hex"
	"io"
)

// NewID makes a short name that is not used twice.
func NewID(prefix string, stamp string, random io.Reader) (string, error) {
	var b [3]byte
	if _, err := io.ReadFull(random, b[:]); err != nil {
		return "", err
	}
	return prefix + "-" + stamp + "-" + hex.EncodeToString(b[:]), nil
}
