// Package digest hashes long contents piece by piece, each byte once, for its piece
// and for the whole.
//
// BLAKE3 is a tree (its specification, section 2.1): a piece that begins at a
// multiple of its own, power-of-two length is one subtree of the whole. Any worker
// can hash any piece, and the pieces' nodes give the hash of the whole.
package digest

import (
	"encoding/binary"
	"encoding/hex"

	"lukechampine.com/blake3/guts"

	"jadetrail/core/disk"
)

// Node stands for one piece in the tree of the whole.
type Node struct{ n guts.Node }

// Of returns the node over b, which lies at off in the whole: a multiple of 1 KiB,
// and for Whole a multiple of the power of two that b fills, or that it ends in.
func Of(b []byte, off disk.Bytes) Node { return Node{subtree(b, off)} }

func subtree(b []byte, off disk.Bytes) guts.Node {
	const most = guts.MaxSIMD * guts.ChunkSize
	if len(b) > most {
		left := most
		for 2*left < len(b) {
			left *= 2
		}
		l, r := subtree(b[:left], off), subtree(b[left:], off+disk.Bytes(left))
		return guts.ParentNode(guts.ChainingValue(l), guts.ChainingValue(r), &guts.IV, 0)
	}
	n := len(b)
	if cap(b) < most {
		b = append(make([]byte, 0, most), b...)
	}
	return guts.CompressBuffer((*[most]byte)(b[:most]), n, &guts.IV, uint64(off/guts.ChunkSize), 0)
}

// String is the node's chaining value in hex: the hash of a piece in its place.
func (n Node) String() string { return text(guts.ChainingValue(n.n)) }

func text(cv [8]uint32) string {
	var b []byte
	for _, w := range cv {
		b = binary.LittleEndian.AppendUint32(b, w)
	}
	return hex.EncodeToString(b)
}

// Whole puts the nodes of pieces of equal length, the last of which may be
// shorter, together.
type Whole struct {
	last  guts.Node
	begun bool
	count uint64      // of nodes before the last
	left  [][8]uint32 // subtrees that wait for their right halves
}

// Add takes the next piece's node.
func (w *Whole) Add(n Node) {
	if w.begun {
		cv := guts.ChainingValue(w.last)
		for c := w.count; c&1 == 1; c >>= 1 {
			cv = guts.ChainingValue(guts.ParentNode(w.left[len(w.left)-1], cv, &guts.IV, 0))
			w.left = w.left[:len(w.left)-1]
		}
		w.left = append(w.left, cv)
		w.count++
	}
	w.last, w.begun = n.n, true
}

// Sum is the BLAKE3 hash, in hex, of all that was added, at least one piece.
func (w *Whole) Sum() string {
	n := w.last
	for i := len(w.left) - 1; i >= 0; i-- {
		n = guts.ParentNode(w.left[i], guts.ChainingValue(n), &guts.IV, 0)
	}
	n.Flags |= guts.FlagRoot
	out := guts.CompressNode(n)
	return text([8]uint32(out[:8]))
}
