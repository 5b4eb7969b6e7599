package run

import (
	"encoding/hex"
	"io"
)

// newID makes a short name that is not used twice.
func newID(prefix string, stamp string, random io.Reader) (string, error) {
	var b [3]byte
	if _, err := io.ReadFull(random, b[:]); err != nil {
		return "", err
	}
	return prefix + "-" + stamp + "-" + hex.EncodeToString(b[:]), nil
}
