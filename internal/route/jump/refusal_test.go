package jump

import (
	"testing"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
)

// TestMeant has hops refuse a connection in the words that OpenSSH and others use, for a port and
// for a socket: a refusal that says nothing is not taken for a closed port.
func TestMeant(t *testing.T) {
	for _, c := range []struct {
		reason       ssh.RejectionReason
		words        string
		port, socket finding.Code
	}{
		{ssh.ConnectionFailed, "Connection refused", finding.PortRefused, finding.PortSocketRefused},
		{ssh.ConnectionFailed, "dial tcp 10.0.0.1:5432: connect: connection refused", finding.PortRefused,
			finding.PortSocketRefused},
		{ssh.ConnectionFailed, "No route to host", finding.PortUnreachable, finding.PortNotOpened},
		{ssh.ConnectionFailed, "Network is unreachable", finding.PortUnreachable, finding.PortNotOpened},
		{ssh.ConnectionFailed, "Connection timed out", finding.PortSilent, finding.PortSilent},
		{ssh.ConnectionFailed, "Connection reset by peer", finding.PortReset, finding.PortReset},
		{ssh.ConnectionFailed, "Name or service not known", finding.NameNotFound, finding.PortNotOpened},
		{ssh.ConnectionFailed, "No address associated with hostname", finding.NameNotFound, finding.PortNotOpened},
		{ssh.ConnectionFailed, "Temporary failure in name resolution", finding.NameLookupFailed, finding.PortNotOpened},
		{ssh.ConnectionFailed, "No such file or directory", finding.PortNotOpened, finding.PortSocketMissing},
		{ssh.ConnectionFailed, "Permission denied", finding.PortNotOpened, finding.PortSocketNotPermitted},
		{ssh.ConnectionFailed, "open failed", finding.PortNotOpened, finding.PortNotOpened},
		{ssh.ConnectionFailed, "", finding.PortNotOpened, finding.PortNotOpened},
		{ssh.ResourceShortage, "no more channels", finding.PortNotOpened, finding.PortNotOpened},
		{ssh.Prohibited, "Connection refused", finding.TunnelForwardingForbidden, finding.TunnelForwardingForbidden},
		{ssh.UnknownChannelType, "", finding.TunnelForwardingForbidden, finding.TunnelForwardingForbidden},
	} {
		for network, want := range map[string]finding.Code{"tcp": c.port, "unix": c.socket} {
			if got := meant(network, &ssh.OpenChannelError{Reason: c.reason, Message: c.words}); got != want {
				t.Errorf("%s, %v %q: %s instead of %s", network, c.reason, c.words, got, want)
			}
		}
	}
}
