// Package container finds database servers in containers, through the API of the container engine
// that runs them.
//
// An [Engine] is where such an API is, and what chose it. A [Client] asks it, within bounds; a
// [Container] is what it says of one container, and a [Locator] makes addresses of that: the
// ports that are published, the container's own address on a network of this machine's, or a
// stream through the engine. Nothing is started, stopped or changed, and no program is run but
// the one that such a stream needs, inside the container.
package container

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/target"
)

// Engine is where a container engine's API is.
type Engine struct {
	// URL is unix://PATH, tcp://HOST:PORT, ssh://[USER@]HOST[:PORT][/PATH] or npipe://NAME.
	URL string
	// From says what chose it, for people.
	From string
	// TLS says that a tcp engine is spoken to with TLS, with the certificates in the folder
	// Certificates ("" for the system's authorities).
	TLS          bool
	Certificates string
	// Unchecked says that the engine's certificate is not checked, as a context can ask for.
	Unchecked bool
}

// Local reports whether the engine is this machine's own: it is reached by a socket or a pipe, or
// by a loopback address.
func (e Engine) Local() bool {
	scheme, rest, _ := strings.Cut(e.URL, "://")
	host, _, _ := net.SplitHostPort(rest)
	return scheme == "unix" || scheme == "npipe" || scheme == "tcp" && target.Literal(host)
}

// Sure reports whether it is certain that the engine is this machine's own: the process behind
// its socket was looked at, or its certificate. What answers at a plain port of this machine can
// be anybody's.
func (e Engine) Sure() bool {
	return e.Local() && (!strings.HasPrefix(e.URL, "tcp://") || e.TLS && !e.Unchecked)
}

// ID is the same for two ways to write one engine: links in the path of a socket are followed.
func (e Engine) ID() string {
	if path, unix := strings.CutPrefix(e.URL, "unix://"); unix {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			return "unix://" + real
		}
	}
	return e.URL
}

// Far reports whether the published ports are on another machine, which is reached without a hop.
func (e Engine) Far() bool { return strings.HasPrefix(e.URL, "tcp://") && !e.Local() }

// Host gives the name or address of a tcp engine's machine, "" for another.
func (e Engine) Host() string {
	rest, tcp := strings.CutPrefix(e.URL, "tcp://")
	host, _, err := net.SplitHostPort(rest)
	if !tcp || err != nil {
		return ""
	}
	return host
}

// Place gives where the engine is, for people: a path, or the URL.
func (e Engine) Place() string { return strings.TrimPrefix(e.URL, "unix://") }

// usualFarSocket is where an engine listens on a machine that is reached by SSH, when nobody says.
const usualFarSocket = "/var/run/docker.sock"

// Hop gives the jump host of an ssh engine, and the engine's socket there.
func (e Engine) Hop() (hop target.Hop, socket string, is bool) {
	if !strings.HasPrefix(e.URL, "ssh://") {
		return hop, "", false
	}
	u, err := url.Parse(e.URL)
	if err != nil {
		return hop, "", false
	}
	hop.Host, hop.User, socket = u.Hostname(), u.User.Username(), usualFarSocket
	hop.Port, _ = strconv.Atoi(u.Port())
	if u.Path != "" && u.Path != "/" {
		socket = u.Path
	}
	return hop, socket, true
}

// Program gives the name of the engine's own program, as its place shows it.
func (e Engine) Program() string {
	if strings.Contains(e.URL, "podman") {
		return "podman"
	}
	return "docker"
}

// World is what the choice of an engine goes by.
type World struct {
	// Env looks a variable up: DOCKER_HOST, DOCKER_CONTEXT, DOCKER_CONFIG, DOCKER_TLS_VERIFY,
	// DOCKER_CERT_PATH and XDG_RUNTIME_DIR are read.
	Env  func(name string) (string, bool)
	Home string
	// Sockets are where engines listen when nobody says; nil for [UsualSockets].
	Sockets []string
}

func (w World) env(name string) string {
	if w.Env != nil {
		if text, set := w.Env(name); set {
			return text
		}
	}
	return ""
}

// UsualSockets lists where the common engines listen, root's and your own.
func (w World) UsualSockets() []string {
	list := []string{"/run/docker.sock", "/var/run/docker.sock", "/run/podman/podman.sock"}
	if runtime := w.env("XDG_RUNTIME_DIR"); filepath.IsAbs(runtime) {
		list = append(list, filepath.Join(runtime, "docker.sock"), filepath.Join(runtime, "podman", "podman.sock"))
	}
	if w.Home != "" {
		for _, each := range []string{".docker/run/docker.sock", ".docker/desktop/docker.sock",
			".colima/default/docker.sock", ".rd/docker.sock", ".orbstack/run/docker.sock",
			".lima/default/sock/docker.sock"} {
			list = append(list, filepath.Join(w.Home, filepath.FromSlash(each)))
		}
	}
	return list
}

// ErrNone is the error of [World.Engines] where nothing says where an engine is, and no usual
// socket is there.
var ErrNone = errors.New("no container engine is named by DOCKER_HOST or a context, and none of the usual " +
	"sockets is here")

// Engines gives the engine that the environment or the current context chooses; where neither
// does, those whose usual sockets are here, each once. Its error says what is wrong with the
// choice.
func (w World) Engines() ([]Engine, error) {
	if host := w.env("DOCKER_HOST"); host != "" {
		e := Engine{URL: host, From: "the variable DOCKER_HOST", TLS: w.env("DOCKER_TLS_VERIFY") != ""}
		if e.TLS {
			if e.Certificates = w.env("DOCKER_CERT_PATH"); e.Certificates == "" {
				e.Certificates = w.config()
			}
		}
		return e.checked()
	}
	name, from, err := w.current()
	if err != nil {
		return nil, err
	}
	if name != "" && name != "default" {
		return w.context(name, from)
	}
	var list []Engine
	seen := map[string]bool{}
	sockets := w.Sockets
	if sockets == nil {
		sockets = w.UsualSockets()
	}
	for _, path := range sockets {
		real, err := filepath.EvalSymlinks(path)
		if err != nil || seen[real] {
			continue
		}
		if info, err := os.Stat(real); err != nil || info.Mode()&fs.ModeSocket == 0 {
			continue
		}
		seen[real] = true
		list = append(list, Engine{URL: "unix://" + path, From: "a usual socket"})
	}
	if list == nil {
		return nil, ErrNone
	}
	return list, nil
}

func (w World) config() string {
	if folder := w.env("DOCKER_CONFIG"); folder != "" {
		return folder
	}
	return filepath.Join(w.Home, ".docker")
}

// maxConfig bounds the files of contexts.
const maxConfig = 1 << 20

// current gives the name of the current context, "" for none.
func (w World) current() (name, from string, err error) {
	if name := w.env("DOCKER_CONTEXT"); name != "" {
		return name, "the variable DOCKER_CONTEXT", nil
	}
	file := filepath.Join(w.config(), "config.json")
	data, err := files.ReadOwn(file, maxConfig)
	if errors.Is(err, fs.ErrNotExist) {
		return "", "", nil
	}
	if err != nil {
		return "", "", fmt.Errorf("the file that names the container engine cannot be read: %w", err)
	}
	var config struct {
		CurrentContext string `json:"currentContext"`
	}
	if budget.Unmarshal(data, &config) != nil {
		return "", "", fmt.Errorf("%s names the container engine, and is not JSON that can be read", file)
	}
	return config.CurrentContext, file, nil
}

// context gives the engine of a context. Its files are in a folder that is named by the digest of
// the context's name.
func (w World) context(name, from string) ([]Engine, error) {
	sum := sha256.Sum256([]byte(name))
	id := hex.EncodeToString(sum[:])
	file := filepath.Join(w.config(), "contexts", "meta", id, "meta.json")
	data, err := files.ReadOwn(file, maxConfig)
	if err != nil {
		return nil, fmt.Errorf("the context %q, which %s names, cannot be read: %w", name, from, err)
	}
	var meta struct {
		Endpoints map[string]struct {
			Host          string
			SkipTLSVerify bool
		}
	}
	if budget.Unmarshal(data, &meta) != nil || meta.Endpoints["docker"].Host == "" {
		return nil, fmt.Errorf("%s does not say where the container engine of the context %q is", file, name)
	}
	e := Engine{URL: meta.Endpoints["docker"].Host, From: fmt.Sprintf("the context %s (%s)", name, from),
		Unchecked: meta.Endpoints["docker"].SkipTLSVerify}
	certificates := filepath.Join(w.config(), "contexts", "tls", id, "docker")
	if info, err := os.Stat(certificates); err == nil && info.IsDir() {
		e.TLS, e.Certificates = true, certificates
	}
	return e.checked()
}

// checked refuses what is no engine's URL.
func (e Engine) checked() ([]Engine, error) {
	scheme, rest, _ := strings.Cut(e.URL, "://")
	wrong := func(why string) ([]Engine, error) {
		return nil, fmt.Errorf("%s says where the container engine is, and %s; it is unix:///PATH, "+
			"tcp://HOST:PORT or ssh://[USER@]HOST",
			e.From, why)
	}
	switch scheme {
	case "unix", "npipe":
		if scheme == "unix" && !filepath.IsAbs(rest) {
			return wrong("that is no absolute path")
		}
	case "http", "https":
		e.URL, e.TLS = "tcp://"+rest, e.TLS || scheme == "https"
		return e.checked()
	case "tcp":
		host, port, err := net.SplitHostPort(strings.TrimSuffix(rest, "/"))
		if n, bad := strconv.Atoi(port); err != nil || bad != nil || n < 1 || n > 65535 || host == "" {
			return wrong("that is no host and port")
		}
		if addr, err := netip.ParseAddr(host); err == nil && addr.IsUnspecified() {
			return wrong("that is no address to connect to")
		}
		e.URL = "tcp://" + net.JoinHostPort(host, port)
	case "ssh":
		u, err := url.Parse(e.URL)
		if err != nil || u.Hostname() == "" {
			return wrong("that is no host")
		}
		if _, secret := u.User.Password(); secret {
			return wrong("that has a password in it, which belongs nowhere in a URL")
		}
	default:
		return wrong("that has no scheme that is known here")
	}
	return []Engine{e}, nil
}

// IsEngineHost reports whether a host is a name by which containers reach their engine's host,
// and which holds nowhere else.
func IsEngineHost(host string) bool {
	switch strings.ToLower(strings.TrimSuffix(host, ".")) {
	case "host.docker.internal", "gateway.docker.internal", "host.containers.internal", "host.lima.internal",
		"docker.for.mac.localhost":
		return true
	}
	return false
}
