//go:build !windows

package jump

import (
	"context"
	"net"
)

// dialAgent connects to an agent at a socket.
func dialAgent(ctx context.Context, at string) (net.Conn, error) { return dialSocket(ctx, at) }
