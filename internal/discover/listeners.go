package discover

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	psnet "github.com/shirou/gopsutil/v4/net"
	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// Listener is a port or a socket of this machine on which something listens.
type Listener struct {
	Found
	// Process is the name of the program that listens, "" where the system does not show it.
	Process string
	pid     int32
	uids    []int32 // of the process, the real one first
	// Hint is the engine that its port, its program or a container suggests, "" for none.
	Hint string
}

// maxListeners is how many ports are looked at when all are asked for.
const maxListeners = 4096

// Listeners finds what listens on this machine's ports and sockets, and asks each what it is. A
// server that speaks by itself is heard; opening bytes of an engine are sent only where the port,
// the program or hint suggests that engine, or to every port where all is set. Nothing else is
// ever sent.
func Listeners(ctx context.Context, hint func(netip.AddrPort) string, all bool) []Listener {
	list := ports(ctx)
	for i := range list {
		list[i].Hint = suggested(list[i], hint)
	}
	var group errgroup.Group
	group.SetLimit(4 * atOnce)
	for i := range list {
		group.Go(func() error {
			each := &list[i]
			say := opening(each.Hint)
			if all {
				say = openings()
			}
			if len(say) == 0 {
				say = [][]byte{nil} // it is heard, and nothing is said
			}
			for _, opening := range say {
				if each.Answer = known.Identify(ask(ctx, from("tcp", each.Address.String()), nil,
					opening)); each.Answer.Kind != "" {
					break
				}
			}
			return nil
		})
	}
	var behind []Found
	group.Go(func() error {
		behind = OnSockets(ctx)
		return nil
	})
	_ = group.Wait()
	for _, each := range behind {
		list = append(list, Listener{Found: each})
	}
	return list
}

// opening gives the opening bytes of an engine, none for one that greets by itself.
func opening(name string) [][]byte {
	info, _ := known.Info(name)
	if info.Opening == nil {
		return nil
	}
	return [][]byte{info.Opening}
}

// suggested gives the engine that a listener may be, by hint, its program or its port.
func suggested(l Listener, hint func(netip.AddrPort) string) string {
	if hint != nil {
		if name := hint(l.Address); name != "" {
			return name
		}
	}
	for _, by := range []func(engine.Info) bool{
		func(info engine.Info) bool { return slices.Contains(info.Processes, l.Process) },
		func(info engine.Info) bool {
			p := int(l.Address.Port())
			return p >= info.Port && p < info.Port+10 || p%10000 == info.Port
		}, // people count on, or put a digit before
	} {
		for _, info := range known.Infos() {
			if by(info) {
				return info.Name
			}
		}
	}
	return ""
}

// programOf gives the name of a process's program, "" where the system does not show it (proc(5),
// "comm").
func programOf(pid int32) string {
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(name))
}

// ports lists where TCP connections are accepted, with the program that does where the system
// shows it.
func ports(ctx context.Context) []Listener {
	type result struct{ stats []psnet.ConnectionStat }
	done := make(chan result, 1)
	go func() {
		stats, err := psnet.ConnectionsWithContext(ctx, "tcp")
		if err != nil {
			stats, _ = psnet.ConnectionsWithoutUidsWithContext(ctx, "tcp")
		}
		done <- result{stats}
	}()
	var stats []psnet.ConnectionStat
	select {
	case r := <-done:
		stats = r.stats
	case <-ctx.Done():
		return nil
	}
	var list []Listener
	names := map[int32]string{}
	for _, stat := range stats {
		place, ok := placeOf(stat)
		if !ok || slices.ContainsFunc(list, func(l Listener) bool { return l.Address == place }) ||
			len(list) == maxListeners {
			continue
		}
		l := Listener{Found: Found{Address: place}}
		if stat.Pid > 0 {
			name, looked := names[stat.Pid]
			if !looked {
				name = programOf(stat.Pid)
				names[stat.Pid] = name
			}
			l.Process, l.pid, l.uids = name, stat.Pid, stat.Uids
		}
		list = append(list, l)
	}
	slices.SortFunc(list, func(a, b Listener) int {
		if d := int(a.Address.Port()) - int(b.Address.Port()); d != 0 {
			return d
		}
		return a.Address.Addr().Compare(b.Address.Addr())
	})
	return list
}

// Owners says of ports of this machine which program has each: its name, its account, and the
// folder that it works in, as far as the system shows them to this account (proc(5)). Others are
// left out.
func Owners(ctx context.Context, of []netip.AddrPort) map[netip.AddrPort]string {
	owners := map[netip.AddrPort]string{}
	for _, each := range ports(ctx) {
		if each.Process == "" || !slices.Contains(of, each.Address) {
			continue
		}
		words := "the program " + each.Process
		if len(each.uids) > 0 {
			if account, err := user.LookupId(strconv.Itoa(int(each.uids[0]))); err == nil {
				words += " of " + account.Username
			}
		}
		if folder, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", each.pid)); err == nil && folder != "/" {
			words += ", in " + folder
		}
		owners[each.Address] = words
	}
	return owners
}

// Holder says who listens on a port of this machine, as the end of a sentence: " by the program
// postgres"; "" where that cannot be seen.
func Holder(ctx context.Context, port int) string {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	for _, each := range ports(ctx) {
		if int(each.Address.Port()) == port &&
			(each.Address.Addr().IsLoopback() || each.Address.Addr().IsUnspecified()) && each.Process != "" {
			return " by the program " + each.Process
		}
	}
	return ""
}
