package route

import (
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// Stream is a connection whose reads and writes wait as long as they like, such as a channel of
// an SSH connection.
type Stream interface {
	io.ReadWriteCloser
	// CloseWrite says that nothing more is written; reading goes on.
	CloseWrite() error
}

// chunk is how much is read from a stream, or written to it, at a time.
const chunk = 32 << 10

// How long a connection that was closed may still send what was written before, and how much of
// that Close itself waits: usually it is sent by then, and a program that ends right after Close
// has said goodbye.
const (
	flushTime = time.Second
	goodbye   = 50 * time.Millisecond
)

var chunks = sync.Pool{New: func() any { b := make([]byte, chunk); return &b }}

// NewTimed makes a connection of a stream that keeps what [net.Conn] promises: a deadline ends
// reads and writes that wait, also when it is set while they wait; Close ends them too, and
// returns immediately. The stream is read and written by goroutines of its own, which end with
// it. What was written is sent in order, also when the connection is closed after it; Write
// returns when the stream's goroutine has taken the bytes over.
func NewTimed(inner Stream, local, remote net.Addr) *Timed {
	t := &Timed{
		inner: inner, local: local, remote: remote, in: make(chan part, 1), out: make(chan part, 1),
		ended: make(chan struct{}), written: make(chan struct{}), failed: make(chan struct{}), settled: make(chan struct{}),
	}
	t.readBy.set(time.Time{})
	t.writeBy.set(time.Time{})
	go t.read()
	go t.write()
	return t
}

// part is a piece of a stream: bytes of a buffer of the pool, or an end.
type part struct {
	buffer *[]byte
	bytes  []byte
	end    bool // of writing
}

func (p part) release() {
	if p.buffer != nil {
		chunks.Put(p.buffer)
	}
}

// Timed is a connection over a stream. Make one with [NewTimed].
type Timed struct {
	inner         Stream
	local, remote net.Addr

	in      chan part // closed at the stream's end, after readErr was set
	readErr error
	readMu  sync.Mutex
	rest    part // of what came and was not read yet

	out      chan part
	writeMu  sync.Mutex
	half     bool          // CloseWrite was called
	writeErr error         // set before failed is closed
	failed   chan struct{} // closed when the stream takes nothing more
	written  chan struct{} // closed when the goroutine that writes has ended

	readBy, writeBy deadline
	once            sync.Once
	ended           chan struct{} // closed by Close
	settled         chan struct{} // closed when the stream was closed after that
}

// read reads the stream to its end.
func (t *Timed) read() {
	defer close(t.in)
	for {
		buffer := chunks.Get().(*[]byte)
		n, err := t.inner.Read(*buffer)
		if n > 0 {
			select {
			case t.in <- part{buffer: buffer, bytes: (*buffer)[:n]}:
			case <-t.ended:
				return
			}
		} else {
			chunks.Put(buffer)
		}
		if err != nil {
			t.readErr = err
			return
		}
	}
}

// write writes what is handed over, in order, until the connection is closed and nothing is left
// of it.
func (t *Timed) write() {
	defer close(t.written)
	for {
		var p part
		select {
		case p = <-t.out:
		default:
			select {
			case p = <-t.out:
			case <-t.ended:
				select {
				case p = <-t.out:
				default:
					return
				}
			}
		}
		var err error
		if p.end {
			err = t.inner.CloseWrite()
		} else {
			_, err = t.inner.Write(p.bytes)
			p.release()
		}
		if err != nil {
			t.writeErr = err
			close(t.failed)
			return
		}
	}
}

// Read reads, until the deadline.
func (t *Timed) Read(b []byte) (int, error) {
	t.readMu.Lock()
	defer t.readMu.Unlock()
	if err := t.next(); err != nil {
		return 0, err
	}
	n := copy(b, t.rest.bytes)
	if t.rest.bytes = t.rest.bytes[n:]; len(t.rest.bytes) == 0 {
		t.rest.release()
		t.rest = part{}
	}
	return n, nil
}

// next waits until something was read.
func (t *Timed) next() error {
	select {
	case <-t.ended:
		return net.ErrClosed
	case <-t.readBy.over():
		return os.ErrDeadlineExceeded
	default:
	}
	if len(t.rest.bytes) > 0 {
		return nil
	}
	select {
	case p, more := <-t.in:
		if !more {
			return t.readErr
		}
		t.rest = p
		return nil
	case <-t.ended:
		return net.ErrClosed
	case <-t.readBy.over():
		return os.ErrDeadlineExceeded
	}
}

// WriteTo writes what is read to another, without copying it once more.
func (t *Timed) WriteTo(w io.Writer) (sum int64, err error) {
	t.readMu.Lock()
	defer t.readMu.Unlock()
	for {
		if err := t.next(); err == io.EOF {
			return sum, nil
		} else if err != nil {
			return sum, err
		}
		n, err := w.Write(t.rest.bytes)
		sum += int64(n)
		if t.rest.bytes = t.rest.bytes[n:]; len(t.rest.bytes) == 0 {
			t.rest.release()
			t.rest = part{}
		}
		if err != nil {
			return sum, err
		}
	}
}

// Write writes, until the deadline.
func (t *Timed) Write(b []byte) (sum int, err error) {
	t.writeMu.Lock()
	defer t.writeMu.Unlock()
	for {
		if err := t.open(); err != nil {
			return sum, err
		}
		if len(b) == 0 {
			return sum, nil
		}
		buffer := chunks.Get().(*[]byte)
		n := copy(*buffer, b)
		if err := t.hand(part{buffer: buffer, bytes: (*buffer)[:n]}); err != nil {
			return sum, err
		}
		sum, b = sum+n, b[n:]
	}
}

// ReadFrom writes what another is read, without copying it once more.
func (t *Timed) ReadFrom(r io.Reader) (sum int64, err error) {
	for {
		buffer := chunks.Get().(*[]byte)
		n, err := r.Read(*buffer)
		if n > 0 {
			t.writeMu.Lock()
			failed := t.open()
			if failed == nil {
				failed = t.hand(part{buffer: buffer, bytes: (*buffer)[:n]})
			}
			t.writeMu.Unlock()
			if failed != nil {
				return sum, failed
			}
			sum += int64(n)
		} else {
			chunks.Put(buffer)
		}
		if err == io.EOF {
			return sum, nil
		}
		if err != nil {
			return sum, err
		}
	}
}

// open reports why nothing can be written.
func (t *Timed) open() error {
	select {
	case <-t.ended:
		return net.ErrClosed
	case <-t.failed:
		return t.writeErr
	case <-t.writeBy.over():
		return os.ErrDeadlineExceeded
	default:
	}
	if t.half {
		return io.ErrClosedPipe
	}
	return nil
}

// hand hands a part over to the goroutine that writes.
func (t *Timed) hand(p part) error {
	select {
	case t.out <- p:
		return nil
	case <-t.ended:
		return net.ErrClosed
	case <-t.failed:
		return t.writeErr
	case <-t.writeBy.over():
		return os.ErrDeadlineExceeded
	}
}

// CloseWrite says that nothing more is written.
func (t *Timed) CloseWrite() error {
	t.writeMu.Lock()
	defer t.writeMu.Unlock()
	if err := t.open(); err != nil {
		return err
	}
	t.half = true
	return t.hand(part{end: true})
}

// Close ends the connection. What was written goes out meanwhile, for a second at most.
func (t *Timed) Close() error {
	t.once.Do(func() {
		close(t.ended)
		patience := time.NewTimer(goodbye)
		defer patience.Stop()
		defer func() {
			select {
			case <-t.settled:
			case <-patience.C:
			}
		}()
		go func() {
			flush := time.NewTimer(flushTime)
			defer flush.Stop()
			select {
			case <-t.written:
			case <-flush.C:
			}
			_ = t.inner.Close()
			close(t.settled)
		}()
	})
	return nil
}

// Settled is closed when after Close all that was written has gone out, or can go nowhere.
func (t *Timed) Settled() <-chan struct{} { return t.settled }

// LocalAddr gives this side's address.
func (t *Timed) LocalAddr() net.Addr { return t.local }

// RemoteAddr gives the other side's address.
func (t *Timed) RemoteAddr() net.Addr { return t.remote }

// SetDeadline sets both deadlines.
func (t *Timed) SetDeadline(at time.Time) error {
	_ = t.SetReadDeadline(at)
	return t.SetWriteDeadline(at)
}

// SetReadDeadline ends reads at a time; the zero time ends none.
func (t *Timed) SetReadDeadline(at time.Time) error { return t.within(&t.readBy, at) }

// SetWriteDeadline ends writes at a time; the zero time ends none.
func (t *Timed) SetWriteDeadline(at time.Time) error { return t.within(&t.writeBy, at) }

func (t *Timed) within(d *deadline, at time.Time) error {
	select {
	case <-t.ended:
		return net.ErrClosed
	default:
		d.set(at)
		return nil
	}
}

// deadline is a time that can be moved, and a channel that is closed while it has passed.
type deadline struct {
	mu    sync.Mutex
	timer *time.Timer
	past  chan struct{}
}

// over gives the channel that is closed when the time has passed.
func (d *deadline) over() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.past
}

// set moves the time; the zero time never passes. Who waits for one that has not passed goes on
// to wait for the new one.
func (d *deadline) set(at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	stopped := d.timer == nil || d.timer.Stop()
	d.timer = nil
	passed := false
	if d.past != nil {
		select {
		case <-d.past:
			passed = true
		default:
		}
	}
	if d.past == nil || passed || !stopped { // a timer that could not be stopped closes the channel that it knows
		d.past = make(chan struct{})
	}
	past := d.past
	switch wait := time.Until(at); {
	case at.IsZero():
	case wait <= 0:
		close(past)
	default:
		d.timer = time.AfterFunc(wait, func() { close(past) })
	}
}
