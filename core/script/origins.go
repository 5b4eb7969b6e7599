package script

import (
	"cmp"
	"container/heap"
	"slices"
	"sort"

	"jadetrail/core/disk"
)

// Piece is bytes that lay at From before, in one stretch. Where they were made, From is -1, and
// By is the operation that made them, counted from 1, and Within how far into its contents they
// begin.
type Piece struct {
	From, Len disk.Bytes
	By        int
	Within    disk.Bytes
}

// from is the part of a piece that begins off bytes into it.
func (p Piece) from(off disk.Bytes) Piece {
	p.Len -= off
	if p.From >= 0 {
		p.From += off
	} else {
		p.Within += off
	}
	return p
}

// first is the first n bytes of a piece.
func (p Piece) first(n disk.Bytes) Piece {
	p.Len = n
	return p
}

// Origins tells of what a script leaves on a drive where it was before.
type Origins struct{ segments []segment }

// segment is a stretch that the script touches.
type segment struct {
	at disk.Bytes
	Piece
}

func (s segment) end() disk.Bytes { return s.at + s.Len }

// Origins works that out for the script.
func (s Script) Origins() *Origins {
	if !s.Moves() {
		return &Origins{s.lastWriters()}
	}
	o := &Origins{}
	for i := range s {
		o.Do(s[i], i)
	}
	return o
}

// Do adds what the operation i of a script leaves.
func (o *Origins) Do(op Op, i int) {
	switch {
	case op.Len+op.Pad == 0:
	case op.Kind == Move:
		o.put(op.Off, o.Of(op.From, op.Len))
	default:
		o.put(op.Off, []Piece{{From: -1, Len: op.Len + op.Pad, By: i + 1}})
	}
}

// lastWriters are the segments of a script that moves nothing: of each place, the operation
// that was the last to write there.
func (s Script) lastWriters() []segment {
	type edge struct {
		at    disk.Bytes
		op    int
		start bool
	}
	var edges []edge
	for i, op := range s {
		if n := op.Len + op.Pad; n > 0 {
			edges = append(edges, edge{op.Off, i, true}, edge{op.Off + n, i, false})
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	var out []segment
	var open byLast
	ended := make([]bool, len(s))
	for k, e := range edges {
		if e.start {
			heap.Push(&open, e.op)
		} else {
			ended[e.op] = true
		}
		for len(open) > 0 && ended[open[0]] {
			heap.Pop(&open)
		}
		if len(open) == 0 || edges[k+1].at == e.at { // something is open, so that an edge follows
			continue
		}
		i, n := open[0], edges[k+1].at-e.at
		p := Piece{From: -1, Len: n, By: i + 1, Within: e.at - s[i].Off}
		if m := len(out); m > 0 && out[m-1].end() == e.at && joins(out[m-1].Piece, p) {
			out[m-1].Len += n
		} else {
			out = append(out, segment{e.at, p})
		}
	}
	return out
}

// byLast is a heap of operations, the last of the script on top.
type byLast []int

func (h byLast) Len() int           { return len(h) }
func (h byLast) Less(a, b int) bool { return h[a] > h[b] }
func (h byLast) Swap(a, b int)      { h[a], h[b] = h[b], h[a] }
func (h *byLast) Push(x any)        { *h = append(*h, x.(int)) }
func (h *byLast) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// first is the segment that ends behind a place.
func (o *Origins) first(at disk.Bytes) int {
	return sort.Search(len(o.segments), func(i int) bool { return o.segments[i].end() > at })
}

// put replaces what is known of the stretch at off.
func (o *Origins) put(off disk.Bytes, pieces []Piece) {
	var fresh []segment
	at := off
	for _, p := range pieces {
		if n := len(fresh); n > 0 && joins(fresh[n-1].Piece, p) {
			fresh[n-1].Len += p.Len
		} else {
			fresh = append(fresh, segment{at, p})
		}
		at += p.Len
	}
	i, j := o.first(off), 0
	for j = i; j < len(o.segments) && o.segments[j].at < at; j++ {
		s := o.segments[j]
		if s.at < off {
			fresh = append([]segment{{s.at, s.first(off - s.at)}}, fresh...)
		}
		if s.end() > at {
			fresh = append(fresh, segment{at, s.from(at - s.at)})
		}
	}
	o.segments = slices.Replace(o.segments, i, j, fresh...)
}

// joins tells that b goes on where a ends.
func joins(a, b Piece) bool {
	if a.From < 0 {
		return b.From < 0 && a.By == b.By && a.Within+a.Len == b.Within
	}
	return a.From+a.Len == b.From
}

// Of is where the n bytes at off come from, in their order.
func (o *Origins) Of(off, n disk.Bytes) []Piece {
	var out []Piece
	add := func(p Piece) {
		if k := len(out); k > 0 && joins(out[k-1], p) {
			out[k-1].Len += p.Len
			return
		}
		out = append(out, p)
	}
	end := off + n
	for i := o.first(off); off < end; i++ {
		if i == len(o.segments) || o.segments[i].at >= end {
			add(Piece{From: off, Len: end - off})
			break
		}
		s := o.segments[i]
		if s.at > off {
			add(Piece{From: off, Len: s.at - off})
			off = s.at
		}
		k := min(s.end(), end) - off
		add(s.from(off - s.at).first(k))
		off += k
	}
	return out
}

// Each visits what the script leaves, in the order of the drive: where it lies, and where it
// comes from.
func (o *Origins) Each(visit func(at disk.Bytes, p Piece)) {
	for _, s := range o.segments {
		visit(s.at, s.Piece)
	}
}

// Touches tells that the script writes into the n bytes at off.
func (o *Origins) Touches(off, n disk.Bytes) bool {
	i := o.first(off)
	return i < len(o.segments) && o.segments[i].at < off+n
}
