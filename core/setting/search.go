// This file finds definitions by plain words.

package setting

import (
	"cmp"
	"slices"
	"strings"
)

// Search ranks definitions by how well they fit the words; without words all are given, by id. A definition fits when
// each word begins a word of its title, keywords, id, options, area or help; where it stands counts in that order.
func Search(definitions []Definition, words string) []*Definition {
	type hit struct {
		*Definition
		score int
	}
	wanted := wordsOf(words)
	var hits []hit
	for i := range definitions {
		if score, fits := definitions[i].fit(wanted, strings.ToLower(strings.TrimSpace(words))); fits {
			hits = append(hits, hit{&definitions[i], score})
		}
	}
	slices.SortFunc(hits, func(a, b hit) int { return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.ID, b.ID)) })
	out := make([]*Definition, len(hits))
	for i, h := range hits {
		out[i] = h.Definition
	}
	return out
}

// small words say nothing about what is looked for.
var small = map[string]bool{"a": true, "an": true, "the": true, "to": true, "of": true, "in": true, "on": true, "for": true, "can": true, "is": true, "my": true, "our": true}

func wordsOf(text string) []string {
	words := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127)
	})
	kept := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return small[w] })
	if len(kept) == 0 {
		return words
	}
	return kept
}

func (d *Definition) fit(wanted []string, phrase string) (score int, fits bool) {
	fields := []struct {
		words  []string
		weight int
	}{
		{wordsOf(d.Title), 8}, {wordsOf(strings.Join(d.Keywords, " ")), 7}, {wordsOf(string(d.ID)), 6}, {wordsOf(strings.Join(d.Options, " ")), 3}, {wordsOf(d.Area), 3}, {wordsOf(d.Help), 1},
	}
	for _, w := range wanted {
		best := 0
		for _, f := range fields {
			for _, have := range f.words {
				switch {
				case have == w:
					best = max(best, f.weight*2)
				case strings.HasPrefix(have, w):
					best = max(best, f.weight)
				}
			}
		}
		if best == 0 {
			return 0, false
		}
		score += best
	}
	if strings.ToLower(string(d.ID)) == phrase {
		score += 80
	}
	for _, k := range d.Keywords { // a phrase that people are known to search for
		if phrase != "" && strings.ToLower(k) == phrase {
			score += 40
		}
	}
	return score, true
}
