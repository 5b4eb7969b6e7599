package shelf

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// unescape is the reverse of escape.
var unescape = strings.NewReplacer("%3D", "=", "%00", "\x00", "%25", "%")

// listOfTar lists a backup's files from its tar, for when the list itself is damaged.
// Behind pieces that are lost it goes on at the next header that is whole. Contents have
// no hash of their own then; the pieces that they lie in are compared as they are read.
func listOfTar(m *Manifest, r *Reader) []Entry {
	var out []Entry
	for at := disk.Bytes(0); at < m.Bytes; {
		c := &counter{r: io.NewSectionReader(r, int64(at), int64(m.Bytes-at))}
		t := tar.NewReader(c)
		var err error
		for {
			var h *tar.Header
			if h, err = t.Next(); err != nil {
				break
			}
			if h.Size > int64(m.Bytes) && h.PAXRecords[keyHoles] == "" {
				err = tar.ErrHeader
				break
			}
			entries := entriesOf(h, at+c.n)
			if n, ok := entries[0].stored(); !ok || n > m.Bytes {
				err = tar.ErrHeader
				break
			}
			out = append(out, entries...)
		}
		if err == io.EOF {
			break
		}
		at = nextHeader(m, r, (at + c.n).Up(512))
	}
	// A second name has the length and the streams of the first.
	firsts := map[string][]Entry{}
	for _, e := range out {
		firsts[e.Path] = append(firsts[e.Path], e)
	}
	for i := range out {
		e := &out[i]
		for _, x := range firsts[e.SameAs] {
			if e.SameAs == "" || x.SameAs != "" {
				break
			}
			same := Entry{At: -1, SameAs: e.SameAs, Hash: x.Hash, File: x.File}
			if same.Path = e.Path; x.Stream == "" {
				*e = same
			} else {
				out = append(out, same)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Entry) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Stream, b.Stream)
	})
	return out
}

// counter counts what was read.
type counter struct {
	r io.Reader
	n disk.Bytes
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += disk.Bytes(n)
	return n, err
}

// nextHeader is where the next whole header of a member begins (POSIX.1-2001 pax, ustar
// header block), the tar's length for nowhere.
func nextHeader(m *Manifest, r *Reader, at disk.Bytes) disk.Bytes {
	b := make([]byte, 512)
	for at+512 <= m.Bytes {
		if _, err := r.ReadAt(b, int64(at)); err != nil {
			p := m.Pieces[m.pieceAt(at)]
			at = max(at+512, (p.Off + p.Len).Up(512))
			continue
		}
		if string(b[257:262]) == "ustar" {
			sum := 8 * int64(' ')
			for i, x := range b {
				if i < 148 || i >= 156 {
					sum += int64(x)
				}
			}
			if want, err := strconv.ParseInt(strings.Trim(string(b[148:156]), " \x00"), 8, 64); err == nil && want == sum {
				return at
			}
		}
		at += 512
	}
	return m.Bytes
}

// entriesOf are the lines of a member, whose contents begin at the given place, and of
// the streams in its header.
func entriesOf(h *tar.Header, at disk.Bytes) []Entry {
	e := Entry{
		At: -1,
		File: volume.File{
			Path: strings.TrimSuffix(h.Name, "/"), Kind: volume.Plain, Bytes: disk.Bytes(h.Size),
			Modified: h.ModTime.UTC(),
		},
	}
	if i := strings.LastIndexByte(e.Path, ':'); i > strings.LastIndexByte(e.Path, '/') && h.Typeflag == tar.TypeReg {
		e.Path, e.Stream = e.Path[:i], e.Path[i+1:]
	}
	switch h.Typeflag {
	case tar.TypeDir:
		e.Kind = volume.Folder
	case tar.TypeSymlink:
		e.Kind, e.Target = volume.Link, h.Linkname
	case tar.TypeLink:
		e.SameAs = h.Linkname
	default:
		e.At = at
		if text := h.PAXRecords[keyHoles]; text != "" {
			e.Holes = holesOf(text)
		}
	}
	e.Detail = volume.Detail{Accessed: h.AccessTime, Changed: h.ChangeTime, Short: h.PAXRecords[keyShort]}
	for key, into := range map[string]*[]byte{keyDescriptor: &e.Descriptor, keyReparse: &e.Reparse, keyObjectID: &e.ObjectID, keyExtended: &e.Extended} {
		if s := h.PAXRecords[key]; s != "" {
			*into = []byte(s)
		}
	}
	if s := h.PAXRecords[keyAttributes]; len(s) == 4 {
		e.Attributes = binary.BigEndian.Uint32([]byte(s))
	}
	if s := h.PAXRecords[keyCreated]; len(s) == 8 {
		e.Created = volume.FromFileTime(binary.BigEndian.Uint64([]byte(s)))
	}
	out := []Entry{e}
	for key, s := range h.PAXRecords {
		if name, ok := strings.CutPrefix(key, keyStream); ok {
			sum := blake3.Sum256([]byte(s))
			x := Entry{At: -1, Data: bytes.Clone([]byte(s)), Hash: hex.EncodeToString(sum[:])}
			x.File = volume.File{
				Path: e.Path, Stream: unescape.Replace(name), Kind: volume.Plain, Bytes: disk.Bytes(len(s)),
				Modified: e.Modified,
			}
			out = append(out, x)
		}
	}
	return out
}
