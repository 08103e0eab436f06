package container

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/route"
)

// Bounds of what is read of an engine.
const (
	maxAnswer     = 8 << 20 // bytes of one answer
	maxContainers = 5000
	maxLog        = 64 << 10
)

// shape bounds the JSON of one answer: what a list of a few megabytes of empty values would
// become is a thousand times as large.
var shape = budget.Shape{Values: 100_000, List: maxContainers, Depth: 24}

// measuring carries requests, and counts the JSON of each answer while the library reads it.
type measuring struct{ *http.Transport }

// nowhere stands for the engine's host in requests: the dialer knows where it is.
const nowhere = "engine.invalid:1"

// RoundTrip implements http.RoundTripper.
func (m measuring) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.URL.Host, r.Host = nowhere, nowhere
	answer, err := m.Transport.RoundTrip(r)
	if err == nil && !strings.HasSuffix(r.URL.Path, "/logs") { // a container's log is no JSON
		answer.Body = struct {
			io.Reader
			io.Closer
		}{budget.JSON(answer.Body, shape), answer.Body}
	}
	return answer, err
}

// Client asks a container engine. It reads at most 8 MB of an answer, follows no redirection, and
// sends nothing but questions.
type Client struct {
	Engine Engine
	// api asks, with answers that are bounded; streams begins streams alone. Both connect by one
	// dialer.
	api, streams *client.Client
	carrier      *http.Transport
	// why the engine could not be connected to: the library words it anew, and drops what it was
	undone atomic.Pointer[error]
}

// Connect makes a client of an engine, through the last hop where there is one (via is nil
// otherwise), and agrees on a version of the API. What it gives must be closed. The error is a
// *finding.Problem of the leg "container".
func Connect(ctx context.Context, e Engine, via route.Dialer) (*Client, error) {
	c := &Client{Engine: e}
	dial, err := c.dialer(via)
	if err != nil {
		return nil, c.problem(finding.ContainerEngineFailed, outside.Said(err.Error()), err)
	}
	c.carrier = &http.Transport{DisableCompression: true, MaxResponseHeaderBytes: 64 << 10, MaxIdleConns: 6,
		IdleConnTimeout: 30 * time.Second,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dial(ctx, network, address)
			if err != nil {
				c.undone.Store(&err)
				return nil, err
			}
			c.undone.Store(nil)
			return &bounded{Conn: conn}, nil
		}}
	c.api, err = client.New(client.WithHTTPClient(&http.Client{Transport: measuring{c.carrier},
		CheckRedirect: client.CheckRedirect}), client.WithUserAgent("gharbor"))
	if err != nil {
		return nil, c.problem(finding.ContainerEngineFailed, outside.Said(err.Error()), err)
	}
	if _, err := c.api.Ping(ctx, client.PingOptions{NegotiateAPIVersion: true}); err != nil {
		return nil, c.failure(ctx, err)
	}
	// A stream takes its connection over: the library needs the dialer itself for that. Its bytes
	// are not counted.
	c.streams, err = client.New(client.WithHost("tcp://"+nowhere), client.WithUserAgent("gharbor"),
		client.WithAPIVersion(c.api.ClientVersion()), client.WithDialContext(dial))
	if err != nil {
		return nil, c.problem(finding.ContainerEngineFailed, outside.Said(err.Error()), err)
	}
	return c, nil
}

// Close ends the connections to the engine.
func (c *Client) Close() {
	c.carrier.CloseIdleConnections()
	_ = c.streams.Close()
}

// bounded is a connection on which an answer that is too long ends with an error. A question
// begins a new answer.
type bounded struct {
	net.Conn
	got atomic.Int64
}

var errTooMuch = errors.New("the container engine sent more than 8 MB in one answer")

// Write sends a question.
func (b *bounded) Write(p []byte) (int, error) {
	b.got.Store(0)
	return b.Conn.Write(p)
}

// Read reads on, until the bound is reached.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	if b.got.Add(int64(n)) > maxAnswer {
		return n, errTooMuch
	}
	return n, err
}

// dialer gives how the engine's API is connected to.
func (c *Client) dialer(via route.Dialer) (func(ctx context.Context, network, address string) (net.Conn, error),
	error) {
	scheme, rest, _ := strings.Cut(c.Engine.URL, "://")
	if _, socket, ssh := c.Engine.Hop(); ssh {
		if via == nil {
			return nil, errors.New("the container engine is reached by SSH, and there is no hop to it")
		}
		return func(ctx context.Context, _, _ string) (net.Conn, error) { return via.DialContext(ctx, "unix", socket) }, nil
	}
	switch scheme {
	case "unix":
		return func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, _, err := route.DialSocket(ctx, rest, route.Trust{})
			return conn, err
		}, nil
	case "npipe":
		return func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, is, err := route.DialPipe(ctx, rest)
			if !is {
				err = errors.New("its URL names a pipe of Windows, and this system has none; set DOCKER_HOST to " +
					"its socket or its tcp address")
			}
			return conn, err
		}, nil
	}
	var settings *tls.Config
	if c.Engine.TLS {
		var err error
		if settings, err = c.Engine.encryption(); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, _, _ string) (net.Conn, error) {
		conn, err := route.DialHost(ctx, rest)
		if err != nil || settings == nil {
			return conn, err
		}
		encrypted := tls.Client(conn, settings)
		if err := encrypted.HandshakeContext(ctx); err != nil {
			_ = conn.Close()
			return nil, err
		}
		return encrypted, nil
	}, nil
}

// encryption reads ca.pem, cert.pem and key.pem of the engine's certificates.
func (e Engine) encryption() (*tls.Config, error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: e.Host(), InsecureSkipVerify: e.Unchecked}
	if e.Certificates == "" {
		return settings, nil
	}
	ca, err := files.ReadOwn(filepath.Join(e.Certificates, "ca.pem"), maxConfig)
	switch {
	case err == nil:
		settings.RootCAs = x509.NewCertPool()
		if !settings.RootCAs.AppendCertsFromPEM(ca) {
			return nil, fmt.Errorf("%s has no certificate in PEM form", filepath.Join(e.Certificates, "ca.pem"))
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	cert, err := files.ReadOwn(filepath.Join(e.Certificates, "cert.pem"), maxConfig)
	if errors.Is(err, fs.ErrNotExist) {
		return settings, nil
	}
	if err != nil {
		return nil, err
	}
	key, err := files.ReadOwn(filepath.Join(e.Certificates, "key.pem"), maxConfig)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("cert.pem and key.pem in %s do not go together", e.Certificates)
	}
	settings.Certificates = []tls.Certificate{pair}
	return settings, nil
}

// problem makes a problem about the engine.
func (c *Client) problem(code finding.Code, words outside.Raw, err error) *finding.Problem {
	return &finding.Problem{Code: code, Words: words, Err: err,
		Facts: finding.Facts{finding.FactEngine: c.Engine.Place(), finding.FactEngineFrom: c.Engine.From}}
}

// failure says what the error of a question to the engine means.
func (c *Client) failure(ctx context.Context, err error) *finding.Problem {
	if undone := c.undone.Load(); undone != nil {
		err = *undone
	}
	var known *finding.Problem
	var certificate *tls.CertificateVerificationError
	switch {
	case errors.As(err, &known) && known.Code.Leg() == "container":
		return known
	case errors.As(err, &known) && known.Code == finding.PortSocketOwner:
		p := c.problem(finding.ContainerEngineStranger, outside.Raw{}, err)
		p.Facts[finding.FactOwner] = known.Facts[finding.FactOwner]
		return p
	case errors.As(err, &certificate):
		return c.problem(finding.ContainerEngineFailed,
			outside.Said("its certificate is not accepted: "+certificate.Err.Error()), err)
	case errors.Is(err, os.ErrPermission), errors.As(err, &known) && known.Code == finding.PortSocketNotPermitted:
		return c.problem(finding.ContainerEngineNotPermitted, outside.Raw{}, err)
	case errors.Is(err, fs.ErrNotExist), errno.Is(err, errno.Refused),
		errors.As(err, &known) && (known.Code == finding.PortSocketMissing ||
			known.Code == finding.PortSocketRefused || known.Code == finding.PortRefused ||
			known.Code == finding.PortNotASocket):
		return c.problem(finding.ContainerEngineNotRunning, outside.Raw{}, err)
	case finding.Silent(ctx, err), errors.As(err, &known) && known.Code == finding.PortSilent:
		return c.problem(finding.ContainerSilent, outside.Raw{}, err)
	case errors.As(err, &known):
		return c.problem(finding.ContainerEngineFailed, outside.Said(known.Error()), err)
	case budget.Exceeded(err):
		return c.problem(finding.ContainerEngineFailed, outside.Said("its answer is not read: "+exceeded(err).Error()), err)
	case strings.Contains(err.Error(), "API version"), strings.Contains(err.Error(), "client version"):
		return c.problem(finding.ContainerEngineTooOld, outside.Said(err.Error()), err)
	}
	return c.problem(finding.ContainerEngineFailed, outside.Said(err.Error()), err)
}

func exceeded(err error) error {
	var over *budget.ExceededError
	errors.As(err, &over)
	return over
}

// Logs gives the last lines that a container wrote, at most n. They are as they came: whoever
// shows them masks and cleans them.
func (c *Client) Logs(ctx context.Context, found *Container, n int) []outside.Raw {
	answer, err := c.api.ContainerLogs(ctx, found.ID,
		client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Tail: fmt.Sprint(n)})
	if err != nil {
		return nil
	}
	defer answer.Close()
	text := outside.NewHead(maxLog)
	from := io.LimitReader(answer, 2*maxLog)
	if found.terminal {
		_, _ = io.Copy(text, from)
	} else {
		_ = frames(from, text, text)
	}
	lines := text.Raw().Lines()
	return lines[max(0, len(lines)-n):]
}

// Processes gives the command lines of a container's processes, none where the engine does not say.
func (c *Client) Processes(ctx context.Context, found *Container) []string {
	answer, err := c.api.ContainerTop(ctx, found.ID, client.ContainerTopOptions{})
	if err != nil { // another engine's way to say the same
		answer, err = c.api.ContainerTop(ctx, found.ID, client.ContainerTopOptions{Arguments: []string{"pid,args"}})
	}
	if err != nil {
		return nil
	}
	var lines []string
	for _, process := range answer.Processes[:min(len(answer.Processes), 500)] {
		lines = append(lines, strings.Join(process, " "))
	}
	return lines
}

// Kept gives since when a container's data is there: the time of a file that the server wrote
// once, at its first start, in a folder that outlives the container. What names the volume, or
// the folder inside where that is none; "" where nothing of the kind is found.
func (c *Client) Kept(ctx context.Context, found *Container, image engine.Image) (what string, since time.Time) {
	folders := image.Folders
	if own := found.Variables()[image.FolderVariable]; own != "" {
		folders = append([]string{own}, folders...)
	}
	for _, folder := range folders {
		i := slices.IndexFunc(found.Mounts, func(m Mount) bool {
			return folder == m.To || strings.HasPrefix(folder, m.To+"/")
		})
		if i < 0 {
			continue
		}
		for _, file := range image.Firsts {
			answer, err := c.api.ContainerStatPath(ctx, found.ID, client.ContainerStatPathOptions{Path: path.Join(folder, file)})
			if err == nil && !answer.Stat.Mtime.IsZero() {
				return cmp.Or(found.Mounts[i].Name, found.Mounts[i].To), answer.Stat.Mtime
			}
		}
	}
	return "", time.Time{}
}

// notFound reports whether an engine's error says that there is no such container.
func notFound(err error) bool { return errdefs.IsNotFound(err) }
