package profile

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// Problem is one thing that keeps a profile from connecting.
type Problem struct {
	Code    finding.Code // "" for the general one
	Setting string       // the setting to change
	Missing bool         // it was not said at all
	Text    string       // a sentence
	Origin  Origin       // where the wrong value is, for one that is not missing
}

// Check gives what is missing or does not fit together in decided values; each value by itself
// was checked when it was read.
func (d Decided) Check() []Problem {
	var problems []Problem
	text := d.text
	wrong := func(setting, format string, args ...any) {
		v, said := d.Values[setting]
		problems = append(problems, Problem{Setting: setting, Missing: !said,
			Text: fmt.Sprintf(format, args...), Origin: v.Origin})
	}
	info, isKnown := d.info()
	if !isKnown {
		wrong("engine", "The setting engine is missing: it says which kind of server this is (%s).",
			strings.Join(known.Names(), ", "))
	}
	if text("container") != "" {
		for _, other := range []string{"host", "socket", "alias"} {
			if text(other) != "" {
				wrong("container", "The settings %s and container contradict each other; keep one of them.", other)
			}
		}
		if text("port") != "" {
			c, _ := ParseContainer(text("container"))
			c.Port, _ = strconv.Atoi(text("port"))
			wrong("port", "The port inside a container is said with it: make the container %s, and take the port out.",
				quoted(ContainerText(c)))
		}
		if text("via") != "" {
			wrong("via", "A container is where its container engine is: via leads nowhere beside it. For one "+
				"behind SSH, set DOCKER_HOST to ssh://USER@HOST.")
		}
	}
	if text("cloud") != "" {
		for _, other := range []string{"host", "socket", "alias", "container"} {
			if text(other) != "" {
				wrong("cloud", "The settings %s and cloud contradict each other; keep one of them.", other)
			}
		}
		if text("port") != "" {
			wrong("port", "The cloud says the port of its server; take the port out, or name a host instead of "+
				"the cloud's server.")
		}
		if mode := text("tls.mode"); mode != "verify" {
			wrong("tls.mode", "A cloud's server is always verified: its cloud says by which authority. Take tls %s out.", mode)
		}
	}
	switch socket, port := text("socket"), text("port"); {
	case text("alias") != "" && text("host") != "":
		wrong("alias", "The settings host and alias contradict each other; keep one of them.")
	case text("alias") != "" && socket != "":
		wrong("alias", "The settings socket and alias contradict each other; keep one of them.")
	case text("alias") != "" && port != "":
		wrong("port", "The alias says the ports of its addresses; take the port out, or name a host instead of the alias.")
	case socket == "":
	case text("host") != "":
		wrong("socket", "The settings host and socket contradict each other; keep one of them.")
	case port != "" && info.SocketFile == "":
		wrong("port", "A port goes with a host, not with a socket; take one of the two out.")
	case port != "" && strings.HasPrefix(filepath.Base(socket), info.SocketFile):
		wrong("port", "The socket's path has its port already; take the setting port out, or name the socket's folder alone.")
	}
	problems = append(problems, d.against()...)
	if text("user") == "" && text("secret") != string(secret.Cloud) && !nobody(info, text("secret")) {
		wrong("user", "The setting user is missing: it says the user to log in as.")
	}
	if text("socket") != "" && text("tls.mode") != "off" {
		wrong("tls.mode", "A socket is never encrypted: both ends are on this machine. Leave tls out, or use a host.")
	}
	problems = append(problems, d.asks(info)...)
	if (text("tls.cert") == "") != (text("tls.key") == "") {
		wrong("tls.cert", "A client certificate and its key go together: set both tls cert and key.")
	}
	if text("tls.mode") == "off" {
		for _, part := range encryptionParts {
			if text(part) != "" {
				wrong(part, "The setting %s has no use while tls mode is off, and off was %s. Set tls mode to verify.",
					part, said(d.Values["tls.mode"].Origin))
				break
			}
		}
	}
	for _, setting := range d.Values.Names() {
		if key, ok := strings.CutPrefix(setting, "options."); ok && isKnown {
			if err := info.CheckOption(key, text(setting)); err != nil {
				wrong(setting, "The option %s cannot be set: %v.", quoted(key), err)
			}
		}
	}
	for _, setting := range d.Values.Names() {
		variable, ok := strings.CutPrefix(setting, "hand-over.")
		if !ok {
			continue
		}
		if steers(variable) {
			wrong(setting, "The variable %s cannot be handed over: it is no plain name, or steers how programs "+
				"run; use a name of the program's own.",
				quoted(variable))
		} else if what := text(setting); d.Values[setting].Origin.Project != "" && !fitting(variable, what) {
			wrong(setting, "A project cannot hand %s over as %s: the variable's name must end in %s. Programs "+
				"may read another one as an instruction.",
				what, quoted(variable), Or(endings[what]))
		}
		for _, named := range []string{"user", "database"} {
			if v := d.Values[named]; d.Values[setting].Origin.Project != "" && v.Origin.Project != "" &&
				strings.Trim(v.Text, handable) != "" {
				wrong(named, "The %s of a project's profile that hands variables over is made of letters, "+
					"digits and . _ @ -, and %s is not.",
					named, quoted(v.Text))
			}
		}
	}
	for _, name := range d.Values["login-methods"].List {
		if isKnown && info.Method(name) == "" {
			wrong("login-methods", "The login method %s is none of %s: it has %s.", quoted(name), info.Title,
				strings.Join(info.Methods, ", "))
		}
	}
	return problems
}

// nobody reports whether nobody logs in with a profile that names no user.
func nobody(info engine.Info, ref string) bool { return info.Nobody && ref == string(secret.None) }

// asks gives what is wrong in what a listener is asked for, and in the privileged mode.
func (d Decided) asks(info engine.Info) []Problem {
	var problems []Problem
	wrong := func(setting, format string, args ...any) {
		v, said := d.Values[setting]
		problems = append(problems, Problem{Setting: setting, Missing: !said,
			Text: fmt.Sprintf(format, args...), Origin: v.Origin})
	}
	var said []string
	for _, name := range Within {
		if d.text(name) != "" {
			said = append(said, name)
		}
	}
	switch {
	case !info.Serves && info.Name != "":
		for _, name := range said {
			if name != "database" {
				wrong(name, "The setting %s is for engines with a listener (%s), and the engine here is %s. "+
					"Write database instead.",
					name, listeners(), info.Title)
			}
		}
	case len(said) > 1:
		wrong(said[0], "The settings %s and %s contradict each other; keep one of them. A listener is asked for "+
			"a service or for an instance.",
			said[0], said[1])
	case info.Serves && len(said) == 0:
		wrong("service", "The setting service is missing: it says which of its databases the listener is asked "+
			"for. For an instance, the setting is instance.")
	case info.Serves && d.text("database") != "" && checkServed(d.text("database")) != nil:
		wrong("database", "The database is the name of the service here, and %v.", checkServed(d.text("database")))
	}
	if role := d.text("role"); role != "" && info.Modes != nil && !slices.Contains(info.Modes, role) {
		wrong("role", "The role %s is no privileged mode of %s; write %s. Roles in the database are switched on "+
			"with on-open: set role NAME.",
			quoted(role), info.Title, Or(info.Modes))
	}
	return problems
}

// endings are the last parts of the variables that a project may hand over, by what is handed
// over. Other variables are the business of whoever runs the program: a program may read
// instructions in them.
var endings = map[string][]string{
	"uri": {"URL", "URI", "DSN"}, "host": {"HOST", "SOCKET"}, "port": {"PORT"}, "user": {"USER"},
	"database": {"DATABASE", "DB", "NAME"}, "secret": {"PASSWORD"},
}

// handable are the characters of a project's own user and database where they are handed over.
const handable = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._@-"

// fitting reports whether the last part of a variable's name, after an underscore where it has
// one, fits what is handed over in it.
func fitting(variable, what string) bool {
	return slices.Contains(endings[what], variable[strings.LastIndexByte(variable, '_')+1:])
}

var variableName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,127}$`) })

// steering are variables by which loaders, shells and interpreters find code to run; a * stands
// for any ending.
var steering = []string{
	"LD_*", "DYLD_*", "PATH", "HOME", "SHELL", "IFS", "ENV", "BASH_*", "PS4", "PROMPT_COMMAND", "PYTHON*",
	"PERL*", "RUBY*", "NODE_*", "JAVA_*", "_JAVA*", "JDK_*", "GIT_*", "SSH_*", "GHARBOR_*", "LOCPATH",
	"GCONV_PATH", "GLIBC_*", "MALLOC_*", "EDITOR", "VISUAL", "PAGER", "BROWSER", "TMPDIR", "XDG_*",
	"HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY", "SSL_CERT_*", "GOFLAGS", "GOROOT", "LUA_*", "PHP_*", "PHPRC",
	"R_*", "TERMINFO*",
}

// steers reports whether a variable could make a program run something else than it would.
func steers(name string) bool {
	upper := strings.ToUpper(name)
	return !variableName().MatchString(name) || slices.ContainsFunc(steering, func(pattern string) bool {
		begin, open := strings.CutSuffix(pattern, "*")
		return upper == pattern || open && strings.HasPrefix(upper, begin)
	})
}

func said(o Origin) string {
	if o.Layer == LayerDefault {
		return "the default for this host"
	}
	return "said in " + o.String()
}
