package world_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

func script(lines ...string) *worldtest.Script {
	s := &worldtest.Script{}
	for i := 0; i < len(lines); i += 2 {
		s.Lines = append(s.Lines, [2]string{lines[i], lines[i+1]})
	}
	return s
}

func TestYes(t *testing.T) {
	for _, c := range []struct {
		answer    string
		otherwise bool
		want      bool
	}{{"yes", false, true}, {"y", false, true}, {"", false, false}, {"", true, true}, {"no", true, false},
		{"what", true, false}} {
		s := script("Remove it? (yes, no)", c.answer)
		if got, err := world.Yes(t.Context(), s, "Remove it?", c.otherwise); err != nil || got != c.want {
			t.Errorf("%q: %v, %v", c.answer, got, err)
		}
		if want := map[bool]string{true: "[yes]", false: "[no]"}[c.otherwise]; !strings.Contains(s.Log[0], want) {
			t.Errorf("the prompt is %q", s.Log[0])
		}
	}
	if _, err := world.Yes(t.Context(), script(), "x", true); !errors.Is(err, world.ErrLeft) {
		t.Errorf("%v", err)
	}
}

func TestSecret(t *testing.T) {
	for _, c := range []struct {
		lines []string
		given bool
		text  string
	}{
		{[]string{"Password", " with spaces "}, true, " with spaces "},
		{[]string{"Password", "", "Is there no password", "none"}, false, ""},
		{[]string{"Password", "", "Is there no password", "empty"}, true, ""},
		{[]string{"Password", "", "Is there no password", "", "Password", "x"}, true, "x"},
	} {
		p := script(c.lines...)
		if s, err := world.Secret(t.Context(), p, "Password of x"); err != nil || s.Given() != c.given ||
			s.Reveal() != c.text || len(p.Lines) > 0 {
			t.Errorf("%q: %v %s", c.lines, err, p.Wrong)
		}
	}
	p := script("Once more", "b", "Once more", "a")
	if same, err := world.Again(t.Context(), p, "a"); same || err != nil || p.Log[1] != "The two are not the same." {
		t.Errorf("%v %v %q", same, err, p.Log)
	}
	if same, err := world.Again(t.Context(), p, "a"); !same || err != nil {
		t.Errorf("%v %v", same, err)
	}
}

// TestTyped uses what was typed for its own target, and offers it for others of the same user and
// place.
func TestTyped(t *testing.T) {
	dest := func(user, database, tls string) target.Target {
		return target.Target{User: user, TLS: tls, Endpoint: target.Endpoint{Host: "h", Port: 1, Database: database}}
	}
	asked, offered := 0, 0
	answer := true
	typed := &world.Typed{}
	ask := typed.Asking(func(context.Context, target.Target) (secret.Secret, error) {
		asked++
		return secret.New(strings.Repeat("x", asked)), nil
	}, func(_ context.Context, before, now target.Target) (bool, error) {
		offered++
		return answer, nil
	})
	for i, c := range []struct {
		dest           target.Target
		answer         bool
		asked, offered int
		text           string
	}{
		{dest("u", "a", "off"), true, 1, 0, "x"}, {dest("u", "a", "off"), true, 1, 0, "x"},
		{dest("u", "b", "off"), true, 1, 1, "x"}, {dest("u", "b", "off"), true, 1, 1, "x"},
		{dest("u", "a", "verify"), false, 2, 2, "xx"}, {dest("other", "a", "off"), true, 3, 2, "xxx"},
	} {
		answer = c.answer
		if s, err := ask(t.Context(), c.dest); err != nil || s.Reveal() != c.text || asked != c.asked ||
			offered != c.offered {
			t.Errorf("%d: %v, asked %d, offered %d", i, err, asked, offered)
		}
	}
	if s, was := typed.Of(dest("u", "b", "off")); !was || s.Reveal() != "x" {
		t.Error("what was typed is gone")
	}
	if _, was := typed.Of(dest("u", "c", "off")); was {
		t.Error("what was not typed is there")
	}
	typed.Forget()
	if _, was := typed.Of(dest("u", "a", "off")); was {
		t.Error("it is not forgotten")
	}
}
