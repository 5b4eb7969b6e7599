package shelf

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Entry is one line of the list of a backup's files.
type Entry struct {
	volume.File
	volume.Detail
	// Hash is the BLAKE3 hash of the contents, empty for what has none.
	Hash string `json:"blake3,omitempty"`
	// At is where the contents lie in the tar, -1 for what has none there.
	At disk.Bytes `json:"at"`
	// Data is the contents of a stream that lies in its file's header, or of a file that is
	// so small that the list has them too.
	Data []byte `json:"data,omitempty"`
	// Holes are what of the contents was never written, in order, counted from the file's
	// start. The tar is without them.
	Holes []volume.Extent `json:"holes,omitempty"`
	// SameAs is the path of the first name of a file that has several.
	SameAs string `json:"same_as,omitempty"`
}

// maxStreams is the most of a file's alternate streams that its pax header takes; longer
// ones are members of their own, named "file:stream".
const maxStreams = 128 << 10

// maxListed is the most of a file's contents that the list has: such contents stand in a
// volume's table of files, and are wanted before all others.
const maxListed = 800

// Keys of the extended headers. The ones of streams, descriptors and the like are those
// under which the operating system's drivers for NTFS show them.
const (
	xattr          = "SCHILY.xattr."
	keyDescriptor  = xattr + "system.ntfs_acl"
	keyAttributes  = xattr + "system.ntfs_attrib_be"
	keyReparse     = xattr + "system.ntfs_reparse_data"
	keyObjectID    = xattr + "system.ntfs_object_id"
	keyExtended    = xattr + "system.ntfs_ea"
	keyShort       = xattr + "system.ntfs_dos_name"
	keyStream      = xattr + "user."
	keyCreated     = xattr + "system.ntfs_crtime_be"
	headerEstimate = 4 * disk.KiB // of tar and list, for each file
)

// filesOf is the files of a partition as a tar.
func filesOf(r Request, m *Manifest) (source, error) {
	if r.Volume == nil {
		return source{}, fmt.Errorf(
			"%w: the partition cannot be looked into, so only an image of it can be made", ErrKind,
		)
	}
	for _, f := range r.Folders {
		x, err := r.Volume.Stat(f)
		if err != nil {
			return source{}, fmt.Errorf("the folder %s: %w", f, err)
		}
		m.Folders = append(m.Folders, x.Path)
	}
	n := 0
	if err := r.Volume.Walk(func(volume.File) error { n++; return nil }); err != nil {
		return source{}, err
	}
	list, total := make([]Entry, 0, n), disk.Bytes(0) // a list that grows would stand in memory twice
	_, keeps := r.Volume.(volume.Detailer)
	if err := r.Volume.Walk(func(f volume.File) error {
		if wanted(m.Folders, f) {
			list = append(list, Entry{File: f, At: -1})
			n := f.Bytes
			if keeps && f.Allocated > 0 && f.Stored == "" { // of one with holes, only its data
				n = min(n, f.Allocated)
			}
			total += n + 1024
		}
		return nil
	}); err != nil {
		return source{}, err
	}
	slices.SortFunc(list, func(a, b Entry) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Stream, b.Stream)
	})
	// A volume whose files claim more than it has (holes) still compresses.
	most := min(total, 2*r.Dev.Size())
	a := &archiver{v: r.Volume, list: list, m: m, names: map[uint64]string{}}
	return source{
		total: total, room: most + most/1000 + disk.Bytes(len(list)+1)*headerEstimate + disk.MiB, pieces: a.pieces,
		done: a.save,
	}, nil
}

// wanted tells whether a file is one of the chosen folders, in them, or above them.
func wanted(folders []string, f volume.File) bool {
	return len(folders) == 0 || slices.ContainsFunc(folders, func(d string) bool {
		return f.Path == d || strings.HasPrefix(f.Path, d+"/") || f.Kind == volume.Folder && f.Stream == "" && strings.HasPrefix(d, f.Path+"/")
	})
}

// archiver writes files as a tar.
type archiver struct {
	v     volume.Volume
	list  []Entry
	m     *Manifest
	names map[uint64]string // the first name of each file
	out   cutter
	buf   []byte
}

// pieces writes the tar.
func (a *archiver) pieces(ctx context.Context, l line) error {
	a.out, a.buf = cutter{ctx: ctx, line: l}, make([]byte, 1<<20)
	for i := 0; i < len(a.list); {
		end := i + 1
		for end < len(a.list) && a.list[end].Path == a.list[i].Path {
			end++
		}
		if err := a.file(a.list[i:end]); err != nil {
			return err
		}
		i = end
	}
	if _, err := a.out.Write(make([]byte, 2*tarBlock)); err != nil {
		return err
	}
	return a.out.flush()
}

// tarBlock is what everything in a tar is a multiple of.
const tarBlock = 512

// header writes a member's header; its contents are put behind it without the detour
// over a tar writer.
func (a *archiver) header(h *tar.Header) error {
	var b bytes.Buffer
	if err := tar.NewWriter(&b).WriteHeader(h); err != nil {
		return fmt.Errorf("%s: %w", h.Name, err)
	}
	text := b.Bytes()
	if h.PAXRecords[keyHoles] != "" {
		text = unmasked(text, h)
	}
	_, err := a.out.Write(text)
	return err
}

// file writes a file with its streams. What cannot be read is listed with the reason.
func (a *archiver) file(all []Entry) error {
	e := &all[0]
	if d, ok := a.v.(volume.Detailer); ok {
		var err error
		if e.Detail, err = d.Detail(e.File); err != nil && e.Unreadable == "" {
			e.Unreadable = "what belongs to it cannot be read: " + err.Error()
		}
	}
	h := &tar.Header{
		Typeflag: tar.TypeReg, Name: e.Path, Mode: 0o644, Size: int64(e.Bytes), ModTime: stamp(e.Modified), AccessTime: stamp(e.Accessed), ChangeTime: stamp(e.Changed),
		Format: tar.FormatPAX, PAXRecords: records(e.Detail),
	}
	for _, s := range all {
		switch {
		case s.Unreadable != "":
			a.m.Unreadable++
		case s.Kind == volume.Plain:
			a.m.Contents += s.Bytes
		}
	}
	a.m.Count++
	first, again := a.names[e.ID]
	switch {
	case e.Kind == volume.Folder:
		h.Typeflag, h.Name, h.Mode, h.Size = tar.TypeDir, e.Path+"/", 0o755, 0
	case e.Kind == volume.Link:
		h.Typeflag, h.Linkname, h.Mode, h.Size = tar.TypeSymlink, e.Target, 0o777, 0
		if e.Target == "" {
			h.Linkname = "?"
		}
	case again && e.ID != 0:
		h.Typeflag, h.Linkname, h.Size, h.PAXRecords = tar.TypeLink, first, 0, nil
		for i := range all {
			all[i].SameAs = first
		}
		return a.header(h)
	case e.Unreadable != "":
		return nil // it is listed; an empty file would look like a whole one
	}
	a.names[e.ID] = e.Path
	var apart []*Entry
	room := disk.Bytes(maxStreams)
	for i := 1; i < len(all); i++ {
		s := &all[i]
		if s.Unreadable != "" {
			continue
		}
		if s.Bytes > room {
			apart = append(apart, s)
			continue
		}
		room -= s.Bytes
		b, err := a.whole(s)
		if err != nil {
			a.lost(s, err)
			continue
		}
		h.PAXRecords[keyStream+escape.Replace(s.Stream)] = string(b)
		s.Data = b
	}
	if err := a.member(h, e); err != nil {
		return err
	}
	for _, s := range apart {
		err := a.member(
			&tar.Header{
				Typeflag: tar.TypeReg, Name: s.Path + ":" + s.Stream, Mode: 0o644, Size: int64(s.Bytes),
				ModTime: stamp(s.Modified), Format: tar.FormatPAX,
			},
			s,
		)
		if err != nil {
			return err
		}
	}
	return nil
}

// escape keeps the names of streams out of the way of the pax format's own "=".
var escape = strings.NewReplacer("%", "%25", "=", "%3D", "\x00", "%00")

// lost notes that contents could not be read.
func (a *archiver) lost(e *Entry, err error) {
	if e.Unreadable == "" {
		a.m.Unreadable++
		a.m.Contents -= e.Bytes
	}
	e.Unreadable = err.Error()
}

// whole reads contents that are short, and hashes them.
func (a *archiver) whole(e *Entry) ([]byte, error) {
	r, err := a.v.Open(e.File)
	if err != nil {
		return nil, err
	}
	b := make([]byte, e.Bytes)
	if n, err := r.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	sum := blake3.Sum256(b)
	e.Hash = hex.EncodeToString(sum[:])
	return b, nil
}

// member writes a header with its contents. Contents that break off are filled up with
// zeros, for the tar to stay whole, and listed as lost from there on.
func (a *archiver) member(h *tar.Header, e *Entry) error {
	if h.Size == 0 && h.Typeflag != tar.TypeReg {
		return a.header(h)
	}
	r, err := a.v.Open(e.File)
	if err == nil && e.Attributes&volume.AttrSparse != 0 && e.Bytes > maxListed {
		if holes := volume.HolesOf(r); len(holes) > 0 && len(holes) <= maxHoles {
			e.Holes = holes
			return a.sparseMember(h, e, r)
		}
	}
	first := a.buf[:min(e.Bytes, disk.Bytes(len(a.buf)))]
	if err == nil {
		var n int
		if n, err = r.ReadAt(first, 0); n == len(first) {
			err = nil
		}
	}
	if err != nil {
		a.lost(e, err)
		return nil
	}
	if err := a.header(h); err != nil {
		return err
	}
	if e.At = a.out.at; e.Bytes > 0 && e.Bytes <= maxListed {
		e.Data = bytes.Clone(first)
	}
	if _, err := a.out.Write(first); err != nil {
		return err
	}
	var sum [32]byte
	if at := disk.Bytes(len(first)); at == e.Bytes {
		sum = blake3.Sum256(first)
	} else {
		whole := blake3.New()
		whole.Write(first)
		if err := a.pour(whole, r, e, volume.Extent{Off: at, Len: e.Bytes - at}); err != nil {
			return err
		}
		whole.Sum(sum[:0])
	}
	if e.Unreadable == "" {
		e.Hash = hex.EncodeToString(sum[:])
	}
	_, err = a.out.Write(make([]byte, -e.Bytes&(tarBlock-1)))
	return err
}

// pour writes a part of a file's contents, and hashes it. What breaks off is zeros from there on.
func (a *archiver) pour(whole *blake3.Hasher, r io.ReaderAt, e *Entry, part volume.Extent) error {
	for at := part.Off; at < part.Off+part.Len; {
		b := a.out.free()
		b = b[:min(part.Off+part.Len-at, disk.Bytes(len(b)))]
		if n, err := r.ReadAt(b, int64(at)); n < len(b) {
			clear(b[n:])
			if e.Unreadable == "" {
				a.lost(e, fmt.Errorf("from byte %d on it could not be read: %w", at+disk.Bytes(n), err))
			}
		}
		whole.Write(b)
		at += disk.Bytes(len(b))
		if err := a.out.took(len(b)); err != nil {
			return err
		}
	}
	return nil
}

func stamp(t time.Time) time.Time {
	if t.IsZero() {
		return time.Time{}
	}
	return t.UTC()
}

// records are the extended headers of what a file system keeps beside the contents.
func records(d volume.Detail) map[string]string {
	r := map[string]string{}
	for k, b := range map[string][]byte{keyDescriptor: d.Descriptor, keyReparse: d.Reparse, keyObjectID: d.ObjectID, keyExtended: d.Extended} {
		if len(b) > 0 {
			r[k] = string(b)
		}
	}
	if d.Short != "" {
		r[keyShort] = d.Short
	}
	if a := d.Attributes; a != 0 {
		r[keyAttributes] = string(binary.BigEndian.AppendUint32(nil, a))
	}
	if !d.Created.IsZero() {
		r[keyCreated] = string(binary.BigEndian.AppendUint64(nil, volume.FileTime(d.Created)))
	}
	return r
}

// cutter cuts a stream into pieces.
type cutter struct {
	ctx  context.Context
	line line
	job  *job
	i    int
	at   disk.Bytes
}

func (c *cutter) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		k := copy(c.free(), b)
		if b = b[k:]; c.took(k) != nil {
			return 0, c.ctx.Err()
		}
	}
	return n, nil
}

// free is the room that is left in the piece.
func (c *cutter) free() []byte {
	if c.job == nil {
		c.job = &job{i: c.i, raw: c.line.stock.get(pieceBytes)[:0]}
	}
	return c.job.raw[len(c.job.raw):pieceBytes]
}

// took tells that so much of the room was filled.
func (c *cutter) took(n int) error {
	c.job.raw, c.at = c.job.raw[:len(c.job.raw)+n], c.at+disk.Bytes(n)
	if len(c.job.raw) == int(pieceBytes) {
		return c.flush()
	}
	return nil
}

func (c *cutter) flush() error {
	if c.job == nil {
		return nil
	}
	j := c.job
	c.job, c.i = nil, c.i+1
	return c.line.send(c.ctx, j)
}

// save writes the list of files beside the tar.
func (a *archiver) save(d draft) error {
	var out bytes.Buffer
	z, err := zstd.NewWriter(&out, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	enc := json.NewEncoder(z)
	for i := range a.list {
		a.list[i].Extents = nil
		if err := enc.Encode(&a.list[i]); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	sum := blake3.Sum256(out.Bytes())
	a.m.ListHash = hex.EncodeToString(sum[:])
	return d.put(listFile, out.Bytes())
}

// maxList bounds the list of a backup's files, as it lies on the shelf.
const maxList = 1 << 30

// ListOf returns the list of a backup's files, compared with the manifest's hash.
func (s *Shelf) ListOf(m *Manifest) ([]Entry, error) {
	bad := func(why error) ([]Entry, error) {
		return nil, fmt.Errorf("%w: %s: the list of its files: %w", ErrDamaged, m.ID, why)
	}
	f, err := s.file(m, listFile)
	if err != nil {
		return bad(err)
	}
	defer f.Close()
	if f.Size() > maxList {
		return bad(errors.New("it is absurdly long"))
	}
	b := make([]byte, f.Size())
	if n, err := f.ReadAt(b, 0); n < len(b) {
		return bad(err)
	}
	if sum := blake3.Sum256(b); hex.EncodeToString(sum[:]) != m.ListHash {
		return bad(errors.New("it is not what was written"))
	}
	z, err := zstd.NewReader(bytes.NewReader(b), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return bad(err)
	}
	defer z.Close()
	var out []Entry
	buf, n := make([]byte, listPart), 0
	for end := false; !end; {
		k, err := io.ReadFull(z, buf[n:])
		if end = err == io.EOF || err == io.ErrUnexpectedEOF; err != nil && !end {
			return bad(err)
		}
		n += k
		cut := n
		if !end {
			if cut = bytes.LastIndexByte(buf[:n], '\n') + 1; cut == 0 { // a line longer than that
				buf = append(buf, make([]byte, len(buf))...)
				if len(buf) > maxList {
					return bad(errors.New("a line of it is absurdly long"))
				}
				continue
			}
		}
		part, err := entriesIn(buf[:cut], m.Bytes)
		if err != nil {
			return bad(err)
		}
		out = append(out, part...)
		n = copy(buf, buf[cut:n])
	}
	return out, nil
}

// listPart is how much of a list is read at once.
const listPart = 4 << 20

// entriesIn reads the lines of a list, several stretches of it at once. No contents may lie
// beyond the end of a tar of the given length.
func entriesIn(text []byte, tar disk.Bytes) ([]Entry, error) {
	workers := max(runtime.GOMAXPROCS(0), 1)
	parts := make([][]Entry, workers)
	var g errgroup.Group
	for w := range workers {
		at := func(k int) int { // the start of a line
			i := len(text) * k / workers
			if i == 0 || i >= len(text) {
				return i
			}
			if n := bytes.IndexByte(text[i-1:], '\n'); n >= 0 {
				return i + n
			}
			return len(text)
		}
		part := text[at(w):at(w+1)]
		g.Go(func() error {
			out := make([]Entry, 0, bytes.Count(part, []byte{'\n'})+1)
			for len(part) > 0 {
				line := part
				if n := bytes.IndexByte(part, '\n'); n >= 0 {
					line, part = part[:n], part[n+1:]
				} else {
					part = nil
				}
				if len(line) == 0 {
					continue
				}
				var e Entry
				if err := json.Unmarshal(line, &e); err != nil { // the list is known to be what was written
					return err
				}
				if n, ok := e.stored(); !ok || e.At > tar || e.At >= 0 && n > tar-e.At {
					return fmt.Errorf("%s lies beyond the tar's end", e.Path)
				}
				out = append(out, e)
			}
			parts[w] = out
			return nil
		})
	}
	err := g.Wait()
	return slices.Concat(parts...), err
}
