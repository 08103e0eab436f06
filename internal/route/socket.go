package route

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/user"
	"runtime"
	"slices"
	"strconv"

	"gentle-harbor/internal/finding"
)

// Trust says whose server may be behind a Unix socket, besides root's and your own.
type Trust struct {
	// Accounts are the system accounts as which the engine's server usually runs.
	Accounts []string
	// Owner is another account, by name or number, that the user has named; "" for none.
	Owner string
}

// Peer is the process at the other end of a Unix socket.
type Peer struct {
	UID     int
	PID     int  // 0 when the system does not show it
	Shown   bool // the system shows whose process it is
	Trusted bool
}

// nobody is the user number that stands for one that has none in this user namespace (overflowuid
// in proc(5)): it can be anyone's.
const nobody = 65534

// firstPerson is the lowest number of a person's account; those below are the system's.
var firstPerson = map[string]int{"darwin": 500}[runtime.GOOS]

func init() {
	if firstPerson == 0 {
		firstPerson = 1000
	}
}

// Judge decides whether a user's process may be the server behind a socket whose folder belongs
// to folder (-1 when that cannot be seen).
func (t Trust) Judge(uid, folder int) bool {
	if t.Owner != "" && uid == number(t.Owner) {
		return true
	}
	switch {
	case uid == nobody:
		return false
	case uid == 0, uid == os.Geteuid():
		return true
	case uid < firstPerson && uid == folder:
		return true
	}
	return slices.ContainsFunc(t.Accounts, func(name string) bool { return uid == number(name) })
}

// number gives the number of an account that is named or numbered, -1 when there is none.
func number(account string) int {
	if n, err := strconv.Atoi(account); err == nil {
		return n
	}
	if found, err := user.Lookup(account); err == nil {
		if n, err := strconv.Atoi(found.Uid); err == nil {
			return n
		}
	}
	return -1
}

// Who names the user of a process for people: "postgres (id 103)".
func (p Peer) Who() string {
	id := strconv.Itoa(p.UID)
	if found, err := user.LookupId(id); err == nil {
		return fmt.Sprintf("%s (id %s)", found.Username, id)
	}
	return "the user with the id " + id
}

// DialSocket connects to the Unix socket at path and finds out whose process is behind it, before
// anything is sent. One that is not trusted is closed again: the error is then a *finding.Problem
// with the code finding.PortSocketOwner. The error of a socket that cannot be connected to is as
// that of [Dial].
func DialSocket(ctx context.Context, path string, trust Trust) (net.Conn, Peer, error) {
	conn, err := Dial(ctx, "unix", path)
	if err != nil {
		return nil, Peer{}, err
	}
	var peer Peer
	if socket, ok := conn.(*net.UnixConn); ok {
		peer.UID, peer.PID, peer.Shown = peerOf(socket)
	}
	if !peer.Shown {
		return conn, peer, nil
	}
	if peer.Trusted = trust.Judge(peer.UID, folderOwner(path)); peer.Trusted {
		return conn, peer, nil
	}
	_ = conn.Close()
	about := finding.Facts{finding.FactOwner: peer.Who(), finding.FactOwnerId: strconv.Itoa(peer.UID)}
	if peer.PID > 0 {
		about[finding.FactProcess] = strconv.Itoa(peer.PID)
	}
	return nil, peer, &finding.Problem{Code: finding.PortSocketOwner, Facts: about}
}
