package engine

// Wild are the signs of a pattern: one for any letters, one for a single letter, and one by which
// a sign stands for itself, 0 for none.
type Wild struct{ Many, One, Itself rune }

// Fits reports whether a text fits a pattern. It goes through the text once, and back to the last
// sign for many where something does not fit.
func (w Wild) Fits(pattern, text string) bool {
	p, t := []rune(pattern), []rune(text)
	many, from := -1, 0
	i, j := 0, 0
	for j < len(t) {
		itself := i < len(p) && w.Itself != 0 && p[i] == w.Itself
		switch {
		case itself && i+1 < len(p) && p[i+1] == t[j]:
			i, j = i+2, j+1
		case i < len(p) && p[i] == w.Many:
			many, from = i, j
			i++
		case i < len(p) && !itself && (p[i] == w.One || p[i] == t[j]):
			i, j = i+1, j+1
		case many >= 0:
			from++
			i, j = many+1, from
		default:
			return false
		}
	}
	for i < len(p) && p[i] == w.Many {
		i++
	}
	return i == len(p)
}
