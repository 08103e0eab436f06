package world

import (
	"maps"
	"sync"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// Clouds is what was learnt of the user's clouds.
type Clouds struct {
	mu       sync.Mutex
	sessions map[[3]string]*cloud.Session
	memories map[target.Clouded]*cloud.Memory
	// Logins are the temporary logins that clouds made.
	Logins cloud.Logins
	// Servers has the id of a server that was found, by its account and name.
	Servers sync.Map
}

// Session gives the sign-in of an account, the same one for all use cases that open the wallet
// alike: how is what decides that.
func (c *Clouds) Session(account string, how [2]string, fresh func() *cloud.Session) *cloud.Session {
	return one(&c.mu, &c.sessions, [3]string{account, how[0], how[1]}, fresh)
}

// Memory gives what was learnt of a cloud's server; now is the clock by which it grows old.
func (c *Clouds) Memory(of target.Clouded, now func() time.Time) *cloud.Memory {
	return one(&c.mu, &c.memories, of, func() *cloud.Memory { return &cloud.Memory{Now: now} })
}

// one gives the only value of a key, which is made where there is none yet.
func one[K comparable, V any](mu *sync.Mutex, all *map[K]*V, of K, fresh func() *V) *V {
	mu.Lock()
	defer mu.Unlock()
	if *all == nil {
		*all = map[K]*V{}
	}
	if (*all)[of] == nil {
		(*all)[of] = fresh()
	}
	return (*all)[of]
}

// Wallets keeps opened wallets by their folder, each with the file that its passphrase comes from.
type Wallets struct {
	mu   sync.Mutex
	open map[[2]string]*wallet.Keeper
}

// Keeper gives the wallet of a folder, which is made where there is none yet. From is the file
// with its passphrase, "" for none.
func (k *Wallets) Keeper(dir, from string, fresh func() *wallet.Keeper) *wallet.Keeper {
	return one(&k.mu, &k.open, [2]string{dir, from}, fresh)
}

// Renew has those who have a wallet open see what was just written into it; nobody is asked for
// its passphrase again.
func (k *Wallets) Renew(dir string, contents *wallet.Contents) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for of, keeper := range k.open {
		if of[0] == dir {
			keeper.Renew(contents)
		}
	}
}

// Forget has a wallet opened anew, since it was changed.
func (k *Wallets) Forget(dir string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	maps.DeleteFunc(k.open, func(of [2]string, _ *wallet.Keeper) bool { return of[0] == dir })
}
