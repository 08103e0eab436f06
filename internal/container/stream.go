package container

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// bridge is a shell's program that joins its input and output to a port of the container's own loopback address, by whichever of the usual
// programs the image has. It says "open" on its error output when it is connected, as far as it can tell, and it ends with either side, taking
// what it started with it.
//
// Everything that it starts is waited for before it ends. What it left behind would become a child of the container's first process, which
// is the database server itself in the well-known images: PostgreSQL's takes a child that died of a signal for one of its own that crashed, and
// restarts all of them. A broken pipe is no signal here for the same reason.
const bridge = `p=$1
if command -v bash >/dev/null 2>&1; then exec bash -c '
trap "" PIPE
command exec 3<>/dev/tcp/127.0.0.1/$1 || exit 71
echo open >&2
cat <&3 & a=$!
cat <&0 >&3 & b=$!
end() { kill $a $b 2>/dev/null; wait; exit 0; }
trap end TERM HUP INT
wait -n 2>/dev/null || wait $b
end
' bridge "$p"
fi
echo open >&2
if command -v nc >/dev/null 2>&1; then exec nc 127.0.0.1 "$p"; fi
if command -v socat >/dev/null 2>&1; then exec socat - "TCP:127.0.0.1:$p"; fi
exit 72`

// Stream opens a connection to a port of the container's own loopback address, through the engine. The error is a *finding.Problem.
func (c *Client) Stream(ctx context.Context, found *Container, port int) (net.Conn, error) {
	made, err := c.api.ExecCreate(ctx, found.ID, client.ExecCreateOptions{
		AttachStdin: true, AttachStdout: true, AttachStderr: true, Cmd: []string{"sh", "-c", bridge, "sh", fmt.Sprint(port)},
	})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	attached, err := c.streams.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	s := newStream(attached.HijackedResponse)
	select {
	case <-s.opened:
		return s, nil
	case <-s.ended:
	case <-ctx.Done():
	}
	_ = s.Close()
	if ctx.Err() != nil {
		return nil, &finding.Problem{Code: finding.PortSilent, Err: ctx.Err()}
	}
	said := s.said()
	facts := finding.Facts{finding.FactContainer: found.Name}
	switch end, _ := c.api.ExecInspect(ctx, made.ID, client.ExecInspectOptions{}); {
	case end.ExitCode == 71:
		return nil, &finding.Problem{Code: finding.PortRefused, Words: said, Facts: facts}
	case end.ExitCode == 72, end.ExitCode == 126, end.ExitCode == 127:
		return nil, &finding.Problem{Code: finding.ContainerNoStream, Words: said, Facts: facts}
	}
	return nil, &finding.Problem{Code: finding.ContainerNoStream, Words: said, Facts: facts}
}

// stream is a connection through the engine. It has a pipe for each direction, so that one can end before the other.
type stream struct {
	net.Conn // our end of what comes
	down, up net.Conn
	sent     net.Conn // our end of what goes
	below    client.HijackedResponse
	once     sync.Once
	opened   chan struct{}
	open     sync.Once
	ended    chan struct{}
	mu       sync.Mutex
	errors   *outside.Head
}

func newStream(below client.HijackedResponse) *stream {
	s := &stream{below: below, opened: make(chan struct{}), ended: make(chan struct{})}
	s.Conn, s.down = net.Pipe()
	s.sent, s.up = net.Pipe()
	go s.send()
	go s.receive()
	return s
}

// Write sends.
func (s *stream) Write(p []byte) (int, error) { return s.sent.Write(p) }

// CloseWrite says that nothing more is sent; what comes goes on.
func (s *stream) CloseWrite() error { return s.sent.Close() }

// SetWriteDeadline bounds the time of writing, and SetDeadline that of both directions.
func (s *stream) SetWriteDeadline(t time.Time) error { return s.sent.SetWriteDeadline(t) }

// SetDeadline is described at SetWriteDeadline.
func (s *stream) SetDeadline(t time.Time) error {
	return errors.Join(s.Conn.SetReadDeadline(t), s.sent.SetWriteDeadline(t))
}

// send passes on what we write, to its end.
func (s *stream) send() {
	_, _ = io.Copy(s.below.Conn, s.up)
	_ = s.below.CloseWrite()
}

// receive gives what comes, and keeps what the program said on its error output.
func (s *stream) receive() {
	defer close(s.ended)
	_ = frames(s.below.Reader, s.down, (*words)(s))
	_ = s.down.Close()
	_ = s.up.Close()
	s.below.Close()
}

// words takes the program's error output.
type words stream

// Write keeps the beginning of it.
func (w *words) Write(p []byte) (int, error) {
	s := (*stream)(w)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.errors == nil {
		s.errors = outside.NewHead(4096)
	}
	_, _ = s.errors.Write(p)
	if strings.HasPrefix(s.errors.Raw().Bare(), "open\n") {
		s.open.Do(func() { close(s.opened) })
	}
	return len(p), nil
}

func (s *stream) said() outside.Raw {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.errors == nil {
		return outside.Raw{}
	}
	return s.errors.Raw().Trimmed("open\n")
}

// Close ends the connection, and with it the program inside the container.
func (s *stream) Close() error {
	s.once.Do(func() {
		_, _, _, _ = s.Conn.Close(), s.down.Close(), s.sent.Close(), s.up.Close()
		_ = s.below.CloseWrite()
		select { // the program ends by itself when its input does
		case <-s.ended:
		case <-time.After(500 * time.Millisecond):
		}
		s.below.Close()
	})
	return nil
}
