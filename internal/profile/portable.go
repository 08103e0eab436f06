package profile

import (
	"fmt"
	"slices"
	"strings"
)

// devices are names that Windows keeps for devices, with any ending behind them ("Naming Files,
// Paths, and Namespaces", Microsoft's documentation).
var devices = []string{"con", "prn", "aux", "nul"}

func isDevice(part string) bool {
	word, _, _ := strings.Cut(strings.ToLower(part), ".")
	if slices.Contains(devices, word) {
		return true
	}
	port, numbered := strings.CutPrefix(word, "com")
	if !numbered {
		port, numbered = strings.CutPrefix(word, "lpt")
	}
	return numbered && len(port) == 1 && port >= "1" && port <= "9"
}

// Portable says why files of names cannot be on every system beside each other, for each that
// cannot: a name that Windows keeps for a device, or one that a file system which minds no case
// takes for another. The names are those of one folder of profiles, without a layer.
func Portable(names []string) map[string]string {
	why := map[string]string{}
	met := map[string]string{} // the names and groups that were met, by their small letters
	sorted := slices.Clone(names)
	slices.Sort(sorted)
	for _, name := range sorted {
		parts := strings.Split(name, "/")
		for i, part := range parts {
			if isDevice(part) && why[name] == "" {
				why[name] = fmt.Sprintf("Windows keeps the name %s for a device, so there can be no such file there", part)
			}
			until := strings.Join(parts[:i+1], "/")
			if i < len(parts)-1 {
				until += "/"
			}
			small := strings.ToLower(until)
			switch other, there := met[small]; {
			case !there:
				met[small] = until
			case other != until && why[name] == "":
				why[name] = fmt.Sprintf("%s and %s are one on Windows and macOS, whose file systems mind no case", until, other)
			}
		}
	}
	return why
}
