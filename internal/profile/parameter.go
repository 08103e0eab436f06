package profile

import (
	"errors"
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/secret"
)

// tlsWords maps what drivers' connection strings say of encryption to ours; "" leaves ours as it
// is.
var tlsWords = map[string]string{
	"disable": "off", "disabled": "off",
	"require": "encrypt", "required": "encrypt", "skip-verify": "encrypt",
	"verify-ca": "verify", "verify_ca": "verify", "verify-full": "verify", "verify_identity": "verify",
	"verify": "verify", "strict": "verify", "tls": "verify", "ssl": "verify",
	"allow": "", "prefer": "", "preferred": "",
}

// switches are the words of parameters that are on or off.
var switches = map[string]bool{"true": true, "1": true, "yes": true, "on": true, "enabled": true,
	"false": false, "0": false, "no": false, "off": false, "none": false, "": false}

// encryption is what the parameters of one text say of encryption together.
type encryption struct {
	word    string // the mode that a word named, "" for none
	on, off bool   // what a switch said
	certain *bool  // whether the certificate is checked, where that was said
	address string // where to connect, while the host is the name to check
	binding bool   // channel binding is required
}

// parameterNames maps what drivers and clients call the parameters of a connection to what is
// done with them: a setting's name, or a word of the function parameter. Letters and digits of
// the name alone count.
var parameterNames = map[string]string{
	"host": "host", "hostname": "host", "server": "host", "socket": "socket", "unixsocket": "socket",
	"unixsocketpath": "socket", "socketpath": "socket",
	"hostaddr": "address", "connectionname": "connection name", "port": "port", "user": "user",
	"username": "user", "uid": "user", "userid": "user",
	"dbname": "database", "database": "database", "password": "password", "passwd": "password", "pwd": "password",
	"sslmode": "tls", "tls": "tls", "tlsmode": "tls", "ssl": "tls", "usessl": "tls", "requiressl": "tls",
	"usetls": "tls", "encrypt": "tls", "sslenabled": "tls",
	"verifyservercertificate": "certificate", "sslverifyservercert": "certificate",
	"sslverifycert": "certificate", "sslverify": "certificate", "sslverifyidentity": "certificate",
	"rejectunauthorized": "certificate", "sslaccept": "certificate", "trustservercertificate": "no certificate",
	"tlsinsecure": "no certificate", "sslinsecure": "no certificate",
	"tlsallowinvalidcertificates": "no certificate",
	"sslrootcert":                 "tls.ca", "sslca": "tls.ca", "cafile": "tls.ca", "tlscafile": "tls.ca",
	"sslcert": "tls.cert", "tlscertificatekeyfile": "tls.cert", "sslkey": "tls.key",
	"connecttimeout": "timeout", "connecttimeoutms": "timeout", "logintimeout": "timeout", "timeout": "timeout",
	"requirepeer": "socket-owner", "requireauth": "methods", "authmechanism": "methods", "channelbinding": "binding",
	"targetsessionattrs": "role wanted", "targetservertype": "role wanted", "options": "options",
	"currentschema": "search_path", "service": "service", "servicename": "service", "sid": "instance",
}

// stricter finds the names of parameters that may make a connection stricter.
var stricter = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`ssl|tls|cert|crl|verif|requir|encrypt|secur|auth|peer|binding|readonly|sessionattr|gss|krb|kerberos`)
})

// looser are parameters that make nothing stricter, no matter what their names look like; and
// what they say otherwise is not needed here.
var looser = []string{"sslcompression", "sslsni", "sslnegotiation", "sslpassword", "allowpublickeyretrieval",
	"allowcleartextpasswords", "allownativepasswords", "authority", "certificates", "privatekey", "krbsrvname",
	"gsslib", "gssdelegation", "author"}

// letters gives what counts of a parameter's name.
func letters(name string) string {
	return strings.NewReplacer("_", "", "-", "", " ", "", ".", "").Replace(strings.ToLower(name))
}

// parameter takes one parameter. Where it is not known, it is left out by name, or counts as one
// that makes the connection stricter.
func (p *Parsed) parameter(name, value string, set setter) error {
	switch what := parameterNames[letters(name)]; what {
	case "tls":
		return p.encrypt(name, value)
	case "certificate", "no certificate":
		is, isSwitch := switches[strings.ToLower(value)]
		if !isSwitch {
			is = value == "strict"
		}
		is = is == (what == "certificate")
		p.encryption.certain = &is
	case "host", "socket":
		if strings.HasPrefix(value, "/") {
			return p.socketParameter(what, value, set)
		}
		if p.Layer["socket"].Text != "" && value == "localhost" {
			return nil
		}
		return p.place(value, set)
	case "address":
		if _, err := netip.ParseAddr(value); err != nil && value != "" {
			return fmt.Errorf("the parameter %s in the connection string is not an IP address", quoted(name))
		}
		p.encryption.address = value
	case "port":
		if socket := p.Layer["socket"].Text; socket != "" {
			if checkPort(value) != nil {
				return errors.New("the port in the connection string is not usable as one")
			}
			if file := p.socketFile(); file != "" && !strings.Contains(socket, file) {
				return set("socket", path.Join(socket, file+value))
			}
			return nil
		}
		if ports := strings.Split(value, ","); len(ports) > 1 || len(p.Hosts) > 1 {
			return p.ports(ports)
		}
		return set("port", value)
	case "connection name":
		return p.connection(value)
	case "password":
		p.Secret = secret.New(value)
	case "tls.ca":
		if value == "system" { // the authorities of this machine, and the whole check: "sslrootcert", PostgreSQL's manual
			p.encryption.word = "verify"
			return nil
		}
		return set(what, value)
	case "timeout":
		return p.timeout(name, value, set)
	case "methods":
		return p.methods(name, value, set)
	case "binding":
		p.encryption.binding = value == "require"
	case "role wanted":
		role, known := map[string]string{
			"read-write": "primary", "primary": "primary", "master": "primary", "read-only": "replica",
			"standby": "replica", "secondary": "replica", "slave": "replica",
			"any": "", "prefer-standby": "", "prefersecondary": "", "preferslave": "", "preferprimary": "",
		}[strings.ToLower(value)]
		if !known {
			return fmt.Errorf("the parameter %s in the connection string has a value that is not known here", quoted(name))
		}
		p.Wants = role
	case "options":
		return p.sessionOptions(value, set)
	case "service":
		if info, _ := known.Info(p.Layer["engine"].Text); info.Serves {
			return set("service", value)
		}
		return errors.New("the connection string names a service, whose file is not read here; write its host, " +
			"port and database")
	case "search_path":
		return p.option(name, what, value, set)
	case "":
		return p.option(name, name, value, set)
	default: // a setting's name
		return set(what, value)
	}
	return nil
}

// maxParameters is how many parameters a connection string may have.
const maxParameters = 500

// parameters takes a connection string's query.
func (p *Parsed) parameters(query string, set setter) error {
	if strings.Count(query, "&") >= maxParameters {
		return fmt.Errorf("it has more than %d parameters", maxParameters)
	}
	if query == "" {
		return nil
	}
	for pair := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(pair, "=")
		name, err := decoded("parameters", name)
		if err != nil {
			return err
		}
		value, err = decoded("value of the parameter "+quoted(name), strings.ReplaceAll(value, "+", "%20"))
		if err != nil {
			return err
		}
		if err := p.parameter(name, value, set); err != nil {
			return err
		}
	}
	return nil
}

// socketParameter takes a path instead of a host.
func (p *Parsed) socketParameter(kind, value string, set setter) error {
	if h := p.Layer["host"].Text; h != "" && h != "localhost" {
		return errors.New("the connection string names both a host and a socket; keep one of them")
	}
	port := p.Layer["port"].Text
	delete(p.Layer, "host")
	delete(p.Layer, "port")
	if file := p.socketFile(); kind == "host" && port != "" && file != "" && !strings.Contains(value, file) {
		value = path.Join(value, file+port)
	}
	return set("socket", value)
}

// ports gives several hosts their ports.
func (p *Parsed) ports(ports []string) error {
	if len(ports) != 1 && len(ports) != len(p.Hosts) {
		return errors.New("the connection string names another number of ports than of hosts")
	}
	for i := range p.Hosts {
		port := ports[min(i, len(ports)-1)]
		if checkPort(port) != nil {
			return errors.New("a port in the connection string is not usable as one")
		}
		host, _, err := SplitHost(p.Hosts[i])
		if err != nil {
			return err
		}
		e := Effective{Host: host}
		e.Port, _ = strconv.Atoi(port)
		p.Hosts[i] = e.Place()
	}
	return nil
}

// encrypt takes what a parameter says of encryption.
func (p *Parsed) encrypt(name, value string) error {
	if is, isSwitch := switches[strings.ToLower(value)]; isSwitch {
		p.encryption.on = p.encryption.on || is
		p.encryption.off = p.encryption.off || !is && !strings.HasPrefix(letters(name), "require")
		return nil
	}
	mode, ok := tlsWords[strings.ToLower(value)]
	switch {
	case !ok:
		return fmt.Errorf("the parameter %s in the connection string has a value that is not known here", quoted(name))
	case mode == "":
		p.Notes = append(p.Notes, "The parameter "+quoted(name)+" lets the encryption fall back to none; a "+
			"profile does not, so its own default is used.")
		return nil
	case strings.HasSuffix(strings.ToLower(value), "ca"):
		p.Notes = append(p.Notes, "The parameter "+quoted(name)+" checks the authority alone; tls mode verify "+
			"checks the server's name too.")
	}
	if p.encryption.word == "" || mode == "verify" || mode == "encrypt" && p.encryption.word == "off" {
		p.encryption.word = mode
	}
	return nil
}

// mode gives the mode of encryption that all parameters come to, the stricter one where they
// differ; "" where none says any. A switch alone stands for the whole check, unless another
// parameter says that the certificate is not checked.
func (e encryption) mode() string {
	unchecked := e.certain != nil && !*e.certain
	switch {
	case e.certain != nil && *e.certain:
		return "verify"
	case e.word == "encrypt", e.word == "verify" && !unchecked:
		return e.word
	case e.word == "verify", e.on && unchecked:
		return "encrypt"
	case e.on:
		return "verify"
	case e.off:
		return "off"
	}
	return e.word
}

// timeout takes the limit for a connection: a duration, or a number. Connector/J and MySQL's own
// URIs count milliseconds there, all others seconds.
func (p *Parsed) timeout(name, value string, set setter) error {
	span, err := time.ParseDuration(value)
	if n, notNumber := strconv.Atoi(value); notNumber == nil {
		unit := time.Second
		info, _ := known.Info(p.Layer["engine"].Text)
		if info.Milliseconds && (name == "connectTimeout" || name == "connect-timeout" || name == "connectTimeoutMS") {
			unit = time.Millisecond
		}
		span, err = time.Duration(n)*unit, nil
	}
	if err != nil || span <= 0 { // 0 stands for none, which there is not here
		return p.leave(name, "")
	}
	text := span.String()
	if span%time.Second == 0 {
		text = strconv.Itoa(int(span/time.Second)) + "s"
	}
	return set("timeout.leg", text)
}

// methods takes login methods as PostgreSQL's require_auth names them: a list of those to accept,
// or of those not to, each with an exclamation mark.
func (p *Parsed) methods(name, value string, set setter) error {
	if value == "" {
		return nil
	}
	info, _ := known.Info(p.Layer["engine"].Text)
	var named []string
	not := strings.HasPrefix(value, "!")
	for word := range strings.SplitSeq(value, ",") {
		word, negated := strings.CutPrefix(strings.TrimSpace(word), "!")
		if negated != not {
			return fmt.Errorf("the parameter %s in the connection string mixes methods to accept with such not to", quoted(name))
		}
		switch word {
		case "none":
			word = engine.NothingAsked
		case "scram-sha-256":
			named = append(named, word+"-plus")
		}
		named = append(named, word)
	}
	var accepted []string
	for _, method := range info.Methods {
		if slices.Contains(named, method) != not {
			accepted = append(accepted, method)
		}
	}
	if accepted == nil {
		return fmt.Errorf("the parameter %s in the connection string leaves no login method that is spoken here",
			quoted(name))
	}
	return set("login-methods", strings.Join(accepted, ","))
}

// sessionOptions takes settings of the session as PostgreSQL's "options" has them: -c NAME=VALUE
// or --NAME=VALUE, with \ before a space.
func (p *Parsed) sessionOptions(value string, set setter) error {
	var words []string
	var word strings.Builder
	for i := 0; i <= len(value); i++ {
		switch {
		case i == len(value) || value[i] == ' ':
			if word.Len() > 0 {
				words = append(words, word.String())
				word.Reset()
			}
		case value[i] == '\\' && i+1 < len(value):
			i++
			word.WriteByte(value[i])
		default:
			word.WriteByte(value[i])
		}
	}
	for i := 0; i < len(words); i++ {
		pair, ok := strings.CutPrefix(words[i], "--")
		if !ok {
			if pair, ok = strings.CutPrefix(words[i], "-c"); ok && pair == "" && i+1 < len(words) {
				i++
				pair = words[i]
			}
		}
		name, value, assigned := strings.Cut(pair, "=")
		if !ok || !assigned {
			return p.leave("options", "")
		}
		if name == "role" {
			if err := set("role", value); err != nil {
				return err
			}
			continue
		}
		if err := p.option(name, name, value, set); err != nil {
			return err
		}
	}
	return nil
}

// option takes a setting of the session where the engine has it, and leaves the parameter out
// where it has not.
func (p *Parsed) option(parameter, name, value string, set setter) error {
	info, _ := known.Info(p.Layer["engine"].Text)
	for part, of := range info.Parameters {
		if option, is := strings.CutPrefix(part, "option "); is && letters(of) == letters(name) {
			return set("options."+option, value)
		}
	}
	i := slices.IndexFunc(info.Options, func(o string) bool { return letters(o) == letters(name) })
	if alone := info.Parameters["alone"]; alone != "" && letters(alone) == letters(name) {
		return nil // each host is connected to by itself here
	}
	if i < 0 {
		return p.leave(parameter, value)
	}
	return set("options."+info.Options[i], value)
}

// maxLeft is how many parameters are named that were left out.
const maxLeft = 20

// leave leaves a parameter out: with a note where it makes nothing stricter.
func (p *Parsed) leave(name, value string) error {
	word := letters(name)
	is, isSwitch := switches[strings.ToLower(value)]
	off := isSwitch && !is || value == "prefer" || value == "disable"
	if stricter().MatchString(word) && !slices.Contains(looser, word) && !off {
		p.strict = append(p.strict, strings.Trim(quoted(name), `"`))
		return nil
	}
	p.Left = append(p.Left, name)
	switch n := len(p.Left); {
	case n <= maxLeft:
		p.Notes = append(p.Notes, "The parameter "+quoted(name)+" is not known here and was left out.")
	case n == maxLeft+1:
		p.Notes = append(p.Notes, "More parameters that are not known here were left out.")
	}
	return nil
}

// finish puts together what several parameters say, and refuses those that cannot be kept and are
// not among without.
func (p *Parsed) finish(set setter, without []string) error {
	e := p.encryption
	if e.address != "" {
		if host := p.Layer["host"].Text; host != "" && host != e.address && e.mode() != "off" {
			if err := set("tls.server-name", host); err != nil {
				return err
			}
		}
		if err := set("host", e.address); err != nil {
			return err
		}
	}
	mode := e.mode()
	if mode == "" && p.SRV != "" { // such a string stands for an encrypted connection
		mode = "verify"
	}
	if err := set("tls.mode", mode); err != nil {
		return err
	}
	if e.binding {
		info, _ := known.Info(p.Layer["engine"].Text)
		bound := slices.DeleteFunc(slices.Clone(info.Methods), func(m string) bool { return !strings.HasSuffix(m, "-plus") })
		if len(bound) == 0 {
			p.strict = append(p.strict, "channel_binding")
		} else if err := set("login-methods", strings.Join(bound, ",")); err != nil {
			return err
		}
	}
	if p.Wants != "" && len(p.Hosts) < 2 {
		if err := set("expect.read-only", strconv.FormatBool(p.Wants == "replica")); err != nil {
			return err
		}
	}
	p.encryption = encryption{}
	var kept []string
	for _, name := range p.strict {
		if slices.Contains(without, name) {
			p.Left = append(p.Left, name)
			continue
		}
		kept = append(kept, name)
	}
	p.strict = nil
	if len(kept) > 0 {
		slices.Sort(kept)
		return &Stricter{slices.Compact(kept)}
	}
	return nil
}

// pair is one name=value.
type pair struct{ name, value string }

// splitPairs takes name=value pairs apart as "Keyword/Value Connection Strings", PostgreSQL's
// manual, has them: space between the pairs and around the =, values with spaces in '…', \ before
// ' and \. It is false for anything else.
func splitPairs(text string) (pairs []pair, ok bool) {
	const space = " \t\r\n"
	for text = strings.TrimLeft(text, space); text != ""; text = strings.TrimLeft(text, space) {
		end := strings.IndexFunc(text, func(r rune) bool { return (r < 'a' || r > 'z') && r != '_' && (r < '0' || r > '9') })
		if end < 1 {
			return nil, false
		}
		name := text[:end]
		rest, assigned := strings.CutPrefix(strings.TrimLeft(text[end:], space), "=")
		if !assigned {
			return nil, false
		}
		rest = strings.TrimLeft(rest, " \t")
		var value strings.Builder
		in, i := strings.HasPrefix(rest, "'"), 0
		if in {
			i++
		} else if strings.HasPrefix(rest, `"`) {
			return nil, false // a shell's or a file's of variables
		}
		for ; i < len(rest); i++ {
			c := rest[i]
			if c == '\\' && i+1 < len(rest) {
				i++
				value.WriteByte(rest[i])
				continue
			}
			if in && c == '\'' {
				in, i = false, i+1
				break
			}
			if !in && strings.IndexByte(space, c) >= 0 {
				break
			}
			value.WriteByte(c)
		}
		if in || i < len(rest) && strings.IndexByte(space, rest[i]) < 0 {
			return nil, false
		}
		pairs, text = append(pairs, pair{name, value.String()}), rest[i:]
	}
	return pairs, len(pairs) > 0
}

// isPairs reports whether a text is name=value pairs that say where a database is.
func isPairs(text string) bool {
	if len(text) > MaxFile {
		return false
	}
	pairs, ok := splitPairs(text)
	return ok && slices.ContainsFunc(pairs, func(p pair) bool {
		return slices.Contains([]string{"host", "hostaddr", "dbname", "user", "service"}, p.name)
	})
}

// pairs takes name=value pairs.
func (p *Parsed) pairs(text string) error {
	list, ok := splitPairs(text)
	if !ok || !isPairs(text) {
		return errors.New("a connection string begins with a scheme, as in " + Schemes()[0] +
			"://user@host/database, or is pairs as in host=db user=me dbname=huts")
	}
	set := p.sets(LayerString)
	for _, info := range known.Infos() {
		if info.Pairs {
			if err := set("engine", info.Name); err != nil {
				return err
			}
			break
		}
	}
	for _, first := range []bool{true, false} { // ports are said of hosts
		for _, one := range list {
			if (one.name == "host") == first {
				if err := p.parameter(one.name, one.value, set); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
