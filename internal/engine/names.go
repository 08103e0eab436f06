package engine

import "fmt"

// Namer is an engine whose clients have files of names for its servers. Such files are read once,
// to be taken over as aliases; nothing here goes by them.
type Namer interface {
	// Names reads such a file. Further files that it names are not read. The error is a *[NamesError].
	Names(data []byte) ([]NameEntry, []FurtherFile, error)
	// Description writes what such a file says of one name.
	Description(n NameEntry) (string, error)
}

// NameEntry is what a file of names says of some names.
type NameEntry struct {
	Names             []string
	Line              int
	Places            []NamePlace // in their order
	Random            bool        // they are tried in any order
	Service, Instance string
	TLS               bool
	ServerName        string   // the name that the server's certificate must have, "" for the host
	Left              []string // what else it says, by the names of the parts
}

// NamePlace is where a server is.
type NamePlace struct {
	Host string
	Port int
}

// FurtherFile is a file that a file of names names.
type FurtherFile struct {
	File string
	Line int
}

// NamesError says what is wrong in a file of names.
type NamesError struct {
	Line int
	Text string
}

// Error gives the line and what is wrong in it.
func (e *NamesError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Text) }

// NamerOf gives an engine as one whose clients have files of names, when it is one.
func NamerOf(e Engine) (Namer, bool) {
	if g, guarded := e.(guardedEngine); guarded {
		e = g.inner
	}
	n, is := e.(Namer)
	return n, is
}
