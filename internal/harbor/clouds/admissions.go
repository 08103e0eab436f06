package clouds

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
)

// ErrNoPatience says that the time ended that a cloud may take.
var ErrNoPatience = errors.New("the patience has ended")

// Covers reports whether one range has all of another.
func Covers(wide, narrow netip.Prefix) bool {
	return wide.Bits() <= narrow.Bits() && wide.Contains(narrow.Addr())
}

// Standing asks how this machine stands with the network of a server, over the family of the
// server's own address.
func (r Clouds) Standing(ctx context.Context, found *cloud.Found) (s cloud.Standing, family int, err error) {
	families := []int{4}
	addr, err := netip.ParseAddr(found.Host)
	if err == nil && !addr.Unmap().Is4() {
		families = []int{6}
	}
	if err != nil { // a name: what it leads to
		families = nil
		addrs, err := r.addressesOf(ctx, found.Host)
		if err != nil {
			return s, 0, err
		}
		for _, each := range addrs {
			family := 6
			if each.Unmap().Is4() {
				family = 4
			}
			if !slices.Contains(families, family) {
				families = append(families, family)
			}
		}
	}
	var failed error
	for _, family := range families {
		if s, err = found.Client.Standing(ctx, found.ID, family); err == nil {
			return s, family, nil
		}
		if failed == nil {
			failed = err
		}
	}
	return s, 0, failed
}

// LeftOver is an admission that is worth a look, and why.
type LeftOver struct {
	cloud.Admission
	Why []string `json:"why"`
}

// leftOver gives the admissions of your own that are left over from another address, have no end,
// or are wider than one address.
func (r Clouds) leftOver(ctx context.Context, c *cloud.Client) (left []LeftOver, caller string, err error) {
	all, callers, err := r.admissions(ctx, c)
	left = []LeftOver{}
	for _, each := range all {
		if len(each.Why) > 0 {
			left = append(left, each)
		}
	}
	return left, strings.Join(callers, ", "), err
}

// admissions lists all admissions of your own at a cloud, each with what is worth a look, and the
// addresses that the cloud sees this machine as.
func (r Clouds) admissions(ctx context.Context, c *cloud.Client) ([]LeftOver, []string, error) {
	list, err := c.Admissions(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	var callers []netip.Addr
	var shown []string
	for _, family := range []int{4, 6} {
		over, err := c.Over(family)
		if err != nil {
			continue
		}
		if addr, err := over.Caller(ctx); err == nil { // a cloud need not have addresses of both families
			callers, shown = append(callers, addr), append(shown, addr.String())
		}
	}
	all := []LeftOver{}
	for _, each := range list {
		l := LeftOver{each, []string{}}
		if each.Until == nil {
			l.Why = append(l.Why, "it has no end")
		}
		if each.Wider() {
			l.Why = append(l.Why, "it lets in more than one address")
		}
		here := slices.ContainsFunc(callers, each.Range.Contains)
		asked := slices.ContainsFunc(callers, func(a netip.Addr) bool { return a.Is4() == each.Range.Addr().Is4() })
		if asked && !here {
			l.Why = append(l.Why, "it is not for this machine's address now")
		}
		all = append(all, l)
	}
	return all, shown, nil
}

// CloudAdmissions lists the admissions of your own, of one account or, for "", of all that are
// signed in, by account.
func (r Clouds) CloudAdmissions(ctx context.Context, name string) (map[string][]LeftOver, error) {
	list, err := r.Accounts()
	if err != nil {
		return nil, err
	}
	names := list.Names()
	if name != "" {
		names = []string{name}
	}
	all := map[string][]LeftOver{}
	for _, each := range names {
		c, err := r.CloudClient(each)
		if err != nil {
			return nil, err
		}
		if _, in, err := c.Session.Who(); name == "" && err == nil && !in {
			continue
		}
		if all[each], _, err = r.admissions(ctx, c); err != nil {
			return nil, Word(err)
		}
	}
	return all, nil
}

// WithdrawCloud takes admissions of your own back, by their ids; told is called for each that is
// gone.
func (r Clouds) WithdrawCloud(ctx context.Context, account string, ids []string,
	progress func(id string, progress int), told func(cloud.Admission)) error {
	all, err := r.CloudAdmissions(ctx, account)
	if err != nil {
		return err
	}
	type of struct {
		account string
		cloud.Admission
	}
	var list []of
	var names []string
	for account, each := range all {
		for _, a := range each {
			names = append(names, a.ID)
			if slices.Contains(ids, a.ID) {
				list = append(list, of{account, a.Admission})
			}
		}
	}
	for _, id := range ids {
		n := 0
		for _, each := range list {
			if each.ID == id {
				n++
			}
		}
		switch {
		case n > 1:
			return world.Usage("several accounts have an admission %s; name one, such as --account fellside", world.Clip(id))
		case n == 0:
			if near := profile.Nearest(id, names); near != "" {
				return world.Wrong("none of your admissions is %s; did you mean %s?", world.Clip(id), near)
			}
			return world.Wrong("none of your admissions is %s; gharbor cloud admissions lists them", world.Clip(id))
		}
	}
	for _, each := range list {
		c, err := r.CloudClient(each.account)
		if err != nil {
			return err
		}
		if err := c.Withdraw(ctx, each.Admission, func(p int) { progress(each.ID, p) }); err != nil {
			return Word(err)
		}
		told(each.Admission)
	}
	return nil
}

// addressesOf looks a name up, as connections do.
func (r Clouds) addressesOf(ctx context.Context, host string) ([]netip.Addr, error) {
	resolver := r.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	return route.Addresses(ctx, resolver, host)
}
