package harbor

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// takeIn reads connection details from where a word says: a file or a folder, or what [Run.taken]
// takes.
func (r Run) takeIn(ctx context.Context, word, variable string) (profile.Parsed, error) {
	if word == "-" || profile.IsConnectionString(word) {
		return r.taken(ctx, word, variable)
	}
	path := r.Path(word)
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return profile.Parsed{}, world.Wrong("%s is neither a connection string (scheme://…) nor a file or folder",
			world.Clip(word))
	}
	if err != nil {
		return profile.Parsed{}, world.Wrong("%s cannot be read: %v", world.Clip(word), err)
	}
	if info.IsDir() {
		return r.answered(ctx, world.Clip(word), func(how profile.Reading) (profile.Parsed, error) {
			return profile.TakeBinding(path, how)
		})
	}
	data, err := files.ReadNamed(ctx, path, profile.MaxFile)
	if err != nil {
		return profile.Parsed{}, world.Wrong("%s cannot be read: %v", world.Clip(word), err)
	}
	return r.answered(ctx, world.Clip(word), func(how profile.Reading) (profile.Parsed, error) {
		how.Variable = cmp.Or(how.Variable, variable)
		return profile.TakeIn(string(data), how)
	})
}

// taken takes the details of a connection that a word holds, or standard input where it is "-".
func (r Run) taken(ctx context.Context, word, variable string) (profile.Parsed, error) {
	return r.given(ctx, word, func(text string, how profile.Reading) (profile.Parsed, error) {
		how.Variable = cmp.Or(how.Variable, variable)
		return profile.TakeIn(text, how)
	})
}

// given has details read that a word holds, or standard input where it is "-". A password in a
// word is warned of.
func (r Run) given(ctx context.Context, word string,
	read func(text string, how profile.Reading) (profile.Parsed, error)) (profile.Parsed, error) {
	text, about := word, "what was given"
	if word == "-" {
		all, err := r.ReadAll(profile.MaxFile)
		if err != nil {
			return profile.Parsed{}, world.Wrong("standard input could not be read: %v", err)
		}
		text, about = strings.TrimSpace(all), "standard input"
	}
	parsed, err := r.answered(ctx, about, func(how profile.Reading) (profile.Parsed, error) { return read(text, how) })
	if err == nil && word != "-" && parsed.Secret.Given() && parsed.Secret.Reveal() != "" {
		r.Note("other users of this machine could have seen the password in this command; give - instead and " +
			"pass the connection string on standard input")
	}
	return parsed, err
}

// answered reads details, and asks a person what must be decided: which of several connections to
// take, and whether to do without a parameter that makes the connection stricter. Where nobody
// can be asked, that is an error.
func (r Run) answered(ctx context.Context, from string,
	read func(profile.Reading) (profile.Parsed, error)) (profile.Parsed, error) {
	var how profile.Reading
	for {
		parsed, err := read(how)
		var several *profile.Several
		var stricter *profile.Stricter
		switch {
		case err == nil:
			return parsed, r.clouds().NamedServer(ctx, &parsed)
		case r.Who.Here() && errors.As(err, &several):
			r.Who.Say("There are several connections: " + outside.Cell(strings.Join(several.Names, ", ")) + ".")
			for how.Variable = ""; !slices.Contains(several.Names, how.Variable); {
				if how.Variable, err = r.Who.Ask(ctx,
					"Which one, by its variable ["+outside.Cell(several.Names[0])+"]: "); err != nil {
					return parsed, err
				}
				how.Variable = cmp.Or(how.Variable, several.Names[0])
			}
		case r.Who.Here() && errors.As(err, &stricter):
			r.Who.Say(outside.Cell(stricter.Error()) + ".")
			yes, err := world.Yes(ctx, r.Who, "Go on without?", false)
			if err != nil {
				return parsed, err
			}
			if !yes {
				return parsed, world.Wrong("%s: %v", from, stricter)
			}
			how.Without = append(how.Without, stricter.Names...)
		default:
			return parsed, world.Wrong("%s: %v", from, err)
		}
	}
}
