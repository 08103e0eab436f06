package doors

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// socketFolder gives the folder of a door's socket: no two profiles have the same, and its path stays short enough for a socket.
func socketFolder(folder, name string) string {
	plain := filepath.Join(folder, "at-"+strings.NewReplacer("/", "~", ":", "~~").Replace(name))
	if len(plain) <= 80 {
		return plain
	}
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(folder, "at~"+hex.EncodeToString(sum[:8]))
}

// listen opens the door's own place on this machine.
func (how Opening) listen(ctx context.Context, p profile.Effective, folder string, h *Held) (net.Listener, error) {
	if how.Socket {
		if how.Passing && p.TLS.Mode != "off" {
			return nil, world.Wrong("%s wants tls %s, and clients do not encrypt over a socket by themselves; leave --pass-through out, and the door encrypts", p.Name, p.TLS.Mode)
		}
		info, _ := known.Info(p.Engine)
		name := "socket"
		if info.SocketFile != "" {
			name = info.SocketFile + strconv.Itoa(info.Port)
		}
		named := p.Name
		if how.Borrow { // it may be beside one that is held
			named += fmt.Sprintf("~~%d", os.Getpid())
		}
		dir := socketFolder(folder, named)
		_ = os.Remove(filepath.Join(dir, name)) // one that was left behind: a door that is open was looked for before
		listener, err := door.ListenSocket(dir, name)
		if err != nil {
			return nil, world.Wrong("the socket could not be made: %v", err)
		}
		h.Socket = filepath.Join(dir, name)
		return listener, nil
	}
	port, _ := strconv.Atoi(p.Values["door"].Text)
	var listener net.Listener
	var err error
	for tried := port; ; tried++ {
		listener, err = door.ListenTCP(tried)
		if err == nil || !how.Near || tried == 0 || tried >= min(port+100, 65535) || !errno.Is(err, errno.InUse) {
			break
		}
	}
	if errno.Is(err, errno.InUse) {
		return nil, world.Wrong("port %d of 127.0.0.1 is taken%s; take another with --door, or the next free one with --near", port, holder(ctx, folder, port))
	}
	if err != nil {
		return nil, world.Wrong("port %d of 127.0.0.1 cannot be used: %v", port, err)
	}
	h.Host, h.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	if port != 0 && h.Port != port {
		h.Taken = fmt.Sprintf("port %d is taken%s", port, holder(ctx, folder, port))
	}
	if conn, err := net.DialTimeout("tcp6", net.JoinHostPort("::1", strconv.Itoa(h.Port)), 100*time.Millisecond); err == nil {
		_ = conn.Close()
		h.Beside = true
	}
	return listener, nil
}

// holder says who has a port of 127.0.0.1, as the end of a sentence: a door of this program's, or a process; "" where that cannot be seen.
func holder(ctx context.Context, folder string, port int) string {
	list, _ := door.List(ctx, folder)
	for _, each := range list {
		if each.Port == port && each.State != door.Gone {
			return fmt.Sprintf(" by the door of %s (process %d)", each.Profile, each.PID)
		}
	}
	return discover.Holder(ctx, port)
}
