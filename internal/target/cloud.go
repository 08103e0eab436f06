package target

import (
	"fmt"
	"strings"
)

// Clouded names a server of a cloud: by the user's own name of the account, and the server's name
// or id there.
type Clouded struct {
	Account, Server string
	// Replica is one of the server's replicas by its name, "" for the server itself.
	Replica string
	// Address is the kind of address to connect to: [PublicAddress] or [PrivateAddress]; "" for a
	// public one.
	Address string
}

// The kinds of address that a cloud's server can have.
const (
	PublicAddress  = "public"  // reached from everywhere
	PrivateAddress = "private" // reached inside a network alone
)

// IsCloudWord reports whether a text can be the name or the id of an account, a server or a copy:
// letters, digits, and . _ - after the first, at most 128 of them.
func IsCloudWord(text string) bool { return len(text) <= 128 && isContainerWord(text) }

// ParseClouded reads ACCOUNT/SERVER.
func ParseClouded(text string) (Clouded, error) {
	account, server, _ := strings.Cut(text, "/")
	return NewClouded(Clouded{Account: account, Server: server})
}

// NewClouded checks a server that is made of its parts.
func NewClouded(c Clouded) (Clouded, error) {
	switch {
	case !IsCloudWord(c.Account) || !IsCloudWord(c.Server):
		return c, fmt.Errorf("a cloud's server is written ACCOUNT/SERVER; both have letters, digits, . _ and -, " +
			"as in fellside/bunkhouse")
	case c.Replica != "" && !IsCloudWord(c.Replica):
		return c, fmt.Errorf("the name of a replica has letters, digits, . _ and -")
	case c.Address != "" && c.Address != PublicAddress && c.Address != PrivateAddress:
		return c, fmt.Errorf("the address of a cloud's server is %s or %s", PublicAddress, PrivateAddress)
	}
	return c, nil
}

// String gives ACCOUNT/SERVER, without copy and kind of address.
func (c Clouded) String() string {
	if c == (Clouded{}) {
		return ""
	}
	return c.Account + "/" + c.Server
}

// Title gives the server for people: "the cloud server fellside/bunkhouse", with its copy.
func (c Clouded) Title() string {
	if c.Replica != "" {
		return "the replica " + c.Replica + " of the cloud server " + c.String()
	}
	return "the cloud server " + c.String()
}
