package cloud

import (
	"context"
	"strings"
	"sync"
	"time"
)

// Logins remembers temporary logins in memory, so that a process asks for one once and not for
// each connection. Its zero value remembers nothing yet.
type Logins struct {
	// Now is the clock; nil for the system's.
	Now func() time.Time

	mu   sync.Mutex
	made map[string]*remembered
}

type remembered struct {
	mu     sync.Mutex // held for moments, never over a request
	login  Login
	since  time.Time
	asking flight[Login]
}

// share is how much of its life a temporary login is used for: who has just taken one can still
// log in with it.
const share = 0.8

// Get gives a login that was made in this process, until 80 % of its life are over, else has the
// cloud make one. The error is a *finding.Problem.
func (l *Logins) Get(ctx context.Context, c *Client, id, user, database string) (Login, error) {
	now := time.Now
	if l.Now != nil {
		now = l.Now
	}
	key := strings.Join([]string{c.Account.Origin.String(), c.Account.Name, id, user, database}, "\x00")
	l.mu.Lock()
	if l.made == nil {
		l.made = map[string]*remembered{}
	}
	r := l.made[key]
	if r == nil {
		r = &remembered{}
		l.made[key] = r
	}
	l.mu.Unlock()
	at := now()
	r.mu.Lock()
	login, life := r.login, r.login.Until.Sub(r.since)
	young := life > 0 && at.Before(r.since.Add(time.Duration(share*float64(life))))
	r.mu.Unlock()
	if young {
		return login, nil
	}
	login, err := r.asking.do(ctx, func(ctx context.Context) (Login, error) {
		login, err := c.Login(ctx, id, user, database)
		if err == nil {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.login, r.since = login, at
		}
		return login, err
	})
	return login, c.ended(ctx, err)
}
