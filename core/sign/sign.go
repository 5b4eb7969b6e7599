// Package sign keeps the sign that a drive carries while a run on it is open: from before the
// first write of the run until it is finished, taken back or left. Whatever bay, name or bench the
// drive comes to, the sign tells that what is on it cannot be relied on.
//
// The sign takes one block of 4 KiB that no partition has before, during or after the run, that
// the run does not touch, and that holds nothing but zeros; it is made zeros again. There are few
// such places that every reader can look at without knowing the drive: the block before the first
// mebibyte, where drives have room before their first partition, and some near the end.
package sign

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
)

// RunForm is what the name of a run looks like: it names a folder, and a drive may say anything.
var RunForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{2,63}$`)

// Block is the length of a sign in bytes, and of the place that it takes.
const Block = 4 * disk.KiB

const (
	// magic begins a sign. Whoever finds it with another program can read what it says.
	magic = "JADE TRAIL: A RUN ON THIS DRIVE IS NOT FINISHED\n"
	// signBytes is the length of what a sign says, within one sector, so that a power cut leaves
	// all of it or nothing; sumBytes of them, at the end, are the BLAKE3 hash of the rest.
	signBytes = 512
	sumBytes  = 32
)

// Sign is what a drive says of the run that is open on it.
type Sign struct {
	Run   string     `json:"run"`
	Begun time.Time  `json:"begun"`
	At    disk.Bytes `json:"at"` // where it lies, in bytes from the drive's start
}

// ErrNoPlace tells that a drive has no place for a sign.
var ErrNoPlace = errors.New("there is no place on the drive for a sign")

// places are the blocks that a sign may take, on a drive of a size.
func places(size disk.Bytes) []disk.Bytes {
	last := size.Down(Block)
	var out []disk.Bytes
	for _, at := range []disk.Bytes{disk.MiB - Block, 28 * disk.KiB, last - Block, last - 6*Block, last - 12*Block, last.Down(disk.MiB) - Block, disk.MiB + Block} {
		if at >= Block && at+Block <= size {
			out = append(out, at)
		}
	}
	return out
}

// Place is a place for a sign that is free by what the caller knows and holds nothing but zeros;
// ErrNoPlace where there is none.
func Place(dev disk.Device, free func(r disk.Range) bool) (disk.Bytes, error) {
	for _, at := range places(dev.Size()) {
		if !free(disk.Range{Start: at, End: at + Block}) {
			continue
		}
		b, err := disk.ReadFull(dev, at, Block)
		if err == nil && disk.Zeros(b) { // a place that cannot be read is none
			return at, nil
		}
	}
	return 0, ErrNoPlace
}

// Put puts a sign at its place and makes it durable.
func Put(dev disk.Device, s Sign) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	b := make([]byte, dev.SectorBytes())
	if copy(b[copy(b, magic):signBytes-sumBytes], text) < len(text) {
		return fmt.Errorf("the name of the run %.20s is too long for its sign", s.Run)
	}
	sum := blake3.Sum256(b[:signBytes-sumBytes])
	copy(b[signBytes-sumBytes:], sum[:])
	if _, err := dev.WriteAt(b, int64(s.At)); err != nil {
		return err
	}
	return dev.Sync()
}

// Find is the sign on a drive, nil for none. A block that begins like one and is not whole counts
// as one that does not name its run.
func Find(dev disk.Device) (*Sign, error) {
	b := make([]byte, signBytes)
	for _, at := range places(dev.Size()) {
		if _, err := dev.ReadAt(b, int64(at)); err != nil || !bytes.HasPrefix(b, []byte(magic)) {
			continue // what cannot be read says nothing
		}
		s := &Sign{}
		text, _, _ := bytes.Cut(b[len(magic):signBytes-sumBytes], []byte{0})
		sum := blake3.Sum256(b[:signBytes-sumBytes])
		if !bytes.Equal(sum[:], b[signBytes-sumBytes:]) || json.Unmarshal(text, s) != nil || s.At != at || !RunForm.MatchString(s.Run) {
			s = &Sign{At: at}
		}
		return s, nil
	}
	return nil, nil
}

// Remove takes a sign away: its place holds zeros again. It does nothing where the place holds no
// sign.
func Remove(dev disk.Device, at disk.Bytes) error {
	b := make([]byte, len(magic))
	if _, err := dev.ReadAt(b, int64(at)); err != nil {
		return err
	}
	if string(b) != magic {
		return nil
	}
	if err := dev.Zero(at, Block); err != nil {
		return err
	}
	return dev.Sync()
}
