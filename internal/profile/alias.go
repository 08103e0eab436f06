package profile

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"
)

// Aliases finds the aliases that profiles name.
type Aliases interface {
	// Find gives what an alias says, by its name as a value of the setting alias has it. The
	// error is an *AliasError.
	Find(said Value) (Alias, error)
	// Fresh gives the same files, to be read anew.
	Fresh() Aliases
}

// Alias is what a file of aliases says of a name.
type Alias struct {
	// Layer has the settings of the alias. Each value's origin has the layer [LayerAlias] and the
	// name as it was asked for.
	Layer Layer
	// Others is where else an alias of the name is, FILE:LINE, which does not count.
	Others []string
}

// AliasError says why an alias cannot be used.
type AliasError struct {
	Code   finding.Code
	Text   string // a sentence
	Origin Origin // where the mistake is
}

// Error gives the sentence.
func (e *AliasError) Error() string { return e.Text }

// withAlias adds the layer of the alias that counts below all others, and takes out what another
// alias says.
func withAlias(aliases Aliases, layers []Layer) (all []Layer, others []string, problem *Problem) {
	if !slices.ContainsFunc(layers, func(l Layer) bool { return l["alias"].Text != "" }) {
		return layers, nil, nil // where none is named, no layer has anything of one
	}
	top, _ := merge(layers)
	said, there := top["alias"], false
	for _, layer := range layers {
		kept := Layer{}
		for name, v := range layer {
			if v.Origin.Layer != LayerAlias || v.Origin.Name == said.Text {
				kept[name] = v
				there = there || v.Origin.Layer == LayerAlias
			}
		}
		all = append(all, kept)
	}
	if said.Text == "" || there {
		return all, nil, nil
	}
	wrong := &AliasError{Code: finding.AliasUnknown, Text: "There is no alias " + quoted(said.Text) + ".",
		Origin: said.Origin}
	if aliases != nil {
		found, err := aliases.Find(said)
		if err == nil {
			return append(all, found.Layer), found.Others, nil
		}
		if !errors.As(err, &wrong) {
			wrong.Code, wrong.Text = finding.AliasBroken, err.Error()
		}
	}
	return all, nil, &Problem{Code: wrong.Code, Setting: "alias", Text: wrong.Text, Origin: wrong.Origin}
}

// aliasSays gives what the alias says of a setting, whether or not another layer hides it.
func (d Decided) aliasSays(setting string) (Value, bool) {
	for _, v := range append([]Value{d.Values[setting]}, d.Under[setting]...) {
		if v.Origin.Layer == LayerAlias {
			return v, true
		}
	}
	return Value{}, false
}

// aliasMode gives the encryption that holds for an alias where nobody says one: none where all of
// its addresses are this machine's.
func (d Decided) aliasMode() string {
	list := d.addresses()
	if len(list) == 0 || slices.ContainsFunc(list, func(a target.Address) bool {
		return a.Kind == target.Host && !target.Literal(a.Name)
	}) {
		return "verify"
	}
	return "off"
}

// against gives where other layers contradict the alias: it decides the engine, its encryption
// can only be made stricter, and whom it trusts and its hops are its own.
func (d Decided) against() []Problem {
	var problems []Problem
	name := d.text("alias")
	if name == "" {
		return nil
	}
	wrong := func(code finding.Code, setting, format string, args ...any) {
		problems = append(problems, Problem{Code: code, Setting: setting, Text: fmt.Sprintf(format, args...),
			Origin: d.Values[setting].Origin})
	}
	if alias, says := d.aliasSays("engine"); says {
		theirs, _ := known.Info(alias.Text)
		if ours, ok := d.info(); ok && theirs.Family != ours.Family {
			wrong(finding.AliasEngine, "engine", "The alias %s is of %s (%s), and the engine here is %s.",
				quoted(name), theirs.Title, alias.Origin, d.text("engine"))
		}
	}
	mode, says := d.aliasSays("tls.mode")
	for _, part := range []string{"tls.ca", "tls.server-name"} {
		alias, trusts := d.aliasSays(part)
		if trusts && !says {
			mode, says = Value{Text: "verify", Origin: alias.Origin}, true
		}
		if trusts && d.Values[part].Origin.Layer != LayerAlias && d.Values[part].Text != alias.Text &&
			d.text("tls.mode") == "verify" {
			wrong(finding.AliasWeakened, part,
				"The alias %s says who is trusted (%s); take %s out here, or name a host instead of the alias.",
				quoted(name), alias.Origin, strings.ReplaceAll(part, ".", " "))
		}
	}
	if says && target.Strength(d.text("tls.mode")) < target.Strength(mode.Text) {
		wrong(finding.AliasWeakened, "tls.mode",
			"The alias %s asks for tls %s (%s), and that can only be made stricter; here it would be %s.",
			quoted(name), mode.Text, mode.Origin, d.text("tls.mode"))
	}
	if alias, says := d.aliasSays("via"); says && d.Values["via"].Origin.Layer != LayerAlias &&
		!slices.Equal(d.Values["via"].List, alias.List) {
		wrong(finding.AliasWeakened, "via",
			"The alias %s says its hops (%s); take via out here, or name a host instead of the alias.",
			quoted(name), alias.Origin)
	}
	return problems
}

// addresses gives those of the alias, with the engine's port where none is said.
func (d Decided) addresses() []target.Address {
	info, _ := d.info()
	var list []target.Address
	for _, text := range d.Values["addresses"].List {
		a, err := ParseAddress(text)
		if err != nil {
			continue // it was checked when it was read
		}
		if a.Kind == target.Host && a.Port == 0 {
			a.Port = info.Port
		}
		list = append(list, a)
	}
	return list
}

// place takes over what an alias says of where the server is.
func (e *Effective) place(d Decided) {
	if d.text("alias") == "" {
		return
	}
	_, bare := SplitLayer(d.text("alias"))
	e.Alias, e.SRV, e.Pick, e.Wants = bare, d.text("srv"), d.text("pick"), d.text("wants")
	if e.Wants == "either" {
		e.Wants = ""
	}
	for _, setting := range []string{"addresses", "srv"} {
		if v, said := d.Values[setting]; said {
			e.AliasAt = v.Origin
		}
	}
	for _, values := range [][]Value{slices.Collect(maps.Values(d.Values)),
		slices.Concat(slices.Collect(maps.Values(d.Under))...)} {
		for _, v := range values {
			if v.Origin.Layer == LayerAlias && v.Origin.Project != "" {
				e.AliasAt.Project = v.Origin.Project // a project has a part in it, whoever says the addresses
			}
		}
	}
	if e.AliasAt.Project != "" {
		e.Alias = "project:" + bare
	}
	e.Addresses = d.addresses()
}

// ParseAddress reads an address of an alias: HOST[:PORT], or the path of a socket. The port is 0
// where none is said.
func ParseAddress(text string) (target.Address, error) {
	if strings.HasPrefix(text, "/") {
		if err := checkPath(text); err != nil {
			return target.Address{}, err
		}
		return target.Address{Kind: target.Socket, Name: text}, nil
	}
	host, port, err := SplitHost(text)
	if err != nil {
		return target.Address{}, err
	}
	if addr, err := netip.ParseAddr(host); err != nil || !target.IsZone(addr.Zone()) {
		if err := checkHost(host); err != nil {
			return target.Address{}, err
		}
	}
	n, _ := strconv.Atoi(port)
	return target.Address{Kind: target.Host, Name: strings.ToLower(host), Port: n}, nil
}

func checkAddress(text string) error {
	_, err := ParseAddress(text)
	return err
}

// addressOf writes an address that a file has as a map, {host: NAME, port: N} or {socket: PATH},
// as a text.
func addressOf(parts map[string]string) (string, error) {
	for key := range parts {
		if !slices.Contains([]string{"host", "port", "socket"}, key) {
			return "", fmt.Errorf("%s is no part of an address; it has host and port, or socket", quoted(key))
		}
	}
	host, port, socket := parts["host"], parts["port"], parts["socket"]
	switch {
	case (host == "") == (socket == ""):
		return "", fmt.Errorf("an address has either a host or a socket")
	case socket != "" && port != "":
		return "", fmt.Errorf("a port goes with a host, not with a socket")
	case socket != "":
		if !strings.HasPrefix(socket, "/") {
			return "", fmt.Errorf("the path of a socket is absolute here, as in /run/bunk")
		}
		return socket, nil
	case port == "":
		return host, nil
	}
	if err := checkPort(port); err != nil {
		return "", err
	}
	n, _ := strconv.Atoi(port)
	return target.Address{Kind: target.Host, Name: host, Port: n}.String(), nil
}

func checkAlias(text string) error {
	_, bare := SplitLayer(text)
	return CheckAliasName(bare)
}

// CheckAliasName says what is wrong with an alias's name, nil when nothing is: one word of
// letters, digits, ".", "_" and "-".
func CheckAliasName(name string) error {
	if err := CheckName(name); err != nil || strings.Contains(name, "/") {
		return fmt.Errorf("%s is not an alias's name: use letters, digits, . _ and -, as in bookings-staging", quoted(name))
	}
	return nil
}

// ParseAlias reads what a file of aliases says of one name: a YAML map with that one key, which
// begins on a line of the file. Errors are *FileError values.
func ParseAlias(data []byte, file string, line int) (name string, layer Layer, err error) {
	r := reader{file: file, kind: LayerAlias, above: line - 1, layer: Layer{}}
	root, err := r.root(data)
	if err != nil {
		return "", nil, err
	}
	if root == nil || len(root.Content) != 2 {
		return "", nil, &FileError{file, line, "this is no alias: write `NAME:` and below it, indented, its settings"}
	}
	key, value := root.Content[0], root.Content[1]
	if name = key.Value; CheckAliasName(name) != nil {
		return name, nil, r.fail(key, "%v", CheckAliasName(name))
	}
	if !r.plain(key) || !r.plain(value) {
		return name, nil, errors.Join(r.errs...)
	}
	if value.Kind != yaml.MappingNode || len(value.Content) == 0 {
		return name, nil, r.fail(key,
			"the alias %s says nothing: write below it, indented, such as `addresses: [db.fellside.example:5432]`",
			name)
	}
	r.top(value)
	said := 0
	for _, setting := range []string{"addresses", "srv", "same-as"} {
		if r.layer[setting].Text != "" {
			said++
		}
	}
	switch {
	case len(r.errs) > 0:
	case said == 0:
		_ = r.fail(key, "the alias %s does not say where the server is: it needs addresses, srv or same-as", name)
	case said > 1:
		_ = r.fail(key, "the alias %s says where the server is in two ways; keep one of addresses, srv and same-as", name)
	}
	if len(r.errs) > 0 {
		return name, nil, errors.Join(r.errs...)
	}
	return name, r.layer, nil
}
