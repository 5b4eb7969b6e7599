// Command ttf unpacks a WOFF font (W3C WOFF 1.0) into the TrueType font that it holds, for the
// PDF reports: ttf IN.woff OUT.ttf
package main

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"
	"log"
	"math/bits"
	"os"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 3 {
		log.Fatal("usage: ttf IN.woff OUT.ttf")
	}
	b, err := os.ReadFile(os.Args[1])
	if err == nil {
		b, err = unpack(b)
	}
	if err == nil {
		err = os.WriteFile(os.Args[2], b, 0o644)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func unpack(b []byte) ([]byte, error) {
	be := binary.BigEndian
	if len(b) < 44 || string(b[:4]) != "wOFF" {
		return nil, errors.New("not a WOFF font")
	}
	n := int(be.Uint16(b[12:]))
	if len(b) < 44+20*n {
		return nil, io.ErrUnexpectedEOF
	}
	head := append([]byte{}, b[4:8]...) // the flavour
	power := 1 << (bits.Len(uint(n)) - 1)
	for _, x := range []int{n, power * 16, bits.Len(uint(power)) - 1, n*16 - power*16} {
		head = be.AppendUint16(head, uint16(x))
	}
	var body []byte
	for i := range n {
		e := b[44+20*i:]
		off, packed, size := be.Uint32(e[4:]), be.Uint32(e[8:]), be.Uint32(e[12:])
		if uint64(off)+uint64(packed) > uint64(len(b)) || size > 16<<20 {
			return nil, io.ErrUnexpectedEOF
		}
		t := b[off : off+packed]
		if packed < size {
			r, err := zlib.NewReader(bytes.NewReader(t))
			if err != nil {
				return nil, err
			}
			t = make([]byte, size)
			if _, err := io.ReadFull(r, t); err != nil {
				return nil, err
			}
		}
		head = append(head, e[:4]...)
		head = append(head, e[16:20]...) // the checksum
		head = be.AppendUint32(head, uint32(12+16*n+len(body)))
		head = be.AppendUint32(head, size)
		body = append(append(body, t...), make([]byte, -len(t)&3)...)
	}
	return append(head, body...), nil
}
