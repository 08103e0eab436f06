package checkup

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
)

// The names of a server's set that are looked up, and how long that may take altogether.
const (
	mostNames = 16
	namesTime = 2 * time.Second
)

// noteNames notes a name by which the server says that clients find it or another server of the
// same data, where this machine cannot get there by it. Clients that follow the names fail then,
// although the profile works.
func (w *walk) noteNames(facts engine.Facts) {
	stays := w.info.Stays()
	if stays == "" || w.profile.Options[stays] == "true" || len(w.profile.Via) > 0 || w.checker.Door != nil {
		return
	}
	ctx, cancel := context.WithTimeout(w.ctx, namesTime)
	defer cancel()
	for _, address := range facts.Names[:min(len(facts.Names), mostNames)] {
		why := w.unreachable(ctx, address)
		if why == "" {
			continue
		}
		w.report.Notes = append(w.report.Notes, fmt.Sprintf("The server names %s to its clients, %s. Clients "+
			"that follow such names fail from here; this profile does not. With --option %s=true its connection "+
			"string has them stay at this server.", w.clean(address), why, stays))
		return
	}
}

// unreachable says why an address that a server names does not lead to a server of its set, "" where
// nothing speaks against it.
func (w *walk) unreachable(ctx context.Context, address string) string {
	host, _, err := net.SplitHostPort(address)
	if err != nil || address == w.address || strings.EqualFold(address, w.at.Written.String()) ||
		strings.EqualFold(host, w.profile.Host) {
		return ""
	}
	resolver := w.checker.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	addrs := []netip.Addr{}
	if addr, err := netip.ParseAddr(host); err == nil {
		addrs = append(addrs, addr)
	} else if addrs, err = resolver.LookupNetIP(ctx, "ip", host); err != nil {
		if failed := (*net.DNSError)(nil); errors.As(err, &failed) && failed.IsNotFound {
			return "and this machine cannot look that name up"
		}
		return ""
	}
	for _, addr := range addrs {
		if !addr.IsLoopback() {
			return ""
		}
	}
	return "and on this machine that is the machine itself, at another address than the one that answered"
}
