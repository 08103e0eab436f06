package oracle

import (
	"encoding/binary"
	"errors"
	"io"

	"gentle-harbor/internal/engine"
)

// How long what a server says may be: one text of its own, and how many parts one list may have.
const (
	mostText = 64 << 10
	mostList = 4096
)

// reader takes messages apart. Whole numbers have a byte that says how many bytes follow, the
// first of which has the highest bits; its highest bit is for a number below zero. Texts have a
// byte that says how long they are; 254 says that they come in pieces, each with its length, and
// 0 or 255 that there is none. The first error stays, and everything that is read after it is
// empty. Sources: go-ora, network/session.go (GetInt64, GetClr, GetDlc); node-oracledb,
// lib/impl/datahandlers/buffer.js.
type reader struct {
	stream *stream
	pieces bool // the pieces of a text have their lengths as whole numbers
	most   int  // how long a text may be
	err    error
}

func (r *reader) fail(err error) {
	if r.err == nil {
		r.err = err
	}
}

// wrong says that the bytes are none of the protocol.
func (r *reader) wrong(what string) { r.fail(engine.Malformed(what)) }

// raw gives the next n bytes.
func (r *reader) raw(n int) []byte {
	if n < 0 || n > r.most {
		r.fail(tooLong(n, r.most))
	}
	if r.err != nil || n == 0 {
		return nil
	}
	if len(r.stream.rest) >= n {
		data := r.stream.rest[:n:n]
		r.stream.rest = r.stream.rest[n:]
		return data
	}
	var data []byte // it grows as it comes, and not as it is announced
	for len(data) < n {
		if len(r.stream.rest) == 0 {
			if err := r.stream.data(); err != nil {
				r.fail(err)
				return nil
			}
		}
		take := min(n-len(data), len(r.stream.rest))
		data = append(data, r.stream.rest[:take]...)
		r.stream.rest = r.stream.rest[take:]
	}
	return data
}

// tooLong is the failure of a text that is longer than it may be.
func tooLong(n, most int) error {
	if most <= mostText {
		return engine.Malformed("a text that is longer than the protocol allows")
	}
	return engine.TooLarge(n, most)
}

func (r *reader) byte() byte {
	data := r.raw(1)
	if len(data) == 0 {
		return 0
	}
	return data[0]
}

// fixed gives a whole number of two bytes, which has no length.
func (r *reader) fixed() int {
	data := r.raw(2)
	if len(data) < 2 {
		return 0
	}
	return int(binary.BigEndian.Uint16(data))
}

// number gives a whole number.
func (r *reader) number() int64 {
	size := r.byte()
	below := size&0x80 != 0
	if size &= 0x7f; size > 8 {
		r.wrong("a whole number of more than eight bytes")
		return 0
	}
	var n int64
	for _, b := range r.raw(int(size)) {
		n = n<<8 | int64(b)
	}
	if below {
		n = -n
	}
	return n
}

// count gives how many parts follow.
func (r *reader) count() int {
	n := r.number()
	if n < 0 || n > mostList {
		r.wrong("a list that is longer than the protocol allows")
		return 0
	}
	return int(n)
}

// text gives bytes with their length; nil for none.
func (r *reader) text() []byte {
	switch size := r.byte(); size {
	case 0, 0xff, 0xfd:
		return nil
	case 0xfe:
		var data []byte
		for r.err == nil {
			n := 0
			if r.pieces {
				n = int(r.number())
			} else {
				n = int(r.byte())
			}
			if n == 0 {
				break
			}
			if n < 0 || len(data)+n > r.most {
				r.fail(tooLong(max(n, 0), r.most))
				break
			}
			data = append(data, r.raw(n)...)
		}
		return data
	default:
		return r.raw(int(size))
	}
}

// said gives a text behind a whole number that says whether there is one.
func (r *reader) said() []byte {
	if r.number() == 0 {
		return nil
	}
	return r.text()
}

// pair gives a name, its value, and the flags behind them.
func (r *reader) pair() (name, value string, flags int64) {
	name, value = string(r.said()), string(r.said())
	return name, value, r.number()
}

// writer puts messages together, in the forms that [reader] describes.
type writer struct {
	data   []byte
	pieces bool
}

func (w *writer) bytes(list ...byte) { w.data = append(w.data, list...) }

// number writes a whole number that is not below zero.
func (w *writer) number(n int) {
	var whole [8]byte
	binary.BigEndian.PutUint64(whole[:], uint64(n))
	first := 0
	for first < 8 && whole[first] == 0 {
		first++
	}
	w.bytes(byte(8 - first))
	w.bytes(whole[first:]...)
}

// mostPiece is how long a text may be that is in one piece.
const mostPiece = 252

// text writes bytes with their length.
func (w *writer) text(data []byte) {
	if len(data) <= mostPiece {
		w.bytes(byte(len(data)))
		w.bytes(data...)
		return
	}
	w.bytes(0xfe)
	size := 64
	if w.pieces {
		size = 0x7fff
	}
	for len(data) > 0 {
		n := min(len(data), size)
		if w.pieces {
			w.number(n)
		} else {
			w.bytes(byte(n))
		}
		w.bytes(data[:n]...)
		data = data[n:]
	}
	w.bytes(0)
}

// pair writes a name, a value and flags.
func (w *writer) pair(name, value string, flags int) {
	w.number(len(name))
	w.text([]byte(name))
	w.number(len(value))
	if value != "" {
		w.text([]byte(value))
	}
	w.number(flags)
}

// isEnd reports whether the other side ended the connection.
func isEnd(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
