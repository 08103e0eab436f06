package container

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
)

// bridge is a shell's program that joins its input and output to a port of the container's own
// loopback address, by whichever of the usual programs the image has. It says "open" on its error
// output when it is connected, as far as it can see, and it ends with either side, taking what it
// started with it.
//
// Everything that it starts is waited for before it ends. What it left behind would become a
// child of the container's first process, which is the database server itself in the well-known
// images: PostgreSQL's takes a child that died of a signal for one of its own that crashed, and
// restarts all of them. A broken pipe is no signal here for the same reason.
const bridge = `p=$1 LC_ALL=C
export LC_ALL
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
if command -v nc >/dev/null 2>&1; then echo open >&2; exec nc 127.0.0.1 "$p"; fi
if command -v socat >/dev/null 2>&1; then echo open >&2; exec socat - "TCP:127.0.0.1:$p"; fi
echo "the container has no bash, no nc and no socat" >&2
exit 72`

// opened is the line by which the bridge says that it is joined to the port. A shell can say
// other things before it, such as that it does not have the container's language.
const opened = "open\n"

// isOpen reports whether the line was said.
func isOpen(words string) bool {
	return strings.HasPrefix(words, opened) || strings.Contains(words, "\n"+opened)
}

// Stream opens a connection to a port of the container's own loopback address, through the
// engine. The error is a *finding.Problem.
func (c *Client) Stream(ctx context.Context, found *Container, port int) (net.Conn, error) {
	made, err := c.api.ExecCreate(ctx, found.ID, client.ExecCreateOptions{
		AttachStdin: true, AttachStdout: true, AttachStderr: true, Cmd: []string{"sh", "-c", bridge, "sh", fmt.Sprint(port)},
	})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	joined, err := c.streams.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	a := attach(joined.HijackedResponse)
	conn := route.NewTimed(a, joined.Conn.LocalAddr(), joined.Conn.RemoteAddr())
	select {
	case <-a.opened:
		return conn, nil
	case <-a.ended:
	case <-ctx.Done():
	}
	_ = conn.Close()
	if ctx.Err() != nil {
		return nil, &finding.Problem{Code: finding.PortSilent, Err: ctx.Err()}
	}
	said := outside.Said(strings.Replace(a.words.Raw().Bare(), opened, "", 1))
	facts := finding.Facts{finding.FactContainer: found.Name}
	switch end, _ := c.api.ExecInspect(ctx, made.ID, client.ExecInspectOptions{}); {
	case end.ExitCode == 71:
		return nil, &finding.Problem{Code: finding.PortRefused, Words: said, Facts: facts}
	case end.ExitCode == 72, end.ExitCode == 126, end.ExitCode == 127:
		return nil, &finding.Problem{Code: finding.ContainerNoStream, Words: said, Facts: facts}
	}
	return nil, &finding.Problem{Code: finding.ContainerNoStream, Words: said, Facts: facts}
}

// attached is what an engine joins to a program inside a container: what is written is its input,
// and what is read its output. It has no deadlines; [route.NewTimed] gives it some.
type attached struct {
	below client.HijackedResponse
	// left is how much of a frame has not come yet ("Attach to a container", "Stream format", the
	// Docker Engine API), and errors says that it is of the program's error output.
	left   uint32
	errors bool

	words  *outside.Head // the error output
	opened chan struct{} // closed when the program has said that it is joined to the port
	open   sync.Once
	ended  chan struct{} // closed when nothing more comes
	over   sync.Once
}

func attach(below client.HijackedResponse) *attached {
	return &attached{below: below, words: outside.NewHead(4096), opened: make(chan struct{}), ended: make(chan struct{})}
}

// Read reads the program's output. What it says on its error output on the way is kept.
func (a *attached) Read(p []byte) (int, error) {
	for {
		for a.left == 0 {
			var head [8]byte
			if _, err := io.ReadFull(a.below.Reader, head[:]); err != nil {
				return 0, a.end(io.EOF)
			}
			if head[0] > 2 {
				return 0, a.end(fmt.Errorf("the container engine sent a frame of the kind %d", head[0]))
			}
			a.left, a.errors = binary.BigEndian.Uint32(head[4:]), head[0] == 2
		}
		n, err := a.below.Reader.Read(p[:min(uint32(len(p)), a.left)])
		a.left -= uint32(n)
		if err != nil {
			err = a.end(io.EOF)
		}
		if n == 0 && err == nil {
			continue
		}
		if !a.errors || err != nil && n == 0 {
			return n, err
		}
		a.said(p[:n])
		if err != nil {
			return 0, err
		}
	}
}

func (a *attached) end(err error) error {
	a.over.Do(func() { close(a.ended) })
	return err
}

// said takes the program's error output.
func (a *attached) said(p []byte) {
	_, _ = a.words.Write(p)
	if isOpen(a.words.Raw().Bare()) {
		a.open.Do(func() { close(a.opened) })
	}
}

// Write writes the program's input.
func (a *attached) Write(p []byte) (int, error) { return a.below.Conn.Write(p) }

// CloseWrite ends the program's input; what it writes goes on to be read.
func (a *attached) CloseWrite() error { return a.below.CloseWrite() }

// Close ends the program inside the container, which ends by itself when its input does.
func (a *attached) Close() error {
	_ = a.below.CloseWrite()
	patience := time.NewTimer(500 * time.Millisecond)
	defer patience.Stop()
	select {
	case <-a.ended:
	case <-patience.C:
	}
	a.below.Close()
	return nil
}
