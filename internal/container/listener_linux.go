package container

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// listens is a socket that listens, and whose it is.
type listens struct {
	at      netip.AddrPort
	account int
}

// listener gives the account that listens at an address of this machine, as the system shows it
// (proc(5), /proc/net/tcp); false where it shows none: the most specific address decides.
func listener(at netip.AddrPort) (account int, shown bool) {
	best := -1
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		for _, each := range listening(file) {
			score := -1
			switch {
			case each.at.Port() != at.Port():
			case each.at.Addr().Unmap() == at.Addr().Unmap():
				score = 2
			case each.at.Addr().IsUnspecified() && (each.at.Addr().Is6() || at.Addr().Unmap().Is4()):
				score = 1
			}
			switch {
			case score > best:
				best, account = score, each.account
			case score == best && score > 0 && each.account != account:
				return 0, false // two accounts share the port
			}
		}
	}
	return account, best > 0
}

func listening(path string) []listens {
	file, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer file.Close()
	var list []listens
	for lines := bufio.NewScanner(file); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 8 || fields[3] != "0A" { // TCP_LISTEN
			continue
		}
		host, port, _ := strings.Cut(fields[1], ":")
		raw, err := hex.DecodeString(host)
		number, e := strconv.ParseUint(port, 16, 16)
		account, e2 := strconv.Atoi(fields[7])
		if err != nil || e != nil || e2 != nil || len(raw)%4 != 0 {
			continue
		}
		for i := 0; i < len(raw); i += 4 { // each word is in this machine's own order
			binary.BigEndian.PutUint32(raw[i:], binary.NativeEndian.Uint32(raw[i:]))
		}
		if addr, ok := netip.AddrFromSlice(raw); ok {
			list = append(list, listens{netip.AddrPortFrom(addr, uint16(number)), account})
		}
	}
	return list
}
