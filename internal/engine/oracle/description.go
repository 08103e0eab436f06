package oracle

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
)

// A description is where a service is, as (DESCRIPTION=(ADDRESS=…)(CONNECT_DATA=…)): names and
// values in brackets, where a value is a text or further names. It is what clients send to a
// listener, what a listener sends back, and what files of names hold ("Syntax Rules for
// Configuration Files" and "Local Naming Parameters in the tnsnames.ora File", the engine's Net
// Services Reference). Of the latter, only what says where a service is becomes a part of an
// alias.
type description struct {
	host              string // the first address
	port              int
	tls               bool
	service, instance string

	places     []engine.NamePlace
	random     bool
	serverName string
	left       []string // what was left out
}

// node is a name with a text or with further names.
type node struct {
	name, text string
	inside     []node
}

// How deep descriptions go, and how many names one has.
const (
	mostDepth = 16
	mostNodes = 2000
)

var errDescription = errors.New("it is no description in brackets")

// parser reads nodes.
type parser struct {
	text  string
	at    int
	nodes int
}

func (p *parser) space() {
	for p.at < len(p.text) {
		switch c := p.text[p.at]; {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			p.at++
		case c == '#':
			for p.at < len(p.text) && p.text[p.at] != '\n' {
				p.at++
			}
		default:
			return
		}
	}
}

// next gives the next character behind space, 0 at the end.
func (p *parser) next() byte {
	if p.space(); p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

// node reads (NAME=…).
func (p *parser) node(depth int) (n node, err error) {
	if p.nodes++; p.nodes > mostNodes || depth > mostDepth || p.next() != '(' {
		return n, errDescription
	}
	p.at++
	from := p.at
	for p.at < len(p.text) && !strings.ContainsRune("()=#\"", rune(p.text[p.at])) {
		p.at++
	}
	n.name = strings.ToUpper(strings.TrimSpace(p.text[from:p.at]))
	if p.next() != '=' || n.name == "" {
		return n, errDescription
	}
	p.at++
	for p.next() == '(' {
		inner, err := p.node(depth + 1)
		if err != nil {
			return n, err
		}
		n.inside = append(n.inside, inner)
	}
	if n.inside == nil {
		n.text = p.value()
	}
	switch p.next() {
	case ')':
	case 0:
		return n, errors.New("a bracket of it is not closed")
	default:
		return n, errDescription
	}
	p.at++
	return n, nil
}

// value reads a text, which may be in quotes.
func (p *parser) value() string {
	p.space()
	if p.at < len(p.text) && (p.text[p.at] == '"' || p.text[p.at] == '\'') {
		if end := strings.IndexByte(p.text[p.at+1:], p.text[p.at]); end >= 0 {
			text := p.text[p.at+1 : p.at+1+end]
			p.at += end + 2
			return text
		}
	}
	from := p.at
	for p.at < len(p.text) && !strings.ContainsRune("()#\n", rune(p.text[p.at])) {
		p.at++
	}
	return strings.TrimSpace(p.text[from:p.at])
}

// parseDescription reads one, or an address alone.
func parseDescription(text string) (d description, err error) {
	p := &parser{text: text}
	n, err := p.node(0)
	switch {
	case err != nil:
		return d, err
	case p.next() == ')':
		return d, errors.New("a bracket of it is closed, and none is open")
	case p.next() != 0:
		return d, errDescription
	}
	err = d.take(n)
	return d, err
}

func (d *description) leave(what string) {
	if !slices.Contains(d.left, what) {
		d.left = append(d.left, what)
	}
}

// on reports whether a word switches something on.
func on(text string) bool {
	return slices.Contains([]string{"on", "yes", "true"}, strings.ToLower(text))
}

// take reads what a node says of where a service is.
func (d *description) take(n node) error {
	switch n.name {
	case "DESCRIPTION", "ADDRESS_LIST", "DESCRIPTION_LIST", "CONNECT_DATA", "SECURITY":
		for i, inner := range n.inside {
			if inner.name == "DESCRIPTION" && i > 0 && n.name == "DESCRIPTION_LIST" {
				d.leave("a further DESCRIPTION")
				continue
			}
			if err := d.take(inner); err != nil {
				return err
			}
		}
	case "ADDRESS":
		return d.address(n)
	case "SERVICE_NAME":
		d.service = n.text
	case "SID":
		d.instance = n.text
	case "LOAD_BALANCE":
		d.random = d.random || on(n.text)
	case "FAILOVER":
		if !on(n.text) {
			d.leave(n.name)
		}
	case "SSL_SERVER_CERT_DN":
		for part := range strings.SplitSeq(n.text, ",") {
			if name, is := strings.CutPrefix(strings.ToUpper(strings.TrimSpace(part)), "CN="); is {
				d.serverName = strings.ToLower(name)
			}
		}
	case "SSL_SERVER_DN_MATCH":
		if !on(n.text) {
			d.leave(n.name) // the server's name is checked all the same
		}
	case "CID", "CONNECTION_ID":
	default:
		d.leave(n.name)
	}
	return nil
}

// address reads (ADDRESS=(PROTOCOL=…)(HOST=…)(PORT=…)).
func (d *description) address(n node) error {
	place, tls, spoken := engine.NamePlace{Port: ports[false]}, false, true
	for _, inner := range n.inside {
		switch inner.name {
		case "PROTOCOL":
			protocol := strings.ToLower(inner.text)
			tls, spoken = protocol == "tcps", protocol == "tcp" || protocol == "tcps"
		case "HOST":
			place.Host = inner.text
		case "PORT":
			port, err := strconv.Atoi(inner.text)
			if err != nil || port < 1 || port > 65535 {
				return fmt.Errorf("its PORT is no number from 1 to 65535")
			}
			place.Port = port
		default:
			d.leave(inner.name)
		}
	}
	switch {
	case !spoken || place.Host == "":
		d.leave("an ADDRESS that is no TCP")
	case len(d.places) > 0 && tls != d.tls:
		d.leave("an ADDRESS with another PROTOCOL")
	default:
		if len(d.places) == 0 {
			d.host, d.port, d.tls = place.Host, place.Port, tls
		}
		d.places = append(d.places, place)
	}
	return nil
}

// ports are the usual ones, without and with TLS.
var ports = map[bool]int{false: 1521, true: 2484}

// place gives the first address.
func (d description) place() string { return net.JoinHostPort(d.host, strconv.Itoa(d.port)) }

// text writes a description, with more inside its CONNECT_DATA.
func (d description) text(more string) string {
	var b strings.Builder
	b.WriteString("(DESCRIPTION=")
	places := d.places
	if places == nil && d.host != "" {
		places = []engine.NamePlace{{Host: d.host, Port: d.port}}
	}
	if d.random {
		b.WriteString("(LOAD_BALANCE=on)")
	}
	protocol := "TCP"
	if d.tls {
		protocol = "TCPS"
	}
	for _, each := range places {
		fmt.Fprintf(&b, "(ADDRESS=(PROTOCOL=%s)(HOST=%s)(PORT=%d))", protocol, each.Host, each.Port)
	}
	b.WriteString("(CONNECT_DATA=")
	if d.instance != "" {
		b.WriteString("(SID=" + d.instance + ")")
	} else {
		b.WriteString("(SERVICE_NAME=" + d.service + ")")
	}
	b.WriteString(more + ")")
	if d.serverName != "" {
		b.WriteString("(SECURITY=(SSL_SERVER_CERT_DN=\"CN=" + d.serverName + "\"))")
	}
	return b.String() + ")"
}

// Description implements engine.Namer.
func (Engine) Description(n engine.NameEntry) (string, error) {
	d := description{places: n.Places, random: n.Random, service: n.Service, instance: n.Instance, tls: n.TLS,
		serverName: n.ServerName}
	if len(n.Places) == 0 || n.Service == "" && n.Instance == "" {
		return "", errors.New("a description says the address, and the service or the instance")
	}
	text := d.text("")
	back, err := parseDescription(text)
	if err != nil || back.service != n.Service || back.instance != n.Instance || !slices.Equal(back.places, n.Places) {
		return "", errors.New("a name in it has a character that a description cannot hold")
	}
	return text, nil
}

// Names implements engine.Namer: it reads NAME, NAME = (DESCRIPTION=…) and IFILE = FILE.
func (Engine) Names(data []byte) (found []engine.NameEntry, further []engine.FurtherFile, err error) {
	p := &parser{text: string(data)}
	line := func(at int) int { return 1 + strings.Count(p.text[:at], "\n") }
	for p.next() != 0 {
		from := p.at
		for p.at < len(p.text) && !strings.ContainsRune("=()#", rune(p.text[p.at])) {
			p.at++
		}
		names := strings.FieldsFunc(p.text[from:p.at], func(r rune) bool {
			return r == ',' || r == ' ' || r == '\t' || r == '\r' || r == '\n'
		})
		if p.next() != '=' || len(names) == 0 {
			return nil, nil, &engine.NamesError{Line: line(from), Text: "here should be NAME = (DESCRIPTION = …)"}
		}
		p.at++
		if strings.EqualFold(names[0], "ifile") && len(names) == 1 {
			p.space()
			further = append(further, engine.FurtherFile{File: p.value(), Line: line(from)})
			continue
		}
		p.nodes = 0
		n, err := p.node(0)
		var d description
		if err == nil {
			err = d.take(n)
		}
		if err != nil {
			return nil, nil, &engine.NamesError{Line: line(from),
				Text: fmt.Sprintf("what %s stands for cannot be read: %v", names[0], err)}
		}
		if len(found) >= mostNodes {
			return nil, nil, &engine.NamesError{Line: line(from),
				Text: fmt.Sprintf("the file has more than %d names", mostNodes)}
		}
		slices.Sort(d.left)
		found = append(found, engine.NameEntry{Names: names, Line: line(from), Places: d.places,
			Random: d.random, Service: d.service, Instance: d.instance, TLS: d.tls, ServerName: d.serverName,
			Left: d.left})
	}
	return found, further, nil
}
