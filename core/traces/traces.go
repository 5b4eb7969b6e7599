// Package traces finds a text wherever it may stand in files, packed or spelt otherwise. The tests
// prove with it that nothing of an erased partition is left.
package traces

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"os"
	"path/filepath"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"
)

// leastEncoded is how many bytes of a text its base64 must stand for to be told from chance.
const leastEncoded = 6

// Forms are the ways in which a text may stand in a file: in UTF-8, in UTF-16 (little-endian), and each
// of them in base64 (RFC 4648, section 4), wherever it begins among what is encoded with it.
func Forms(text string) (out [][]byte) {
	var wide []byte
	for _, u := range utf16.Encode([]rune(text)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	for _, b := range [][]byte{[]byte(text), wide} {
		out = append(out, b)
		for skip := range 3 {
			if part := b[min(skip, len(b)):]; len(part) >= leastEncoded {
				out = append(out, []byte(base64.StdEncoding.EncodeToString(part[:len(part)/3*3])))
			}
		}
	}
	return out
}

// headLength is how many bytes of a needle are looked up at once. None may be shorter.
const headLength = 8

// Needles are texts that are looked for all at once.
type Needles map[uint64][][]byte

// Add adds a text of at least 8 bytes.
func (n Needles) Add(texts ...[]byte) {
	for _, b := range texts {
		head := binary.LittleEndian.Uint64(b)
		n[head] = append(n[head], b)
	}
}

// In gives the first of the texts that stands in b, nil for none.
func (n Needles) In(b []byte) []byte {
	for at := 0; at+headLength <= len(b); at++ {
		for _, text := range n[binary.LittleEndian.Uint64(b[at:])] {
			if bytes.HasPrefix(b[at:], text) {
				return text
			}
		}
	}
	return nil
}

// Files calls visit with what is in every file below a folder, and with what that is unpacked where it
// is packed (RFC 8878). Files that skip names are left out.
func Files(root string, skip func(path string) bool, visit func(path string, b []byte)) error {
	d, err := zstd.NewReader(nil)
	if err != nil {
		return err
	}
	defer d.Close()
	return filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || skip(path) {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if plain, err := d.DecodeAll(b, nil); err == nil {
			b = append(b, plain...)
		}
		visit(path, b)
		return nil
	})
}
