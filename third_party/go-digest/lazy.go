package digest

import (
	"regexp"
	"sync"
)

// lazyRegexp is a regular expression that is compiled when it is first used. Upstream compiles all of them when a program starts.
type lazyRegexp struct{ compiled func() *regexp.Regexp }

func lazily(pattern string) *lazyRegexp {
	return &lazyRegexp{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })}
}

// MatchString is that of regexp.Regexp.
func (l *lazyRegexp) MatchString(s string) bool { return l.compiled().MatchString(s) }
