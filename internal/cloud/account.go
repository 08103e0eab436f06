package cloud

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// Account is a cloud under a name of the user's own. It is never a project's.
type Account struct {
	Name   string
	Origin Origin
	// CA is the path of the certificates (PEM) of the authorities that verify the cloud itself,
	// "" for the system's.
	CA string
}

// Place gives what the key of the account's sign-in is kept for.
func (a Account) Place() target.Target {
	mode := "verify"
	if a.Origin.plain {
		mode = "off"
	}
	return target.Target{Service: target.CloudKey, User: a.Name, Endpoint: a.Origin.Place(), TLS: mode}
}

// Accounts is the folder of the user's accounts: a file for each, NAME.yaml, with the keys url
// and ca.
type Accounts struct {
	Dir string
	// World says what "~" means in a path.
	World files.World
}

// ErrNoAccount is the error for a name that no account has.
var ErrNoAccount = errors.New("there is no such cloud account")

const maxAccount = 64 << 10

func (s Accounts) path(name string) string { return filepath.Join(s.Dir, name+".yaml") }

// Names lists the accounts, in order of the alphabet.
func (s Accounts) Names() []string {
	entries, _ := os.ReadDir(s.Dir)
	var names []string
	for _, entry := range entries {
		if name, is := strings.CutSuffix(entry.Name(), ".yaml"); is && target.IsCloudWord(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Load reads one account. The error wraps [ErrNoAccount], or names the file and the line.
func (s Accounts) Load(name string) (Account, error) {
	a := Account{Name: name}
	if !target.IsCloudWord(name) {
		return a, ErrNoAccount
	}
	path := s.path(name)
	data, err := files.ReadOwn(path, maxAccount)
	if errors.Is(err, fs.ErrNotExist) {
		return a, ErrNoAccount
	}
	if err != nil {
		return a, err
	}
	var doc yaml.Node
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	if err := decoder.Decode(&doc); err != nil || len(doc.Content) != 1 || doc.Content[0].Kind != yaml.MappingNode {
		return a, fmt.Errorf("%s: is no map of the keys url and ca", path)
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(doc.Content[0].Content); i += 2 {
		key, value := doc.Content[0].Content[i], doc.Content[0].Content[i+1]
		fail := func(format string, args ...any) error {
			return fmt.Errorf("%s:%d: "+format, append([]any{path, key.Line}, args...)...)
		}
		if value.Kind != yaml.ScalarNode || value.Anchor != "" || seen[key.Value] {
			return a, fail("%s has one text as its value, and is said once", outside.Cell(key.Value))
		}
		seen[key.Value] = true
		switch key.Value {
		case "url":
			if a.Origin, err = ParseOrigin(value.Value); err != nil {
				return a, fail("%v", err)
			}
		case "ca":
			a.CA = s.World.Absolute(value.Value, s.Dir)
		default:
			return a, fail("%s is not a key of an account; it has url and ca", outside.Cell(key.Value))
		}
	}
	if a.Origin == (Origin{}) {
		return a, fmt.Errorf("%s: the key url is missing: it says where the cloud is", path)
	}
	return a, nil
}

// Save writes an account.
func (s Accounts) Save(a Account) error {
	node := &yaml.Node{Kind: yaml.MappingNode}
	put := func(key, value string) {
		node.Content = append(node.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key},
			&yaml.Node{Kind: yaml.ScalarNode, Value: value})
	}
	put("url", a.Origin.String())
	if a.CA != "" {
		put("ca", a.CA)
	}
	data, err := yaml.Marshal(node)
	if err != nil {
		return err
	}
	return files.Write(s.path(a.Name), data, 0o600)
}

// Remove takes an account's file away.
func (s Accounts) Remove(name string) error { return os.Remove(s.path(name)) }
