package mongodb

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"net"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
)

// The numbers of the protocol ("MongoDB Wire Protocol": "Standard Message Header" and "OP_MSG",
// the server's manual).
const (
	headerSize = 16
	opMsg      = 2013

	flagChecksum = 1 << 0
	flagMore     = 1 << 1
	flagsKnown   = flagChecksum | flagMore | 1<<16 // of the low bits, an unknown one must be refused
	lowBits      = 1<<16 - 1

	kindBody = 0

	shortest    = headerSize + 4 + 1 + 5 // an empty document
	mostMessage = engine.AnswerBytes
	mostDepth   = 200 // of documents in documents, as the server has it
	mostParts   = 200_000
)

// wire is a connection on which one message is answered by one other.
type wire struct {
	conn net.Conn
	last int32
	met  bool // it has greeted: from then on what is too long is no other protocol
	most int  // how long one answer may be, while a person's command runs; 0 for the usual
	size int  // how long the last answer was said to be
	// grace is how long an answer is waited for after its context has ended.
	grace time.Duration
}

// errLarge is for an answer that is longer, or in more parts, than any that was asked for.
var errLarge = errors.New("an answer that is too long")

// during lets no reading or writing go on when ctx ends. The function that it gives must be called.
func (w *wire) during(ctx context.Context) (over func()) {
	if w.grace > 0 { // one that has passed is over
		_ = w.conn.SetDeadline(time.Time{})
	}
	stop := context.AfterFunc(ctx, func() {
		if w.grace > 0 {
			_ = w.conn.SetDeadline(time.Now().Add(w.grace))
			return
		}
		_ = w.conn.SetDeadline(time.Unix(1, 0))
	})
	return func() { stop() }
}

// ask sends a command, and gives the answer whole: its lengths and depths are checked. The errors
// are those of the connection, or a *finding.Problem for what the protocol does not allow.
func (w *wire) ask(ctx context.Context, command bson.D) (bson.Raw, error) {
	defer w.during(ctx)()
	body, err := bson.Marshal(command)
	if err != nil {
		return nil, fmt.Errorf("a command cannot be written: %w", err)
	}
	w.last++
	if _, err := w.conn.Write(message(w.last, 0, body)); err != nil {
		return nil, err
	}
	return w.answer()
}

// message frames a document.
func message(number, to int32, body []byte) []byte {
	put := binary.LittleEndian.AppendUint32
	m := put(nil, uint32(headerSize+4+1+len(body)))
	m = put(put(put(m, uint32(number)), uint32(to)), opMsg)
	m = append(put(m, 0), kindBody)
	return append(m, body...)
}

// answer reads the answer to the last message.
func (w *wire) answer() (bson.Raw, error) {
	head := make([]byte, headerSize)
	n, err := io.ReadAtLeast(w.conn, head, 5)
	if err != nil {
		return nil, err
	}
	size := binary.LittleEndian.Uint32(head)
	most := cmp.Or(w.most, mostMessage)
	w.size = int(size)
	if w.met && w.size > most {
		return nil, errLarge
	}
	if size < shortest || w.size > most {
		return nil, engine.Unexpected(engine.Heard(w.conn, head[:n]))
	}
	if _, err := io.ReadFull(w.conn, head[n:]); err != nil {
		return nil, err
	}
	if op := binary.LittleEndian.Uint32(head[12:]); op != opMsg || int32(binary.LittleEndian.Uint32(head[8:])) != w.last {
		return nil, engine.Unexpected(engine.Heard(w.conn, head))
	}
	// A length is not believed before the bytes are there.
	rest, err := io.ReadAll(io.LimitReader(w.conn, int64(size-headerSize)))
	if err != nil {
		return nil, err
	}
	if len(rest) < int(size-headerSize) {
		return nil, io.ErrUnexpectedEOF
	}
	flags := binary.LittleEndian.Uint32(rest)
	if w.met && flags&flagMore != 0 {
		return nil, errLarge
	}
	if flags&lowBits&^flagsKnown != 0 || flags&flagMore != 0 {
		return nil, engine.Malformed(fmt.Sprintf("an answer with the flags %#x", flags))
	}
	if flags&flagChecksum != 0 { // CRC-32C (RFC 4960, appendix B) of all before it
		at := len(rest) - 4
		if at < 4 || crc32.Update(crc32.Checksum(head, castagnoli()), castagnoli(),
			rest[:at]) != binary.LittleEndian.Uint32(rest[at:]) {
			return nil, engine.Malformed("an answer whose checksum is wrong")
		}
		rest = rest[:at]
	}
	if len(rest) < 5 || rest[4] != kindBody {
		return nil, engine.Malformed("an answer without a document")
	}
	doc := bson.Raw(rest[5:])
	parts := mostParts
	if w.most > 0 { // each part has three bytes or more
		parts = len(rest)
	}
	if err := bounded(doc, 1, &parts); err != nil {
		return nil, engine.Malformed(err)
	}
	return doc, nil
}

var castagnoli = sync.OnceValue(func() *crc32.Table { return crc32.MakeTable(crc32.Castagnoli) })

// bounded checks a document to its end: lengths, types, and how deep and how many its parts are,
// of which so many are left.
func bounded(doc bson.Raw, depth int, parts *int) error {
	if depth > mostDepth {
		return fmt.Errorf("documents in documents, deeper than %d", mostDepth)
	}
	if len(doc) < 5 || int(int32(binary.LittleEndian.Uint32(doc))) != len(doc) {
		return errors.New("a document whose length is wrong")
	}
	elements, err := doc.Elements()
	if err != nil {
		return fmt.Errorf("a document that is damaged: %w", err)
	}
	if *parts -= len(elements); *parts < 0 {
		return errors.New("more parts than an answer can have")
	}
	for _, e := range elements {
		v := e.Value()
		var inner bson.Raw
		switch v.Type {
		case bson.TypeEmbeddedDocument:
			inner, _ = v.DocumentOK()
		case bson.TypeArray:
			array, _ := v.ArrayOK()
			inner = bson.Raw(array)
		case bson.TypeCodeWithScope:
			_, inner, _ = v.CodeWithScopeOK()
		default:
			continue
		}
		if err := bounded(inner, depth+1, parts); err != nil {
			return err
		}
	}
	return nil
}
