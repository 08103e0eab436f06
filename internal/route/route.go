// Package route makes the connection from this machine to a server: it looks names up, dials
// addresses and sockets, and prepares encryption. It dials one address at a time and keeps apart
// what failed: the name, the port, or a file that encryption needs.
package route

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// Resolver looks host names up, as net.Resolver does.
type Resolver interface {
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
}

// Literal gives the address that host is, when it is one and not a name.
func Literal(host string) (netip.Addr, bool) {
	addr, err := netip.ParseAddr(host)
	return addr.Unmap(), err == nil
}

// loopbackTime is how long the name service is asked for names of this machine, which are known
// without it.
const loopbackTime = time.Second

// loopback gives the addresses of a name for which target.IsLoopback holds: the name service may
// choose their order, and none but loopback addresses.
func loopback(ctx context.Context, resolver Resolver, host string) []netip.Addr {
	ctx, cancel := context.WithTimeout(ctx, loopbackTime)
	defer cancel()
	found, _ := resolver.LookupNetIP(ctx, "ip", host)
	addrs := once(found)
	addrs = slices.DeleteFunc(addrs, func(addr netip.Addr) bool { return !addr.IsLoopback() || addr.Zone() != "" })
	if len(addrs) == 0 {
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()}
	}
	return addrs
}

// once gives each address once, in the order in which they came.
func once(found []netip.Addr) []netip.Addr {
	var addrs []netip.Addr
	for _, addr := range found {
		if addr = addr.Unmap(); !slices.Contains(addrs, addr) && len(addrs) < maxAddresses {
			addrs = append(addrs, addr)
		}
	}
	return addrs
}

// maxAddresses is how many addresses of one name are tried.
const maxAddresses = 64

// Addresses looks host up; a literal address is its own answer, and localhost is this machine,
// whichever address a name service says. The addresses come in the order in which the name
// service gave them, each once. The error is a *finding.Problem of the leg "name".
func Addresses(ctx context.Context, resolver Resolver, host string) ([]netip.Addr, error) {
	if addr, ok := Literal(host); ok {
		return []netip.Addr{addr}, nil
	}
	if target.IsLoopback(host) {
		return loopback(ctx, resolver, host), nil
	}
	found, err := resolver.LookupNetIP(ctx, "ip", host)
	var failed *net.DNSError
	var known *finding.Problem
	switch {
	case errors.As(err, &known):
		return nil, known
	case errors.As(err, &failed) && failed.IsNotFound:
		return nil, &finding.Problem{Code: finding.NameNotFound, Err: err}
	case err != nil && finding.Silent(ctx, err):
		return nil, &finding.Problem{Code: finding.NameSilent, Err: err}
	case err != nil:
		return nil, &finding.Problem{Code: finding.NameLookupFailed, Err: err, Words: outside.Said(err.Error())}
	}
	addrs := once(found)
	if len(addrs) == 0 {
		return nil, &finding.Problem{Code: finding.NameNotFound}
	}
	return addrs, nil
}

// Dial connects to an address of network "tcp" (host:port) or "unix" (a path). The error is a
// *finding.Problem of the leg "port".
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, network, address)
	if err == nil {
		return conn, nil
	}
	return nil, PortProblem(ctx, network, address, err)
}

// leastShare is the least time that one of several addresses has: less is no answer of a machine
// far away.
const leastShare = time.Second

// DialEach dials addresses in turn, until one is connected to. Each has its share of the time
// that ctx leaves, so that one which does not answer leaves the others theirs. The error is that
// of the last one; it is nil too where there is no address.
func DialEach(ctx context.Context, addresses []string,
	dial func(ctx context.Context, address string) (net.Conn, error)) (conn net.Conn, err error) {
	for i, address := range addresses {
		limited, cancel := ctx, context.CancelFunc(func() {})
		if end, has := ctx.Deadline(); has && i < len(addresses)-1 {
			share := max(time.Until(end)/time.Duration(len(addresses)-i), leastShare)
			limited, cancel = context.WithTimeout(ctx, share)
		}
		conn, err = dial(limited, address)
		cancel()
		if err == nil || ctx.Err() != nil {
			return conn, err
		}
	}
	return nil, err
}

// DialHost connects to host:port, as this machine's name service and [Addresses] lead. The error
// is a *finding.Problem of the leg "name" or "port".
func DialHost(ctx context.Context, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, &finding.Problem{Code: finding.PortUnknown, Err: err, Words: outside.Said(err.Error())}
	}
	found, err := Addresses(ctx, net.DefaultResolver, host)
	if err != nil {
		return nil, err
	}
	var addresses []string
	for _, addr := range found {
		addresses = append(addresses, net.JoinHostPort(addr.String(), port))
	}
	return DialEach(ctx, addresses, func(ctx context.Context, address string) (net.Conn, error) {
		return Dial(ctx, "tcp", address)
	})
}

// PortProblem says what the error of a dialer means.
func PortProblem(ctx context.Context, network, address string, err error) *finding.Problem {
	f := &finding.Problem{Code: finding.PortUnknown, Err: err}
	var number syscall.Errno
	if errors.As(err, &number) {
		f.Words = outside.Said(number.Error())
	}
	socket := network == "unix"
	switch {
	case socket && errors.Is(err, fs.ErrNotExist):
		f.Code = finding.PortSocketMissing
	case socket && errors.Is(err, fs.ErrPermission):
		f.Code = finding.PortSocketNotPermitted
	case socket && notASocket(address, f):
	case socket && errno.Is(err, errno.Refused):
		f.Code = finding.PortSocketRefused
	case errno.Is(err, errno.Refused):
		f.Code = finding.PortRefused
	case errno.Is(err, errno.Reset):
		f.Code = finding.PortReset
	case errno.Is(err, errno.NoFiles):
		f.Code = finding.PortNoFiles
	case errno.Is(err, errno.Unreachable):
		f.Code = finding.PortUnreachable
	case finding.Silent(ctx, err):
		f.Code, f.Words = finding.PortSilent, outside.Raw{}
	case f.Words.Empty():
		f.Words = outside.Said(err.Error())
	}
	return f
}

// notASocket words the failure for a path that is there and is no socket.
func notASocket(path string, f *finding.Problem) bool {
	info, err := os.Stat(path)
	if err != nil || info.Mode()&fs.ModeSocket != 0 {
		return false
	}
	kind := "a file of another kind"
	switch {
	case info.IsDir():
		kind = "a folder"
	case info.Mode().IsRegular():
		kind = "a plain file"
	}
	f.Code = finding.PortNotASocket
	f.Set(finding.FactKind, kind)
	return true
}

// SocketFile gives the file of a socket that a profile names: itself, or where it is a folder,
// the usual file in it ("" for engines that have none).
func SocketFile(path, usual string) string {
	if info, err := os.Stat(path); err == nil && info.IsDir() && usual != "" {
		return filepath.Join(path, usual)
	}
	return path
}

// maxPEM bounds the certificate files that are read.
const maxPEM = 1 << 20

// Encryption prepares TLS as settings say for a server known as host; nil for mode off. Read
// gives the content of the files that the settings name. The error is a *finding.Problem with the
// code finding.SettingsTLSFile.
func Encryption(settings target.TLS, host string,
	read func(path string, limit int64) ([]byte, error)) (*tls.Config, error) {
	if settings.Mode == "off" {
		return nil, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host, InsecureSkipVerify: settings.Mode != "verify"}
	if settings.ServerName != "" {
		config.ServerName = settings.ServerName
	}
	if settings.CA != "" {
		data, err := read(settings.CA, maxPEM)
		if err != nil {
			return nil, unusable(settings.CA, err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(data) {
			return nil, unusable(settings.CA, errors.New("it has no certificate in PEM form"))
		}
	}
	if settings.Cert != "" {
		cert, err := read(settings.Cert, maxPEM)
		if err != nil {
			return nil, unusable(settings.Cert, err)
		}
		key, err := read(settings.Key, maxPEM)
		if err != nil {
			return nil, unusable(settings.Key, err)
		}
		pair, err := tls.X509KeyPair(cert, key)
		if err != nil {
			return nil, unusable(settings.Cert,
				errors.New("the certificate and the key do not go together, or one of them is not PEM text"))
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

func unusable(file string, err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return &finding.Problem{Code: finding.SettingsTLSFile, Err: err, Facts: finding.Facts{
		"file": file, "wrong": file + ": " + err.Error() + ".",
	}}
}
