package engine

// Lexical says how an engine's statements are written, as far as it takes to find where one ends.
type Lexical struct {
	// Quotes are the characters between which anything may stand, and Names those of them that
	// are for names. Backslash says that a backslash in a text spares the next character, Escapes
	// that it does in a text with an E before it.
	Quotes, Names      string
	Backslash, Escapes bool
	// Dollar says that $tag$ … $tag$ is a quote, Nested that comments in /* */ hold others, Hash
	// that # begins a comment.
	Dollar, Nested, Hash bool
	// Spaced says that -- begins a comment only before a space or a control character: 5--3 is a
	// number less a negative one.
	Spaced bool
}

// TokenKind says what a part of a text of statements is.
type TokenKind int

// The kinds of tokens.
const (
	Mark    TokenKind = iota // one character, such as a bracket, or digits
	Word                     // letters, digits, _ and $
	Space                    // spaces and line ends
	Quoted                   // a text or a name in quotes
	Comment                  // to the end of its line, or between /* and */
)

// Token gives the length of the token that a text begins with, and its kind. The text begins
// where a token does. A length of 0 asks for more of a text that is not whole yet. What is not
// closed goes to the end of a whole text: the server says so.
func Token[T string | []byte](l Lexical, text T, whole bool) (n int, kind TokenKind) {
	if len(text) == 0 {
		return 0, Space
	}
	end := func(n int, closed bool, kind TokenKind) (int, TokenKind) {
		if !closed && !whole {
			return 0, kind
		}
		return n, kind
	}
	at := func(i int) byte {
		if i < len(text) {
			return text[i]
		}
		return 0
	}
	c := text[0]
	if len(text) < 3 && !whole { // two characters may say what the first one is
		return 0, Mark
	}
	switch {
	case blank(c):
		n = 1
		for n < len(text) && blank(text[n]) {
			n++
		}
		return n, Space
	case c == '-' && at(1) == '-' && (!l.Spaced || len(text) == 2 || text[2] <= ' '), l.Hash && c == '#':
		for n = 1; n < len(text) && text[n] != '\n'; n++ {
		}
		if n < len(text) {
			return n + 1, Comment
		}
		return end(n, false, Comment)
	case c == '/' && at(1) == '*':
		n, closed := l.block(len(text), at)
		return end(n, closed, Comment)
	case l.Dollar && c == '$':
		n, closed, is := dollar(len(text), at)
		switch {
		case is:
			return end(n, closed, Quoted)
		case !closed && !whole:
			return 0, Quoted
		}
		return 1, Mark
	case l.Escapes && (c == 'e' || c == 'E') && at(1) == '\'':
		n, closed := quoted(text, 1, true)
		return end(n, closed, Quoted)
	case l.quotes(c):
		n, closed := quoted(text, 0, l.Backslash && !l.names(c))
		return end(n, closed, Quoted)
	case wordly(c):
		for n = 1; n < len(text) && (wordly(text[n]) || text[n] >= '0' && text[n] <= '9' || text[n] == '$'); n++ {
		}
		return end(n, n < len(text), Word)
	}
	if c >= '0' && c <= '9' { // a number is one
		for n = 1; n < len(text) && text[n] >= '0' && text[n] <= '9'; n++ {
		}
		return end(n, n < len(text), Mark)
	}
	return 1, Mark
}

func blank(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

func wordly(c byte) bool { return c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 }

func (l Lexical) quotes(c byte) bool {
	for i := range len(l.Quotes) {
		if l.Quotes[i] == c {
			return true
		}
	}
	return false
}

// names reports whether a quote is one of names, in which a backslash is a character like any
// other.
func (l Lexical) names(c byte) bool {
	for i := range len(l.Names) {
		if l.Names[i] == c {
			return true
		}
	}
	return false
}

// quoted gives the end of what is between two quotes, of which the first one is at from. Two
// quotes are one of the text.
func quoted[T string | []byte](text T, from int, backslash bool) (n int, closed bool) {
	quote := text[from]
	for n = from + 1; n < len(text); n++ {
		switch c := text[n]; {
		case c != quote && c != '\\':
		case c == '\\':
			if backslash {
				n++
			}
		case n+1 < len(text) && text[n+1] == quote:
			n++
		default:
			return n + 1, n+1 < len(text) // the next character may be a quote, too
		}
	}
	return len(text), false
}

// block gives the end of a comment between /* and */.
func (l Lexical) block(size int, at func(int) byte) (n int, closed bool) {
	depth := 1
	for n = 2; n < size; n++ {
		switch c := at(n); {
		case l.Nested && c == '/' && at(n+1) == '*':
			depth, n = depth+1, n+1
		case c == '*' && at(n+1) == '/':
			if depth, n = depth-1, n+1; depth == 0 {
				return n + 1, true
			}
		}
	}
	return size, false
}

// dollar gives the end of a quote between two tags such as $x$ ("Dollar-Quoted String Constants",
// PostgreSQL's manual); is is false where no tag begins.
func dollar(size int, at func(int) byte) (n int, closed, is bool) {
	tag := 1
	for ; tag < size && at(tag) != '$'; tag++ {
		if c := at(tag); !wordly(c) && (tag == 1 || c < '0' || c > '9') {
			return 0, true, false
		}
	}
	if tag == size {
		return 0, false, false
	}
	for n = tag + 1; n < size; n++ {
		if at(n) != '$' {
			continue
		}
		same := 1
		for same <= tag && at(n+same) == at(same) && n+same < size {
			same++
		}
		if same > tag {
			return n + tag + 1, true, true
		}
	}
	return size, false, true
}
