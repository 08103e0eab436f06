package profile

import (
	"slices"
	"strconv"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// Decided is what layers and defaults together say: a value for each setting that has one.
type Decided struct {
	// far says that containers are on another machine, which is reached without a hop.
	far    bool
	Values Layer
	// Under has the values that others hide, nearest first.
	Under map[string][]Value
}

// Decide puts layers over each other, highest first, and the engine's defaults below them. It
// checks nothing.
func Decide(layers []Layer) Decided { return decide(layers, false) }

func decide(layers []Layer, far bool) Decided {
	d := Decided{far: far}
	d.Values, d.Under = merge(layers)
	drop(d.Values, layers)
	d.defaults()
	return d
}

func (d Decided) text(setting string) string { return d.Values[setting].Text }

// info gives what the engine says of itself; ok is false for an engine that is not known.
func (d Decided) info() (info engine.Info, ok bool) { return known.Info(d.text("engine")) }

// defaults fills in what nobody says.
func (d Decided) defaults() {
	info, _ := d.info()
	missing := func(setting, otherwise string) {
		if _, said := d.Values[setting]; !said && otherwise != "" {
			d.Values[setting] = Value{Text: otherwise, Origin: Origin{Layer: LayerDefault}}
		}
	}
	if d.text("socket") == "" && d.text("alias") == "" && d.text("container") == "" && d.text("cloud") == "" {
		missing("host", "localhost")
		if info.Port != 0 {
			missing("port", strconv.Itoa(info.Port))
		}
	}
	missing("database", info.Database)
	if d.text("alias") != "" {
		missing("tls.mode", d.aliasMode())
	}
	if d.text("container") != "" {
		missing("tls.mode", d.containerMode())
	}
	missing("tls.mode", defaultMode(d.text("host"), d.text("socket")))
	missing("timeout.leg", "5s")
	missing("timeout.total", "30s")
	if d.text("via") != "" {
		missing("timeout.ask", "2m")
	}
}

// defaultMode decides by what is written, never by resolving a name.
func defaultMode(host, socket string) string {
	if socket != "" || Loopback(host) {
		return "off"
	}
	return "verify"
}

// EncryptionParts gives the settings that have no use without encryption.
func EncryptionParts() []string { return slices.Clone(encryptionParts) }

// encryptionParts are the parts of an encryption that have no use without it.
var encryptionParts = []string{"tls.ca", "tls.cert", "tls.key", "tls.server-name"}

// drop takes out what a higher layer has made useless: the parts of an encryption that it
// switches off, and the encryption itself where it names a socket. Where one layer says both,
// that is a problem, and stays.
func drop(values Layer, layers []Layer) {
	at := func(settings ...string) int {
		return slices.IndexFunc(layers, func(l Layer) bool {
			return slices.ContainsFunc(settings, func(name string) bool { return l[name].Text != "" })
		})
	}
	above := at("tls.mode")
	if socket := at("socket"); values["socket"].Text != "" && (above < 0 || socket < above) {
		delete(values, "tls.mode")
		above = socket
	} else if values["tls.mode"].Text != "off" {
		return
	}
	for _, part := range encryptionParts {
		if at(part) > above {
			delete(values, part)
		}
	}
}
