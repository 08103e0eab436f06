package clouds

import (
	"context"
	"errors"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// CloudState is an account, and how it stands.
type CloudState struct {
	Account string `json:"account"`
	URL     string `json:"url"`
	Signed  bool   `json:"signed_in"`
	Who     string `json:"who,omitempty"`
	Since   string `json:"since,omitempty"`
	Caller  string `json:"caller,omitempty"`
	// Broken says what is wrong with the account or its sign-in, "" for nothing.
	Broken   string           `json:"broken,omitempty"`
	Finding  *finding.Finding `json:"finding,omitempty"`
	LeftOver []LeftOver       `json:"left_over"`
}

// CloudStatus says of each account who is signed in, and which admissions are left over. With ask
// false no cloud is asked.
func (r Clouds) CloudStatus(ctx context.Context, ask bool) ([]CloudState, error) {
	list, err := r.Accounts()
	if err != nil {
		return nil, err
	}
	states := []CloudState{}
	for _, name := range list.Names() {
		state, err := r.stateOf(ctx, list, name, ask)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var failed *Failed
		if errors.As(err, &failed) {
			state.Finding = &failed.Finding
		} else if err != nil {
			state.Broken = outside.Text(err.Error())
		}
		states = append(states, state)
	}
	return states, nil
}

// stateOf says how an account stands, as far as it can be seen.
func (r Clouds) stateOf(ctx context.Context, list cloud.Accounts, name string, ask bool) (CloudState, error) {
	state := CloudState{Account: name, LeftOver: []LeftOver{}}
	a, err := list.Load(name)
	if err != nil {
		return state, err
	}
	state.URL = a.Origin.String()
	c, err := r.ClientOf(a)
	if err != nil {
		return state, err
	}
	signed, in, err := c.Session.Who()
	if state.Signed = in; !in {
		return state, err
	}
	state.Who, state.Since = outside.Cell(signed.Who), signed.Since.Format("2006-01-02T15:04:05Z07:00")
	if !ask {
		return state, err
	}
	left, caller, failed := r.leftOver(ctx, c)
	if failed != nil {
		return state, Word(failed)
	}
	state.LeftOver, state.Caller = left, caller
	return state, err
}
