package jump

import (
	"context"
	"net"
	"strings"

	"github.com/Microsoft/go-winio"
)

// dialAgent connects to an agent at a pipe or a socket. Who listens at a pipe learns nothing about this account: the connection is anonymous.
func dialAgent(ctx context.Context, at string) (net.Conn, error) {
	if pipe := strings.ReplaceAll(at, "/", `\`); strings.HasPrefix(pipe, `\\.\pipe\`) {
		return winio.DialPipeContext(ctx, pipe)
	}
	return dialSocket(ctx, at)
}
