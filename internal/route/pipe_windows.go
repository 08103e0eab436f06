package route

import (
	"context"
	"net"
	"strings"

	"github.com/Microsoft/go-winio"
)

// DialPipe connects to a named pipe of Windows (\\.\pipe\NAME, with strokes of either kind), and
// reports whether the place is one. Who listens there learns nothing about this account: the
// connection is anonymous.
func DialPipe(ctx context.Context, place string) (conn net.Conn, is bool, err error) {
	place = strings.ReplaceAll(place, "/", `\`)
	if !strings.HasPrefix(place, `\\.\pipe\`) {
		return nil, false, nil
	}
	conn, err = winio.DialPipeContext(ctx, place)
	return conn, true, err
}
