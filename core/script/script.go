// Package script is byte operations as data: what a carry-out is going to do
// to a drive, decided to the last byte before the first write.
package script

import (
	"fmt"
	"io"
	"slices"

	"jadetrail/core/disk"
)

// Kind says what an operation does.
type Kind string

// The kinds of operation.
const (
	// Write puts Data at Off.
	Write Kind = "write"
	// Hole makes Len bytes at Off read as zeros.
	Hole Kind = "hole"
	// Fill puts Len bytes of the source named Source, from SourceOff, at Off.
	// Hash is the digest of these bytes in their place in the source (package
	// digest); what does not match is never taken for done. Without a hash the source
	// compares itself, and the files that were filled in are compared afterwards.
	Fill Kind = "fill"
	// Move puts Len bytes of the drive itself, from From, at Off; the two may overlap. Holes
	// become holes. What follows may write to where the bytes came from.
	Move Kind = "move"
	// Barrier is passed when everything before it is durable. Text says what the
	// drive now is.
	Barrier Kind = "barrier"
	// NoReturn is a barrier behind which the run can only be finished: what follows
	// destroys what undo would need.
	NoReturn Kind = "no-return"
)

// Op is one operation. Offsets and lengths are in bytes from the drive's start.
type Op struct {
	Kind      Kind       `json:"kind"`
	Off       disk.Bytes `json:"off,omitempty"`
	Len       disk.Bytes `json:"len,omitempty"`
	From      disk.Bytes `json:"from,omitempty"`
	Data      []byte     `json:"data,omitempty"`
	Source    string     `json:"source,omitempty"`
	SourceOff disk.Bytes `json:"source_off,omitempty"`
	Hash      string     `json:"hash,omitempty"`
	// Pad is how many zeros follow what is filled in, to the end of its cluster: what lay
	// there before is not the new file's.
	Pad disk.Bytes `json:"pad,omitempty"`
	// Keep says that undo brings back what was here; false for places whose
	// contents nobody is promised, such as a gap that a backup fills.
	Keep bool `json:"keep,omitempty"`
	// Spare tells that what was here is kept only for undo, and that the run could do without.
	Spare bool `json:"-"`
	// Gone tells that it is kept only for partitions that were gone before the run, and could
	// still be brought back.
	Gone bool `json:"-"`
	// Before is what was there just before the operation, where an earlier one moves bytes
	// about, so that the drive as it is now does not tell. Nil for what the drive holds.
	Before []byte `json:"-"`
	Text   string `json:"text,omitempty"`
	// Step is the number of the plan's step, from 0, that the operation serves.
	Step int `json:"step"`
}

// Onto is where an operation writes, with the zeros behind it.
func (op Op) Onto() disk.Range { return disk.Range{Start: op.Off, End: op.Off + op.Len + op.Pad} }

// Script is operations in the order in which they are done.
type Script []Op

// Put appends a kept write of data at off.
func (s *Script) Put(off disk.Bytes, data []byte) {
	*s = append(*s, Op{Kind: Write, Off: off, Len: disk.Bytes(len(data)), Data: data, Keep: true})
}

// Barrier appends a barrier.
func (s *Script) Barrier(text string) { *s = append(*s, Op{Kind: Barrier, Text: text}) }

// Empty appends holes over n bytes at off, which nobody is promised to get back.
func (s *Script) Empty(off, n disk.Bytes) {
	const part = 256 * disk.MiB
	for at := disk.Bytes(0); at < n; at += part {
		*s = append(*s, Op{Kind: Hole, Off: off + at, Len: min(part, n-at)})
	}
}

// Shift returns the script with every place moved by off, for a volume's own
// script to be used on its drive.
func (s Script) Shift(off disk.Bytes) Script {
	out := make(Script, len(s))
	for i, op := range s {
		if op.Kind != Barrier && op.Kind != NoReturn {
			op.Off += off
			if op.Kind == Move {
				op.From += off
			}
		}
		out[i] = op
	}
	return out
}

// Kept is the number of bytes that the script itself holds.
func (s Script) Kept() (n disk.Bytes) {
	for _, op := range s {
		n += disk.Bytes(len(op.Data) + len(op.Before))
	}
	return n
}

// Rewritten is the number of bytes the script puts on the drive, with the zeros that fill clusters up.
func (s Script) Rewritten() (n disk.Bytes) {
	for _, op := range s {
		if op.Kind == Write || op.Kind == Fill || op.Kind == Move {
			n += op.Len + op.Pad
		}
	}
	return n
}

// Zeroed is the number of bytes that the script makes read as zeros without writing them: holes.
func (s Script) Zeroed() (n disk.Bytes) {
	for _, op := range s {
		if op.Kind == Hole {
			n += op.Len
		}
	}
	return n
}

// Unkept are the places that hold something else once the script was done and taken back: those that
// it writes to first without keeping what was there.
func (s Script) Unkept() disk.Set {
	var touched, out disk.Set
	for _, op := range s {
		to := op.Onto()
		var from disk.Range
		if op.Kind == Move {
			from = disk.Range{Start: op.From, End: op.From + op.Len}
		}
		if !op.Keep {
			for _, r := range touched.Outside(to) {
				for _, x := range (disk.Set{from}).Outside(r) {
					out = out.Put(x)
				}
			}
		}
		touched = touched.Put(to).Put(from)
	}
	return out
}

// Moves tells that the script moves bytes about.
func (s Script) Moves() bool {
	return slices.ContainsFunc(s, func(op Op) bool { return op.Kind == Move })
}

// referrer is a device that need not copy what lies in a source, or elsewhere on itself.
type referrer interface {
	Refer(off, n disk.Bytes, src io.ReaderAt, at int64) error
	Move(off, from, n disk.Bytes) error
}

// Apply does the script on a copy or a blank drive, where no journal is needed.
func (s Script) Apply(dev disk.Device, sources map[string]io.ReaderAt) error {
	return s.Try(dev, sources, false)
}

// Try is Apply. Where bytes have been moved before, or from the script's own first move on,
// it notes in the operations what they replace.
func (s Script) Try(dev disk.Device, sources map[string]io.ReaderAt, moved bool) error {
	for i, op := range s {
		var err error
		if moved = moved || op.Kind == Move; moved && op.Keep {
			if s[i].Before, err = disk.ReadFull(dev, op.Off, op.Len+op.Pad); err != nil {
				return err
			}
		}
		switch op.Kind {
		case Move:
			if r, ok := dev.(referrer); ok {
				err = r.Move(op.Off, op.From, op.Len)
			} else {
				err = moveOn(dev, op)
			}
		case Write:
			_, err = dev.WriteAt(op.Data, int64(op.Off))
		case Hole:
			err = dev.Zero(op.Off, op.Len)
		case Fill:
			src := sources[op.Source]
			if src == nil {
				return fmt.Errorf("the source %s is not there", op.Source)
			}
			if r, ok := dev.(referrer); ok {
				err = r.Refer(op.Off, op.Len, src, int64(op.SourceOff))
				break
			}
			b := make([]byte, op.Len+op.Pad)
			if _, err = src.ReadAt(b[:op.Len], int64(op.SourceOff)); err == nil {
				_, err = dev.WriteAt(b, int64(op.Off))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// moveOn moves bytes of a device in the order in which none is lost.
func moveOn(dev disk.Device, op Op) error {
	const part = disk.MiB
	for done := disk.Bytes(0); done < op.Len; {
		n := min(part, op.Len-done)
		at := done
		if op.Off > op.From {
			at = op.Len - done - n
		}
		b, err := disk.ReadFull(dev, op.From+at, n)
		if err != nil {
			return err
		}
		if _, err := dev.WriteAt(b, int64(op.Off+at)); err != nil {
			return err
		}
		done += n
	}
	return nil
}
