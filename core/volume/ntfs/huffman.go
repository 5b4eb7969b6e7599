package ntfs

import (
	"fmt"

	"jadetrail/core/volume"
)

var errCode = fmt.Errorf("%w: compressed data", volume.ErrDamaged)

// codes decodes canonical Huffman codes, the most significant bit first.
type codes struct {
	first  [17]uint32 // code of the first symbol of each length
	count  [17]uint32
	offset [17]int
	syms   []uint16
}

// newCodes makes the codes from their lengths, 0 for none, 16 at most.
func newCodes(lengths []byte) (*codes, error) {
	c := &codes{syms: make([]uint16, 0, len(lengths))}
	for _, n := range lengths {
		if n > 16 {
			return nil, errCode
		}
		c.count[n]++
	}
	c.count[0] = 0
	code := uint32(0)
	for n := 1; n <= 16; n++ {
		code = (code + c.count[n-1]) << 1
		c.first[n], c.offset[n] = code, len(c.syms)
		if code+c.count[n] > 1<<n {
			return nil, errCode
		}
		for s, l := range lengths {
			if int(l) == n {
				c.syms = append(c.syms, uint16(s))
			}
		}
	}
	return c, nil
}

// bitReader takes bits from 16-bit words, the most significant first.
type bitReader struct {
	b    []byte
	at   int
	hold uint32 // bits, left-aligned
	n    uint
	over int // bits taken beyond the end
}

func (r *bitReader) need(n uint) {
	for r.n < n {
		w := uint32(0)
		if r.at+2 <= len(r.b) {
			w = uint32(le.Uint16(r.b[r.at:]))
		} else {
			r.over += 16
		}
		r.at += 2
		r.hold |= w << (16 - r.n)
		r.n += 16
	}
}

func (r *bitReader) bits(n uint) uint32 {
	if n == 0 {
		return 0
	}
	r.need(n)
	v := r.hold >> (32 - n)
	r.hold <<= n
	r.n -= n
	return v
}

func (r *bitReader) symbol(c *codes) (int, error) {
	r.need(16)
	for n := uint(1); n <= 16; n++ {
		if k := r.hold>>(32-n) - c.first[n]; r.hold>>(32-n) >= c.first[n] && k < c.count[n] {
			r.hold <<= n
			r.n -= n
			if r.over > 64 {
				return 0, errCode
			}
			return int(c.syms[c.offset[n]+int(k)]), nil
		}
	}
	return 0, errCode
}

// xpress decodes one chunk in the LZ77 and Huffman form (MS-XCA, section 2.2).
func xpress(out, in []byte) error {
	if len(in) < 256 {
		return errCode
	}
	lengths := make([]byte, 512)
	for i := range 256 {
		lengths[2*i], lengths[2*i+1] = in[i]&15, in[i]>>4
	}
	c, err := newCodes(lengths)
	if err != nil {
		return err
	}
	r := &bitReader{b: in, at: 256}
	// Bytes and words beside the bits are taken from behind those that the reader
	// holds: 32 at first, then always 16 or more.
	r.need(17)
	for o := 0; o < len(out); {
		sym, err := r.symbol(c)
		if err != nil {
			return err
		}
		r.need(16)
		if sym < 256 {
			out[o] = byte(sym)
			o++
			continue
		}
		sym -= 256
		length, bits := sym&15, uint(sym>>4)
		if length == 15 {
			if r.at >= len(in) {
				return errCode
			}
			length = int(in[r.at])
			r.at++
			if length == 255 {
				if r.at+2 > len(in) {
					return errCode
				}
				if length = int(le.Uint16(in[r.at:])) - 15; length < 0 {
					return errCode
				}
				r.at += 2
			}
			length += 15
		}
		length += 3
		back := int(1<<bits | r.bits(bits))
		r.need(16)
		if back > o {
			return errCode
		}
		for ; length > 0 && o < len(out); length-- {
			out[o] = out[o-back]
			o++
		}
	}
	return nil
}

// Sizes of LZX with a window of 32 KiB.
const (
	lzxSlots   = 30
	lzxMain    = 256 + 8*lzxSlots
	lzxLengths = 249
)

// lzx decodes one chunk of 32 KiB at most (MS-PATCH, section 2, in the form with
// blocks of 32 KiB that archives of disk images use). Nothing is kept from one chunk
// to the next.
func lzx(out, in []byte) error {
	r := &bitReader{b: in}
	recent := [3]uint32{1, 1, 1}
	mainLen, lenLen := make([]byte, lzxMain), make([]byte, lzxLengths)
	for o := 0; o < len(out); {
		kind := r.bits(3)
		size := 32768
		if r.bits(1) == 0 {
			size = int(r.bits(16))
		}
		if size == 0 || size > len(out)-o {
			if size = len(out) - o; r.over > 64 {
				return errCode
			}
		}
		end := o + size
		if kind == 3 {
			// The rest of the current word is dropped, a whole one when none is begun.
			if r.at -= int(r.n/16) * 2; r.n%16 == 0 {
				r.at += 2
			}
			r.hold, r.n = 0, 0
			if r.at+12+size > len(in) {
				return errCode
			}
			for i := range recent {
				recent[i] = le.Uint32(in[r.at+4*i:])
			}
			r.at += 12
			copy(out[o:end], in[r.at:])
			r.at += size + size&1
			o = end
			continue
		}
		var aligned *codes
		var err error
		if kind == 2 {
			al := make([]byte, 8)
			for i := range al {
				al[i] = byte(r.bits(3))
			}
			if aligned, err = newCodes(al); err != nil {
				return err
			}
		} else if kind != 1 {
			return errCode
		}
		for _, part := range [][]byte{mainLen[:256], mainLen[256:], lenLen} {
			if err := lzxTree(r, part); err != nil {
				return err
			}
		}
		main, err := newCodes(mainLen)
		if err != nil {
			return err
		}
		lens, err := newCodes(lenLen)
		if err != nil {
			return err
		}
		for o < end {
			sym, err := r.symbol(main)
			if err != nil {
				return err
			}
			if sym < 256 {
				out[o] = byte(sym)
				o++
				continue
			}
			sym -= 256
			length, slot := sym&7, sym>>3
			if length == 7 {
				n, err := r.symbol(lens)
				if err != nil {
					return err
				}
				length += n
			}
			length += 2
			var back uint32
			switch slot {
			case 0:
				back = recent[0]
			case 1, 2:
				back = recent[slot]
				recent[slot] = recent[0]
			default:
				extra, base := slotBits(slot), lzxBases[slot]
				var more uint32
				if aligned != nil && extra >= 3 {
					more = r.bits(extra-3) << 3
					low, err := r.symbol(aligned)
					if err != nil {
						return err
					}
					more |= uint32(low)
				} else {
					more = r.bits(extra)
				}
				back = base + more - 2
				recent[2], recent[1] = recent[1], recent[0]
			}
			recent[0] = back
			if back == 0 || int64(back) > int64(o) {
				return errCode
			}
			for ; length > 0 && o < end; length-- {
				out[o] = out[o-int(back)]
				o++
			}
		}
	}
	unfilter(out)
	return nil
}

// lzxBases are the first offsets of the position slots.
var lzxBases = func() (b [lzxSlots]uint32) {
	for s := 1; s < lzxSlots; s++ {
		b[s] = b[s-1] + 1<<slotBits(s-1)
	}
	return b
}()

// slotBits is how many more bits a position slot takes.
func slotBits(s int) uint {
	if s < 4 {
		return 0
	}
	return uint(s/2 - 1)
}

// lzxTree reads code lengths as differences to those of the block before.
func lzxTree(r *bitReader, lengths []byte) error {
	pre := make([]byte, 20)
	for i := range pre {
		pre[i] = byte(r.bits(4))
	}
	c, err := newCodes(pre)
	if err != nil {
		return err
	}
	for i := 0; i < len(lengths); {
		s, err := r.symbol(c)
		if err != nil {
			return err
		}
		n, v := 1, 0
		switch s {
		case 17:
			n = 4 + int(r.bits(4))
		case 18:
			n = 20 + int(r.bits(5))
		case 19:
			n = 4 + int(r.bits(1))
			d, err := r.symbol(c)
			if err != nil || d > 16 {
				return errCode
			}
			v = (int(lengths[i]) - d + 17) % 17
		default:
			v = (int(lengths[i]) - s + 17) % 17
		}
		for ; n > 0 && i < len(lengths); n-- {
			lengths[i] = byte(v)
			i++
		}
	}
	return nil
}

// unfilter turns the places that calls were made absolute by back to distances: an
// E8h and four bytes, for a file taken to be 12 000 000 bytes long.
func unfilter(b []byte) {
	const size = 12000000
	if len(b) <= 10 {
		return
	}
	for i := 0; i < len(b)-10; i++ {
		if b[i] != 0xe8 {
			continue
		}
		v := int32(le.Uint32(b[i+1:]))
		switch {
		case v >= 0 && v < size:
			le.PutUint32(b[i+1:], uint32(v-int32(i)))
		case v < 0 && v >= -int32(i):
			le.PutUint32(b[i+1:], uint32(v+size))
		}
		i += 4
	}
}
