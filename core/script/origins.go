package script

import (
	"slices"
	"sort"

	"jadetrail/core/disk"
)

// Piece is bytes that lay at From before, in one stretch; From is -1 where they were made.
type Piece struct{ From, Len disk.Bytes }

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
	o := &Origins{}
	if !s.Moves() { // nothing comes from elsewhere: what is touched is made
		for _, op := range s {
			if n := op.Len + op.Pad; n > 0 {
				o.segments = append(o.segments, segment{op.Off, Piece{-1, n}})
			}
		}
		slices.SortFunc(o.segments, func(a, b segment) int { return int(min(max(a.at-b.at, -1), 1)) })
		n := 0
		for _, x := range o.segments {
			if n > 0 && x.at <= o.segments[n-1].end() {
				o.segments[n-1].Len = max(o.segments[n-1].Len, x.end()-o.segments[n-1].at)
				continue
			}
			o.segments[n] = x
			n++
		}
		o.segments = o.segments[:n]
		return o
	}
	for _, op := range s {
		switch {
		case op.Len+op.Pad == 0:
		case op.Kind == Move:
			o.put(op.Off, o.Of(op.From, op.Len))
		default:
			o.put(op.Off, []Piece{{-1, op.Len + op.Pad}})
		}
	}
	return o
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
			fresh = append([]segment{{s.at, Piece{s.From, off - s.at}}}, fresh...)
		}
		if s.end() > at {
			from := s.From
			if from >= 0 {
				from += at - s.at
			}
			fresh = append(fresh, segment{at, Piece{from, s.end() - at}})
		}
	}
	o.segments = slices.Replace(o.segments, i, j, fresh...)
}

// joins tells that b goes on where a ends.
func joins(a, b Piece) bool {
	return a.From < 0 && b.From < 0 || a.From >= 0 && a.From+a.Len == b.From
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
			add(Piece{off, end - off})
			break
		}
		s := o.segments[i]
		if s.at > off {
			add(Piece{off, s.at - off})
			off = s.at
		}
		k := min(s.end(), end) - off
		from := s.From
		if from >= 0 {
			from += off - s.at
		}
		add(Piece{from, k})
		off += k
	}
	return out
}

// Touches tells that the script writes into the n bytes at off.
func (o *Origins) Touches(off, n disk.Bytes) bool {
	i := o.first(off)
	return i < len(o.segments) && o.segments[i].at < off+n
}
