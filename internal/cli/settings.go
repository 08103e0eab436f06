package cli

import (
	"flag"
	"fmt"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// declareSettings makes a flag of each setting that a command takes; its value goes into a layer.
func declareSettings(fs *flag.FlagSet, cmd *command, into profile.Layer) {
	shared := map[string]bool{}
	for _, s := range profile.Settings {
		if !cmd.takes(s) || shared[s.Flag] {
			continue
		}
		if len(profile.Flagged(s.Flag)) > 1 {
			shared[s.Flag] = true
			fs.Func(s.Flag, "a fact that a test must show, such as superuser=false; may be repeated", func(text string) error {
				if err := takeKeyed(into, s.Flag, text); err != nil {
					return fmt.Errorf("%s--%s: %v", world.FlagMark, s.Flag, err)
				}
				return nil
			})
			continue
		}
		fs.Func(s.Flag, s.About, func(text string) error {
			if err := harbor.Take(into, s, text, profile.Origin{Layer: profile.LayerFlag, Name: "--" + s.Flag}); err != nil {
				return fmt.Errorf("%s--%s: %v", world.FlagMark, s.Flag, err)
			}
			return nil
		})
	}
}

// takeKeyed reads KEY=VALUE for a flag that several settings share; a list's items are between commas, or in flags of their
// own.
func takeKeyed(layer profile.Layer, flag, text string) error {
	key, value, ok := strings.Cut(text, "=")
	var keys []string
	for _, s := range profile.Flagged(flag) {
		_, own, _ := strings.Cut(s.Name, ".")
		keys = append(keys, own)
		if !ok || own != strings.TrimSpace(key) {
			continue
		}
		origin := profile.Origin{Layer: profile.LayerFlag, Name: "--" + flag}
		if !s.IsList() {
			return harbor.Take(layer, s, value, origin)
		}
		for item := range strings.SplitSeq(value, ",") {
			if err := harbor.Take(layer, s, strings.TrimSpace(item), origin); err != nil {
				return err
			}
		}
		return nil
	}
	return fmt.Errorf("wants NAME=VALUE, NAME being one of %s", strings.Join(keys, ", "))
}
