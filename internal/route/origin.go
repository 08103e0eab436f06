package route

import (
	"net/netip"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/files"
)

// Files of the system's name service.
const (
	hostsFile    = "/etc/hosts"
	switchFile   = "/etc/nsswitch.conf"
	maxHostsFile = 4 << 20
)

// FromWhere says where the system's name service has the addresses of a name from, as far as that
// can be read: the hosts file and its line (hosts(5)), else DNS and the other sources that are in
// use (nsswitch.conf(5)). It is "" where nothing can be said.
func FromWhere(host string, addrs []netip.Addr) string {
	if runtime.GOOS == "windows" {
		return ""
	}
	hosts, err := files.ReadOwn(hostsFile, maxHostsFile)
	if err != nil {
		return ""
	}
	if line := hostsLine(string(hosts), host, addrs); line > 0 {
		return hostsFile + ":" + strconv.Itoa(line)
	}
	sources, err := files.ReadOwn(switchFile, maxHostsFile)
	if err != nil {
		return ""
	}
	if others := otherSources(string(sources)); len(others) > 0 {
		return "from a name service: DNS, or " + strings.Join(others, " or ") + ", which cannot be read here"
	}
	return "from DNS"
}

// hostsLine gives the line (from 1) of a hosts file that gives a name one of some addresses, 0
// for none.
func hostsLine(text, host string, addrs []netip.Addr) int {
	host = strings.TrimSuffix(host, ".")
	for n, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		addr, err := netip.ParseAddr(words[0])
		if err == nil && slices.Contains(addrs, addr.Unmap()) &&
			slices.ContainsFunc(words[1:], func(word string) bool { return strings.EqualFold(word, host) }) {
			return n + 1
		}
	}
	return 0
}

// otherSources gives the sources of host names in a switch file besides files and dns.
func otherSources(text string) []string {
	var others []string
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		name, list, ok := strings.Cut(line, ":")
		if !ok || strings.TrimSpace(name) != "hosts" {
			continue
		}
		for _, word := range strings.Fields(list) {
			if word != "files" && word != "dns" && !strings.HasPrefix(word, "[") &&
				!strings.HasSuffix(word, "]") && !strings.Contains(word, "=") {
				others = append(others, word)
			}
		}
	}
	return others
}
