package talk

import (
	"slices"
	"sort"
	"strings"
	"unicode"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
)

// MostOffered is how many words are offered together.
const MostOffered = 60

// Names are the names of what a server has, for completion.
type Names struct {
	quote byte // around a name that is not plain
	words []name
}

type name struct {
	lower string // as it is looked for
	word  string // as it is typed
	about string
}

// NewNames makes an empty list for an engine's language.
func NewNames(l engine.Language) *Names {
	n := &Names{quote: '"'}
	if l.Names != "" {
		n.quote = l.Names[0]
	}
	return n
}

// Add adds a name of a kind, such as "table", with what is before it, such as its schema, "" for
// nothing. A name that cannot be shown is left out.
func (n *Names) Add(about, before, text string) {
	if text == "" || !outside.Clean(text) || !outside.Clean(before) {
		return
	}
	word := n.written(text)
	n.words = append(n.words, name{strings.ToLower(text), word, about})
	if before != "" {
		n.words = append(n.words, name{strings.ToLower(before + "." + text), n.written(before) + "." + word, about})
	}
}

// Done sorts what was added.
func (n *Names) Done() {
	slices.SortFunc(n.words, func(a, b name) int {
		if d := strings.Compare(a.lower, b.lower); d != 0 {
			return d
		}
		return strings.Compare(a.word+a.about, b.word+b.about)
	})
	n.words = slices.CompactFunc(n.words, func(a, b name) bool { return a.word == b.word })
}

// written gives a name as a statement has it: in quotes where it is not plain.
func (n *Names) written(text string) string {
	for i, r := range text {
		lower := r == '_' || r >= 'a' && r <= 'z' || i > 0 && (r >= '0' && r <= '9' || r == '$')
		if !lower && (n.quote == '"' || r < 'A' || r > 'Z') {
			q := string(n.quote)
			return q + strings.ReplaceAll(text, q, q+q) + q
		}
	}
	return text
}

// Offer is a word that can stand where the last one of a text begins.
type Offer struct{ Word, About string }

// Offers gives the words that can end a text, and the byte where its last word begins: words that
// begin statements where one can begin, and names.
func (n *Names) Offers(l engine.Language, text string) (offers []Offer, from int) {
	from = len(text)
	for from > 0 {
		r := []rune(text[max(0, from-4):from])
		c := r[len(r)-1]
		if c != '_' && c != '$' && c != '.' && !unicode.IsLetter(c) && !unicode.IsDigit(c) {
			break
		}
		from -= len(string(c))
	}
	begin := strings.ToLower(text[from:])
	if begin == "" {
		return nil, from
	}
	before := strings.TrimSpace(text[:from])
	if before == "" || strings.HasSuffix(before, ";") {
		for _, word := range l.Begins {
			if strings.HasPrefix(word, begin) {
				offers = append(offers, Offer{word, ""})
			}
		}
		return offers, from
	}
	if n == nil {
		return nil, from
	}
	if from > 0 && text[from-1] == n.quote { // a name in quotes is begun
		from--
		begin = string(n.quote) + begin
		for _, each := range n.words {
			if strings.HasPrefix(strings.ToLower(each.word), begin) && len(offers) < MostOffered {
				offers = append(offers, Offer{each.word, each.about})
			}
		}
		return offers, from
	}
	at := sort.Search(len(n.words), func(i int) bool { return n.words[i].lower >= begin })
	for ; at < len(n.words) && strings.HasPrefix(n.words[at].lower, begin) && len(offers) < MostOffered; at++ {
		offers = append(offers, Offer{n.words[at].word, n.words[at].about})
	}
	return offers, from
}

// WordOffers gives the words that can end a text which begins with the lead word, from the lists
// that come at each place.
func WordOffers(text string, next func(before []string) []string) (offers []Offer, from int) {
	from = strings.LastIndexAny(text, " \t\n") + 1
	for _, word := range next(strings.Fields(text[:from])) {
		if strings.HasPrefix(word, text[from:]) {
			offers = append(offers, Offer{word, ""})
		}
	}
	return offers, from
}
