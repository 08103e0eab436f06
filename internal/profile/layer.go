// Package profile is the model of a connection profile: what it can say, the files that say it,
// the layers that together decide each value, and connection strings.
//
// A [Layer] is a set of values of one provenance: the flags of a command, the environment, a
// profile's file. [Resolve] puts layers over each other, highest first, and gives an [Effective]
// profile in which each value still knows its [Origin]. Nothing here connects to anything.
package profile

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/guard"
)

// LayerName says what kind of layer a value comes from.
type LayerName string

// The layers, highest first.
const (
	LayerFlag        LayerName = "flag"
	LayerEnvironment LayerName = "environment"
	LayerAnswer      LayerName = "answer" // a person's, for this run or for a profile that is not saved yet
	LayerWallet      LayerName = "wallet" // the user, where only a wallet says it
	LayerString      LayerName = "connection string"
	LayerImport      LayerName = "import"
	LayerProfile     LayerName = "profile"
	LayerBase        LayerName = "base"
	LayerGroup       LayerName = "group"
	LayerAlias       LayerName = "alias"
	LayerDefault     LayerName = "default"
	LayerNone        LayerName = "none" // nobody says it
)

// Origin says where a value comes from.
type Origin struct {
	Layer   LayerName
	File    string // the file, for a profile's, a base's and a group's values
	Line    int    // the line in that file, from 1
	Name    string // the flag or the variable, for those layers; the alias, as it was asked for
	Project string // the folder of the project whose file says it, "" for the user's own
}

// String gives the origin as show prints it.
func (o Origin) String() string {
	switch {
	case o.File != "":
		return o.File + ":" + strconv.Itoa(o.Line)
	case o.Name != "":
		return string(o.Layer) + " " + o.Name
	}
	return string(o.Layer)
}

// Value is a setting's text and where it was said. An empty value unsets what lower layers say.
type Value struct {
	Text   string
	Origin Origin
	// List is the value of a setting that is a list; Text is then its items joined for people.
	List []string
}

// ListValue makes the value of a list.
func ListValue(items []string, origin Origin) Value {
	return Value{Text: strings.Join(items, "; "), Origin: origin, List: items}
}

// Layer maps the names of settings to values. Its names are those of [Settings], with the keys of
// free maps behind the dot, as in "labels.season".
type Layer map[string]Value

// Names lists the layer's settings in the order of [Settings], keys of free maps in order of the
// alphabet.
func (l Layer) Names() []string {
	return slices.SortedFunc(maps.Keys(l), func(a, b string) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
}

// rank gives the place of a setting among all; -1 for what is none.
func rank(name string) int {
	if at, known := ranks()[name]; known {
		return at
	}
	if dot := strings.IndexByte(name, '.'); dot >= 0 { // a free key
		if at, known := ranks()[name[:dot+1]]; known {
			return at
		}
	}
	return -1
}

var ranks = sync.OnceValue(func() map[string]int {
	places := map[string]int{}
	for i, s := range all() {
		places[s.Name] = i
	}
	return places
})

// where says which spelling of the place the layer uses, "" for none.
func (l Layer) where() string {
	for _, name := range Where {
		if v, ok := l[name]; ok && v.Text != "" {
			return name
		}
	}
	return ""
}

// ofRun reports whether a value holds for one run: a flag's or a variable's.
func (o Origin) ofRun() bool { return o.Layer == LayerFlag || o.Layer == LayerEnvironment }

// replacedHosts gives the layers whose hosts are replaced by one that a run says, beside no port:
// that host keeps their port. At is the layer whose address counts.
func replacedHosts(layers []Layer, at int) (replaced []int) {
	for at < len(layers) && layers[at].where() == "host" && layers[at]["host"].Origin.ofRun() &&
		layers[at]["port"].Text == "" {
		next := slices.IndexFunc(layers[at+1:], func(l Layer) bool { return l.where() != "" })
		if next < 0 || layers[at+1+next].where() != "host" {
			break
		}
		at += 1 + next
		replaced = append(replaced, at)
	}
	return replaced
}

// KeptPort says which port the host of a run keeps of the host that it replaces, and where from;
// "" for none.
func (e Effective) KeptPort() string {
	port, host := e.Values["port"], e.Values["host"]
	from := map[LayerName]string{LayerProfile: "the profile", LayerBase: "its base", LayerGroup: "its group",
		LayerString: "the connection string"}[port.Origin.Layer]
	if !host.Origin.ofRun() || from == "" {
		return ""
	}
	return "port " + port.Text + ", from " + from
}

// merge puts layers, highest first, over each other, and keeps what they hide, nearest first. A
// higher layer's address hides every lower layer's, with the port that a lower layer says beside
// one; but the host of a run keeps the port of the host that it replaces. A port in a layer that
// names no address is a default for the host that counts; a socket has none but its own layer's
// or a higher one's.
func merge(layers []Layer) (merged Layer, under map[string][]Value) {
	merged, under = Layer{}, map[string][]Value{}
	address, at := "", len(layers)
	for i, layer := range layers {
		if address = layer.where(); address != "" {
			at = i
			break
		}
	}
	replaced := replacedHosts(layers, at)
	within := slices.IndexFunc(layers, func(l Layer) bool {
		return slices.ContainsFunc(Within, func(name string) bool { return l[name].Text != "" })
	})
	served := slices.IndexFunc(layers, func(l Layer) bool { return l["service"].Text != "" || l["instance"].Text != "" })
	for i, layer := range layers {
		for name, value := range layer {
			_, hidden := merged[name]
			switch s, _ := Find(name); {
			case slices.Contains(Where, name):
				hidden = hidden || i > at
			case name == "service" || name == "instance":
				hidden = hidden || i > within
			case name == "database":
				hidden = hidden || served >= 0 && i > served
			case s.Type == Port:
				hidden = hidden || i > at && (layer.where() != "" && !slices.Contains(replaced, i) || address != "host")
			}
			if hidden {
				under[name] = append(under[name], value)
				continue
			}
			merged[name] = value
		}
	}
	guarded(merged, under)
	maps.DeleteFunc(merged, func(_ string, v Value) bool { return v.Text == "" })
	return merged, under
}

// guarded has the guard of a project's files count where it is stricter than the one that a
// person's own files say, and else the latter; what a run says counts before both.
func guarded(merged Layer, under map[string][]Value) {
	counts, is := merged["guard"]
	if !is || counts.Origin.File == "" {
		return
	}
	for i, each := range under["guard"] {
		if (each.Origin.Project == "") != (counts.Origin.Project == "") {
			if stricter := guard.Stricter(counts.Text, each.Text); stricter != counts.Text {
				merged["guard"], under["guard"][i] = each, counts
			}
			return
		}
	}
}

// AddressOf gives the setting that says where the server is, of those that a layer has; "" for
// none.
func AddressOf(layer Layer) string {
	for _, name := range Where {
		if layer[name].Text != "" {
			return name
		}
	}
	return ""
}
