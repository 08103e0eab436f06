package cloud

import (
	"cmp"
	"context"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"gentle-harbor/internal/finding"
)

// Admission is a range of addresses that a server's network lets in.
type Admission struct {
	ID     string `json:"id"`
	Server string `json:"server"` // its id
	Name   string `json:"server_name,omitempty"`
	// Range has the addresses (CIDR, RFC 4632 and RFC 4291).
	Range netip.Prefix `json:"range"`
	// Until is when the cloud ends it; nil for never.
	Until *time.Time `json:"until,omitempty"`
	Note  string     `json:"note,omitempty"`
	// Mine says that the account that is signed in has made it.
	Mine bool `json:"mine,omitempty"`
}

// Of gives the name of an admission's server, or its id where it has none.
func (a Admission) Of() string { return cmp.Or(a.Name, a.Server) }

// Wider reports whether an admission lets in more than one address.
func (a Admission) Wider() bool { return !a.Range.IsSingleIP() }

func (a Admission) check() error {
	if !cloudWord(a.ID) || !cloudWord(a.Server) || !shown(a.Name, 128) || !shown(a.Note, 256) || !a.Range.IsValid() {
		return malformed("an admission has no id or no range, or a text that cannot be shown")
	}
	return nil
}

// Admissions lists what a server lets in. With "" it lists what the account that is signed in has
// had let in, at any server. The error is a *finding.Problem.
func (c *Client) Admissions(ctx context.Context, server string) ([]Admission, error) {
	path := "/v1/admissions"
	if server != "" {
		path = "/v1/servers/" + server + "/admissions"
	}
	type page struct {
		Admissions []Admission `json:"admissions"`
	}
	var all []Admission
	err := pages(ctx, c, path, nil, func(p page) (int, error) {
		for _, a := range p.Admissions {
			if err := a.check(); err != nil {
				return 0, err
			}
		}
		all = append(all, p.Admissions...)
		return len(p.Admissions), nil
	})
	return all, err
}

// operation is work of the cloud's that takes its time.
type operation struct {
	ID       string   `json:"id"`
	State    string   `json:"state"` // running, done or failed
	Progress int      `json:"progress"`
	Problem  *details `json:"problem"`
}

// Admit has a range let in at a server, and waits until the cloud says that it is. Until is nil
// for an admission without an end. Told is called with the progress, from 0 to 100. The error is
// a *finding.Problem, or ctx's.
func (c *Client) Admit(ctx context.Context, server string, r netip.Prefix, until *time.Time, note string,
	told func(progress int)) error {
	in := map[string]any{"range": r.Masked().String()}
	if until != nil {
		in["until"] = until.UTC().Format(time.RFC3339)
	}
	if note != "" {
		in["note"] = note
	}
	return c.work(ctx, http.MethodPost, "/v1/servers/"+server+"/admissions", in, told)
}

// Withdraw takes an admission back, and waits until the cloud says that it has. The error is as
// Admit's.
func (c *Client) Withdraw(ctx context.Context, a Admission, told func(progress int)) error {
	return c.work(ctx, http.MethodDelete, "/v1/servers/"+a.Server+"/admissions/"+a.ID, nil, told)
}

// work begins an operation and waits for its end.
func (c *Client) work(ctx context.Context, method, path string, in any, told func(progress int)) error {
	var op operation
	header, err := c.call(ctx, method, path, nil, in, &op)
	for lost := 0; ; {
		switch {
		case err != nil:
			// An operation goes on at the cloud while it cannot be asked: a short loss of the
			// network is no end.
			p, _ := finding.AsProblem(err)
			if lost++; lost > 5 || op.ID == "" || p == nil ||
				p.Code != finding.CloudUnreachable && p.Code != finding.CloudSilent &&
					p.Code != finding.CloudRateLimited {
				return err
			}
		case op.State == "done":
			told(100)
			return nil
		case op.State == "failed":
			e := &refusedError{status: http.StatusConflict}
			if op.Problem != nil {
				e.details = *op.Problem
			}
			return c.fail(ctx, e)
		case op.State != "running" || !isWord(op.ID):
			return c.fail(ctx, malformed("an operation has no id, or another state than running, done or failed"))
		default:
			lost = 0
			told(min(max(op.Progress, 0), 99))
		}
		if err := pause(ctx, pollAfter(header)); err != nil {
			return err
		}
		var next operation
		if header, err = c.call(ctx, http.MethodGet, "/v1/operations/"+op.ID, nil, nil, &next); err == nil {
			op = next
		}
	}
}

// pollAfter gives when an operation is asked about again: after what Retry-After says in seconds,
// at most ten, else after one.
func pollAfter(h http.Header) time.Duration {
	if n, err := strconv.Atoi(h.Get("Retry-After")); err == nil && n > 0 {
		return time.Duration(min(n, 10)) * time.Second
	}
	return time.Second
}

// isWord reports whether a text can be a part of a path.
func isWord(text string) bool { return text != "" && len(text) <= 128 && cloudWord(text) }

// Standing is how this machine stands with a server's network.
type Standing struct {
	Caller netip.Addr // as the cloud sees this machine
	List   []Admission
}

// Admitted reports whether the server's network lets the caller in.
func (s Standing) Admitted() bool {
	return slices.ContainsFunc(s.List, func(a Admission) bool {
		return a.Range.Contains(s.Caller) && (a.Until == nil || a.Until.After(time.Now()))
	})
}

// Ranges lists what is let in, for people.
func (s Standing) Ranges() string {
	var list []string
	for _, a := range s.List {
		text := a.Range.String()
		if a.Until != nil {
			text += " until " + a.Until.Local().Format("2006-01-02 15:04")
		}
		list = append(list, text)
	}
	if len(list) == 0 {
		return "nothing at all"
	}
	return joined(list)
}

// Standing asks how this machine stands with a server's network, for addresses of one family: 4
// or 6. The error is a *finding.Problem.
func (c *Client) Standing(ctx context.Context, server string, family int) (Standing, error) {
	var s Standing
	over, err := c.Over(family)
	if err != nil {
		return s, c.fail(ctx, err)
	}
	if s.Caller, err = over.Caller(ctx); err != nil {
		return s, err
	}
	s.List, err = c.Admissions(ctx, server)
	return s, err
}
