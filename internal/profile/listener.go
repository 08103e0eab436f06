package profile

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/secret"
)

// bareForms are how clients of an engine with a listener write where a service is:
// //host:port/service, a description in brackets, and drivers' strings that begin with the
// engine's scheme and have one of them behind an @, or host:port:instance.
var bareForms = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?s)^(?://[^/?#@\s]+/[A-Za-z0-9_.$#-]+|\(\s*[A-Za-z_]+\s*=\s*\(.*\)\s*)$`)
})

// bareEngine gives the engine whose clients write so.
func bareEngine() (engine.Info, bool) {
	for _, info := range known.Infos() {
		if info.Bare {
			return info, true
		}
	}
	return engine.Info{}, false
}

// isBare reports whether a text is in one of the bareForms.
func isBare(text string) bool {
	text = strings.TrimSpace(text)
	_, _, driver := driverForm(text)
	return driver || bareForms().MatchString(text)
}

// driverForm takes a driver's string apart: jdbc:SCHEME:KIND:[user/password]@REST.
func driverForm(text string) (account, rest string, is bool) {
	info, has := bareEngine()
	text, driver := strings.CutPrefix(text, "jdbc:")
	if !has || !driver {
		return "", "", false
	}
	for _, scheme := range info.Schemes {
		if after, is := strings.CutPrefix(text, scheme+":"); is && !strings.HasPrefix(after, "//") {
			_, after, _ = strings.Cut(after, ":")
			return cutLast(after, "@")
		}
	}
	return "", "", false
}

func cutLast(text, sign string) (before, after string, found bool) {
	if at := strings.LastIndex(text, sign); at >= 0 {
		return text[:at], text[at+1:], true
	}
	return text, "", false
}

// bare takes such a string.
func (p *Parsed) bare(text string) error {
	info, _ := bareEngine()
	set := p.sets(LayerString)
	_ = set("engine", info.Name)
	text = strings.TrimSpace(text)
	if account, rest, is := driverForm(text); is {
		if user, password, both := strings.Cut(account, "/"); account != "" {
			if err := set("user", user); err != nil {
				return err
			}
			if both {
				p.Secret = secret.New(password)
			}
		}
		text = rest
		if parts := strings.Split(rest, ":"); !strings.HasPrefix(rest, "(") && !strings.HasPrefix(rest, "//") {
			if len(parts) == 3 && !strings.Contains(rest, "/") {
				if err := p.place(parts[0]+":"+parts[1], set); err != nil {
					return err
				}
				return set("instance", parts[2])
			}
			text = "//" + rest
		}
	}
	if strings.HasPrefix(text, "(") {
		return p.description(info, text, set)
	}
	place, service, _ := strings.Cut(strings.TrimPrefix(text, "//"), "/")
	if !bareForms().MatchString(text) {
		return errors.New("the connection string is not //host:port/service, nor a description in brackets")
	}
	if err := p.place(place, set); err != nil {
		return err
	}
	return set("service", service)
}

// description takes what a description in brackets says.
func (p *Parsed) description(info engine.Info, text string, set setter) error {
	namer, _ := engine.NamerOf(known.Engine(info.Name))
	found, _, err := namer.Names([]byte("it = " + text))
	if err != nil || len(found) != 1 {
		return errors.New("the connection string begins as a description in brackets, and cannot be read as " +
			"one: a bracket or an = is missing, or an address is none")
	}
	layer, left, err := LayerOfName(info, found[0])
	if err != nil {
		return err
	}
	for _, name := range []string{"service", "instance", "tls.mode", "tls.server-name"} {
		if err := set(name, layer[name].Text); err != nil {
			return err
		}
	}
	if !found[0].TLS {
		p.Notes = append(p.Notes, "The description says PROTOCOL=TCP, and so the connection is not encrypted (tls mode off).")
	}
	var hosts []string
	for _, place := range found[0].Places {
		hosts = append(hosts, net.JoinHostPort(place.Host, strconv.Itoa(place.Port)))
	}
	if err := p.place(strings.Join(hosts, ","), set); err != nil {
		return err
	}
	for _, name := range left {
		p.Left = append(p.Left, name)
		p.Notes = append(p.Notes, "The part "+quoted(name)+" of the description is not known here and was left out.")
	}
	return nil
}

// LayerOfName gives what a file of names says of one name, as an alias of it says it, and the
// parts that were left out. An address or a name that an alias cannot have is an error.
func LayerOfName(info engine.Info, n engine.NameEntry) (Layer, []string, error) {
	layer := Layer{}
	put := func(setting, value string) error {
		if value == "" {
			return nil
		}
		s, _ := Find(setting)
		if err := s.Check(value); err != nil {
			return fmt.Errorf("its %s cannot be used: %w", strings.ReplaceAll(setting, ".", " "), err)
		}
		layer[setting] = Value{Text: value, Origin: Origin{Layer: LayerImport}}
		return nil
	}
	var addresses []string
	for _, place := range n.Places {
		text := net.JoinHostPort(place.Host, strconv.Itoa(place.Port))
		if err := checkAddress(text); err != nil {
			return nil, nil, fmt.Errorf("its address cannot be used: %w", err)
		}
		addresses = append(addresses, text)
	}
	if len(addresses) == 0 {
		return nil, nil, errors.New("it names no TCP address")
	}
	if n.Service != "" && n.Instance != "" {
		return nil, nil, errors.New("it names a service and an instance; here it is one of them")
	}
	layer["addresses"] = ListValue(addresses, Origin{Layer: LayerImport})
	mode, order := "off", "" // the file says that it is not encrypted
	if n.TLS {
		mode = "verify"
	}
	if n.Random {
		order = "random"
	}
	for _, each := range [][2]string{{"engine", info.Name}, {"service", n.Service}, {"instance", n.Instance},
		{"tls.mode", mode}, {"tls.server-name", n.ServerName}, {"pick", order}} {
		if err := put(each[0], each[1]); err != nil {
			return nil, nil, err
		}
	}
	return layer, slices.Clone(n.Left), nil
}

// Bare writes where the profile's service is, as clients of its engine write it:
// //host:port/service. Left names what such a string cannot carry; ok is false for an engine
// whose clients do not write so, and for an instance.
func (e Effective) Bare() (text string, left []string, ok bool) {
	info, _ := known.Info(e.Engine)
	if one, is := e.First(); is {
		text, left, ok = one.Bare()
		return text, append(left, "the alias: the string leads to the first of its addresses"), ok
	}
	if !info.Bare || e.Database == "" || e.Host == "" {
		return "", nil, false
	}
	_, left = e.URI(secret.Secret{})
	if e.TLS.Mode != "off" {
		left = append(left, "tls mode")
	}
	if e.User != "" {
		left = append(left, "user")
	}
	return "//" + net.JoinHostPort(e.Host, strconv.Itoa(e.Port)) + "/" + e.Database, left, true
}

// Description writes where the profile's service or instance is, as files of names of its engine
// say it; ok is false for an engine without such files.
func (e Effective) Description() (text string, left []string, ok bool) {
	namer, ok := engine.NamerOf(known.Engine(e.Engine))
	if !ok {
		return "", nil, false
	}
	n := engine.NameEntry{Random: e.Pick == "random", Instance: e.Instance, TLS: e.TLS.Mode != "off",
		ServerName: e.TLS.ServerName}
	if e.Instance == "" {
		n.Service = e.Database
	}
	for _, a := range e.Addresses {
		if a.Name != "" && a.Port != 0 {
			n.Places = append(n.Places, engine.NamePlace{Host: a.Name, Port: a.Port})
		}
	}
	if e.Host != "" {
		n.Places = []engine.NamePlace{{Host: e.Host, Port: e.Port}}
	}
	text, err := namer.Description(n)
	if err != nil {
		return "", nil, false
	}
	one, _ := e.First()
	_, left = one.URI(secret.Secret{})
	if e.User != "" {
		left = append(left, "user")
	}
	return text, left, true
}
