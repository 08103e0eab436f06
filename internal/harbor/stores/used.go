package stores

import (
	"slices"

	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// UsedBy gives, by the key of each entry's target, the names of the profiles that a wallet's
// entry serves. Named is the wallet's name, "" for the usual one.
func (r Stores) UsedBy(contents *wallet.Contents, named string) map[string][]string {
	used := map[string][]string{}
	for _, e := range contents.Entries {
		if e.Target.Service == target.CloudKey && slices.Contains(r.CloudNames(), e.Target.User) {
			used[e.Target.Key()] = []string{"cloud " + e.Target.User}
		}
	}
	for _, u := range r.Users() {
		if u.Ref.Kind != secret.Search && (u.Ref.Kind != secret.Wallet || u.Ref.Of != named) {
			continue
		}
		if u.Target.User == "" {
			if u.Target.User, _ = contents.User(u.Target); u.Target.User == "" {
				continue
			}
		}
		if e, err := contents.Match(u.Target, "the wallet"); err == nil {
			used[e.Target.Key()] = append(used[e.Target.Key()], u.Name)
		}
	}
	return used
}
