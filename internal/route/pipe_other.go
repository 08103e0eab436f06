//go:build !windows

package route

import (
	"context"
	"net"
)

// DialPipe connects to a named pipe of Windows: no place is one here.
func DialPipe(context.Context, string) (conn net.Conn, is bool, err error) { return nil, false, nil }
