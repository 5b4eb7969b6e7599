// Package traces finds a text wherever it may stand in files, packed or spelt otherwise. The tests
// prove with it that nothing of an erased partition is left.
package traces

import (
	"encoding/base64"
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
