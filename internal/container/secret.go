package container

import (
	"fmt"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// Secret gives the secret for a user of the container's server that may be sent to it: what a
// store keeps must be kept for this very container, and what the container itself holds is read
// from its variables. A Secret that is not Given means that the server asks for none. The error
// is a *finding.Problem.
func (l *Lookup) Secret(user string, s secret.Secret, source secret.Source) (secret.Secret, error) {
	if kept := source.Kept; kept != nil && kept.Container != "" {
		dest := *kept
		dest.Defined, dest.Database = l.Defined(), kept.Database
		if differs := kept.Differs(dest); len(differs) > 0 {
			return secret.Secret{}, secret.Changed("the "+string(source.Kind), string(source.Kind), kept.User, differs)
		}
	}
	if source.Kind != secret.Container {
		return s, nil
	}
	var users []string
	none := func(facts finding.Facts, format string, args ...any) (secret.Secret, error) {
		facts[finding.FactDetail] = fmt.Sprintf(format, args...)
		return secret.Secret{}, &finding.Problem{Code: finding.SecretContainerHasNone, Facts: facts}
	}
	for _, account := range l.ProfileAccounts() {
		if account.User != user {
			users = append(users, account.User)
			continue
		}
		switch {
		case account.Password.Given():
			return account.Password, nil
		case account.Why == "trust":
			return secret.Secret{}, nil
		case account.Why == "random":
			return none(finding.Facts{},
				"The variables of the container %s do not say the password of %s: the server made one up at its "+
					"first start, and wrote it to its log.",
				l.Name, user)
		case account.File != "":
			return none(finding.Facts{},
				"The variables of the container %s do not say the password of %s: %s names a file inside it.",
				l.Name, user, outside.Cell(account.From))
		}
	}
	switch {
	case len(users) > 0:
		return none(finding.Facts{finding.FactNearUser: users[0]},
			"The variables of the container %s are for the user %s, and this connection logs in as %s.",
			l.Name, strings.Join(users, " and "), user)
	}
	return none(finding.Facts{}, "The variables of the container %s name no password of %s.", l.Name, user)
}

// ProfileAccounts are those of the image's engine, or of the profile's where the image is not a
// well-known one.
func (l *Lookup) ProfileAccounts() []Account {
	if _, known := EngineOf(l.Repository); known {
		return l.Accounts()
	}
	return AccountsOf(l.of.Info.Image, l.Variables())
}
