package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// withKind gives the text of a flag, with the kind of value that it takes: for a flag of a
// setting, the setting's.
func withKind(name string) string {
	about := meaningOf(name)
	if of := profile.Flagged(name); !strings.Contains(about, "`") && len(of) > 0 {
		return "`" + of[0].Value + "` " + about
	}
	return about
}

// settingFlag makes the flag of a setting; take is called with each of its values.
func (f flagSet) settingFlag(s profile.Setting, take func(text string) error) {
	about := meaningOf(s.Flag)
	if !strings.Contains(about, "`") {
		about = "`" + s.Value + "` " + about
	}
	f.takingFlag(s.Flag, about, take)
}

func (f flagSet) takingFlag(name, about string, take func(text string) error) {
	f.set.Func(name, about, func(text string) error {
		if err := take(text); err != nil {
			return fmt.Errorf("%s--%s: %w", world.FlagMark, name, err)
		}
		return nil
	})
}

// onFlag makes a flag that is given or not.
func (f flagSet) onFlag(name string, into *bool) { f.set.BoolVar(into, name, false, meaningOf(name)) }

// textFlag makes a flag that takes a text.
func (f flagSet) textFlag(name string, into *string) { f.set.StringVar(into, name, "", withKind(name)) }

// eachFlag makes a flag that may be repeated; take is called with each of its values. Its errors
// are for people and follow the flag's name.
func (f flagSet) eachFlag(name string, take func(text string) error) {
	f.takingFlag(name, withKind(name), take)
}

// listFlag makes a flag that may be repeated.
func (f flagSet) listFlag(name string, into *[]string) {
	f.eachFlag(name, func(text string) error {
		*into = append(*into, text)
		return nil
	})
}

// numberFlag makes a flag that takes a number from least to most; usual is what holds without it,
// 0 for nothing to say.
func (f flagSet) numberFlag(name string, least, most, usual int, into *int) {
	about := meaningOf(name) + fmt.Sprintf(", a `NUMBER` from %d to %d", least, most)
	if usual != 0 {
		about += fmt.Sprintf(" (default %d)", usual)
	}
	f.set.Func(name, about, func(text string) error {
		n, err := strconv.Atoi(text)
		if err != nil || n < least || n > most {
			return fmt.Errorf("%s--%s takes a number from %d to %d, such as --%s %d", world.FlagMark, name,
				least, most, name, max(least, min(most, 5)))
		}
		*into = n
		return nil
	})
}

// sizeFlag makes a flag that takes a number of bytes, with KB, MB or GB after it.
func (f flagSet) sizeFlag(name string, into *int) {
	f.set.Func(name, meaningOf(name)+fmt.Sprintf(", a `SIZE` such as 200MB (default %s; at most %s)",
		engine.Size(engine.UsualLargest), engine.Size(engine.MostLargest)), func(text string) error {
		digits, unit := text, 1
		for suffix, times := range map[string]int{"KB": 1 << 10, "MB": 1 << 20, "GB": 1 << 30} {
			if before, is := strings.CutSuffix(strings.ToUpper(text), suffix); is {
				digits, unit = before, times
			}
		}
		n, err := strconv.Atoi(digits)
		if err != nil || n < 1 || n > engine.MostLargest/unit {
			return fmt.Errorf("%s--%s takes a size up to %s, such as --%s 200MB", world.FlagMark, name,
				engine.Size(engine.MostLargest), name)
		}
		*into = n * unit
		return nil
	})
}

// spanFlag makes a flag that takes a time with its unit, longer than none; usual is what holds
// without it, 0 for nothing to say.
func (f flagSet) spanFlag(name string, usual time.Duration, into *time.Duration) {
	*into = usual
	about := meaningOf(name) + ", a `TIME` such as 30s, 10m or 8h"
	if usual != 0 {
		about += " (default " + inShort(usual) + ")"
	}
	f.set.Func(name, about, func(text string) error {
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 {
			return fmt.Errorf("%s--%s: write a time with its unit, such as 30s", world.FlagMark, name)
		}
		*into = d
		return nil
	})
}

// closedFlag is the value of a flag that takes one of some words. Completion offers them.
type closedFlag struct {
	name  string
	words []string
	into  *string
}

func (w *closedFlag) String() string { return "" }

// Set takes a word that is one of them.
func (w *closedFlag) Set(text string) error {
	if !slices.Contains(w.words, text) {
		near := profile.Nearest(text, w.words)
		if near == "" {
			near = w.words[0]
		}
		return errors.New(world.FlagMark + "--" + w.name + " takes " + profile.Or(w.words) + ", such as --" +
			w.name + " " + near)
	}
	*w.into = text
	return nil
}

// wordFlag makes a flag that takes one of some words; usual is the one that holds without it, ""
// for nothing to say.
func (f flagSet) wordFlag(name string, words []string, usual string, into *string) {
	about := meaningOf(name) + ": " + profile.Or(words)
	if usual != "" {
		about += " (default " + usual + ")"
	}
	f.set.Var(&closedFlag{name, words, into}, name, about)
}

// described gives the kind of value that a flag takes, "" for none, and what the flag is about,
// with its default.
func described(f *flag.Flag) (value, about string) {
	about = f.Usage
	if before, rest, is := strings.Cut(about, "`"); is {
		name, after, _ := strings.Cut(rest, "`")
		if value = name; before == "" {
			return value, strings.TrimSpace(after) // it begins with the kind of value alone
		}
		if strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == "" {
			name = strings.ToLower(name)
		}
		return value, before + name + after
	}
	if _, closed := f.Value.(*closedFlag); closed {
		return "WORD", about
	}
	if getter, is := f.Value.(flag.Getter); is {
		if span, is := getter.Get().(time.Duration); is {
			if span > 0 {
				about += " (default " + inShort(span) + ")"
			}
			return "TIME", about
		}
	}
	return "", about
}

// inShort writes a span of time without units of zero: 1m0s is 1m.
func inShort(span time.Duration) string {
	text := span.String()
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, zero) {
			text = text[:len(text)-2]
		}
	}
	return text
}

// exampleOf gives a flag with a value that it takes.
func exampleOf(f *flag.Flag) string {
	flag := "--" + f.Name
	kind, _ := described(f)
	if closed, is := f.Value.(*closedFlag); is {
		return flag + " " + closed.words[0]
	}
	value := exampleValues()[flag]
	if value == "" {
		value = exampleValues()[kind]
	}
	if kind == "" || value == "" {
		return flag
	}
	return flag + " " + value
}
