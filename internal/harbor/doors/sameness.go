package doors

import (
	"context"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
)

// sameness keeps what was met when a door was opened, and compares it with what is there at each
// of the door's connections, before a byte passes.
type sameness struct {
	run      harbor.Run
	to       harbor.Aim
	name     string // the profile's
	checker  checkup.Checker
	identity string // the server's own; "" where it did not show one
	expects  bool   // the profile expects something of each session, and a login showed that it holds

	mu      sync.Mutex
	marks   string // what is known of the server before a login (route.Address)
	pinned  bool   // the marks are those of a good test; else they are those of the first connection
	refused error  // what kept the identity from being asked for, by a login that is not tried again
}

// look is a [door.Keeping]'s Same.
func (s *sameness) look(ctx context.Context, path *route.Path, c route.Connected, sure bool) error {
	s.mu.Lock()
	if !s.pinned {
		s.marks, s.pinned = c.At.Marks, true
	}
	marks := s.marks
	s.mu.Unlock()
	if what := route.Changes(marks, c.At.Marks); len(what) > 0 {
		code := finding.AliasChanged
		switch e := s.to.Effective; {
		case e.InContainer():
			code = finding.ContainerChanged
		case e.InCloud():
			code = finding.CloudServerChanged
		}
		return changed(code, what)
	}
	if s.to.Effective.Alias != "" {
		if now, err := s.run.DefinitionOf(s.name); err != nil || now != s.to.Effective.Target().Defined.String() {
			return changed(finding.AliasChanged, []string{"its definition in the file of aliases"})
		}
	}
	if s.identity == "" && !s.expects || sure {
		return nil
	}
	return s.identified(ctx, path, c)
}

func changed(code finding.Code, what []string) error {
	return &door.Lasting{Err: &finding.Problem{Code: code,
		Facts: finding.Facts{finding.FactDetail: outside.Text(strings.Join(what, ", ")) + " is another one"}}}
}

// refusing are findings of a server that has looked at the login and does not want it.
var refusing = []finding.Code{
	finding.LoginRefused, finding.LoginLocked, finding.LoginPasswordExpired, finding.LoginWouldShowPassword,
	finding.LoginMethodNotSupported, finding.LoginTooFewRounds, finding.LoginServerUnproven,
	finding.LoginPasswordWanted,
}

func anotherServer(was, is string) *finding.Problem {
	return &finding.Problem{Code: finding.ExpectAnotherServer,
		Facts: finding.Facts{finding.FactWanted: was, finding.FactFound: is}}
}

// identified logs in to the server at an address, compares its identity, and looks whether what
// the profile expects still holds.
func (s *sameness) identified(ctx context.Context, path *route.Path, c route.Connected) error {
	s.mu.Lock()
	defer s.mu.Unlock() // one login serves all clients that wait for it
	if s.refused != nil {
		return s.refused
	}
	asking := s.checker
	asking.NoEvidence, asking.History = true, checkup.Remembered{Last: &checkup.Past{Identity: s.identity}}
	at := c.At
	at.Dial = path.Dialer(c.At)
	asking.Door = &checkup.Through{At: at}
	session, report, err := asking.Open(ctx, s.to.Admitted.WithoutOpening())
	if session != nil {
		session.Close()
	}
	switch {
	case err != nil:
		return err
	case !report.OK:
		problem := error(&finding.Problem{Code: report.Finding.Code,
			Facts: finding.Facts{finding.FactDetail: report.Finding.Cause, finding.FactUnmet: report.Unmet()}})
		if report.Finding.Code.Leg() == "expect" {
			problem = &door.Lasting{Err: problem} // it may hold again at the next client
		}
		if slices.Contains(refusing, report.Finding.Code) {
			problem = &door.Lasting{Err: problem}
			s.refused = problem // a refused answer is not sent again
		}
		return problem
	case s.identity != "" && report.Server != nil && report.Server.Identity != s.identity:
		return &door.Lasting{Err: anotherServer(s.identity, report.Server.Identity)}
	}
	return nil
}
