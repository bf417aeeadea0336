// Package search finds definitions of the dictionary by plain words. It forgives typing errors and
// knows other forms of a word. A definition is found by its title, keywords, id, options, area and
// help; where a word is says how much it counts.
package search

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// Index finds definitions by words over titles, keywords, ids, options, areas and help. It is
// immutable and safe for concurrent use. A dictionary has some thousand different words, so that
// going through all of them for each word that was typed takes less than a millisecond.
type Index struct {
	definitions []*setting.Definition
	words       []string // every word of a definition, sorted
	forms       []string // of the words
	byForm      map[string][]int
	letters     []uint32     // of the words: which letters they have
	postings    [][]posting  // of the words: the definitions that have it
	phrases     [][][]string // by definition: its keywords, in words
	titles      [][]string   // by definition: the words of its title
}

// posting says that a definition has a word, and how much it counts there.
type posting struct {
	definition int32
	weight     float32
}

// What a word counts by where it is; the highest of several counts.
const (
	inTitle   = 8
	inKeyword = 7
	inID      = 6
	inOption  = 3
	inArea    = 3
	inHelp    = 2.5
)

// How well a word that was typed fits one that is there.
const (
	exactly  = 1.0
	asForm   = 0.9 // another form of the word: sticks, stick
	asPrefix = 0.65
	asTypo   = 0.5 // for each wrong letter
	asMeant  = 0.6 // a word of the trade that means the same
)

// unknownWord is what a word that no definition has counts for among those that were asked for. It
// is little, so that one mistyped word does not hide what fits the others.
const unknownWord = 1.5

// small words say nothing about what is looked for.
var small = func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields("a an the to of in on at by for from with and or but can may must should shall is are be do does " +
		"not no my our we i it its this that who what when where how people person somebody nobody everybody everyone anyone " +
		"someone except " +
		"only all any some them they their there itself himself so soon too just very more most much many which while whom whose " +
		"been being " +
		"has have had get gets let lets make makes made want wants need needs able staff users user employees us as into than " +
		"then up down " +
		"keep running go goes used using use") {
		out[w] = true
	}
	return out
}()

// wordsOf splits a text into lower-case words, at anything that is no letter or digit of ASCII;
// letters beyond ASCII belong to words. Small words are left out unless there are no others.
func wordsOf(text string) []string {
	words := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127)
	})
	// If there are only small words, they are all there is to look for.
	kept := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return small[w] })
	if len(kept) == 0 {
		return words
	}
	return kept
}

// form brings the usual forms of an English word together, well enough for looking things up:
// policies and policy, locked and lock. It does not give words of the language, and is only
// compared with other forms.
func form(word string) string {
	// Endings are tried from the longest on, and the first that fits is cut. What is left must have
	// three letters: "used" is no form of "u". Words in -ss, such as access, are no plurals.
	for _, ending := range []struct{ is, becomes string }{{"ies", "y"}, {"sses", "ss"}, {"ing", ""}, {"ed", ""}, {"es", ""}, {"s", ""}} {
		if stem, cut := strings.CutSuffix(word, ending.is); cut && len(stem) >= 3 && !strings.HasSuffix(word, "ss") {
			return strings.TrimSuffix(stem+ending.becomes, "e")
		}
	}
	return strings.TrimSuffix(word, "e")
}

// New indexes definitions, which must not be altered afterwards. It takes the whole dictionary at
// once.
func New(definitions []setting.Definition) *Index {
	x := &Index{
		definitions: make([]*setting.Definition, len(definitions)),
		phrases:     make([][][]string, len(definitions)),
		titles:      make([][]string, len(definitions)),
		byForm:      map[string][]int{},
	}
	for i := range definitions {
		x.definitions[i] = &definitions[i]
	}
	// Definitions are sorted by id, so that equal scores give the same order every time.
	slices.SortFunc(x.definitions, func(a, b *setting.Definition) int { return cmp.Compare(a.ID, b.ID) })
	// Each word is noted with the definitions that have it, and the highest weight that it has in
	// each.
	places := map[string]map[int32]float32{}
	for i, d := range x.definitions {
		// A word that is in several places counts by the best of them.
		note := func(text string, weight float32) {
			for _, w := range wordsOf(text) {
				if places[w] == nil {
					places[w] = map[int32]float32{}
				}
				places[w][int32(i)] = max(places[w][int32(i)], weight)
			}
		}
		note(d.Title, inTitle)
		x.titles[i] = wordsOf(d.Title)
		for _, k := range d.Keywords {
			note(k, inKeyword)
			x.phrases[i] = append(x.phrases[i], wordsOf(k))
		}
		// An id is words between dots, such as screen.lock_after_minutes.
		note(string(d.ID), inID)
		note(strings.Join(d.Options, " "), inOption)
		note(d.Area, inArea)
		note(d.Help, inHelp)
		for _, c := range d.Columns {
			note(c.Name+" "+c.Title+" "+strings.Join(c.Options, " "), inOption)
		}
	}
	// Words are sorted, so that those with one beginning lie together.
	for w := range places {
		x.words = append(x.words, w)
	}
	slices.Sort(x.words)
	x.postings = make([][]posting, len(x.words))
	x.forms, x.letters = make([]string, len(x.words)), make([]uint32, len(x.words))
	for i, w := range x.words {
		x.forms[i], x.letters[i] = form(w), lettersOf(w)
		x.byForm[x.forms[i]] = append(x.byForm[x.forms[i]], i)
		for definition, weight := range places[w] {
			x.postings[i] = append(x.postings[i], posting{definition, weight})
		}
	}
	return x
}

// Search ranks definitions by how well they fit the words; without words all are given, by id.
// Words may be cut short or mistyped, or others of the same meaning, and not all need to fit:
// whatever has one of them is found, those that have more of them first.
//
// The score of a definition is the sum over the words that were typed of weight × quality × rarity:
// where the word is, how well it fits, and how few definitions have it. The sum is multiplied by
// coverage^1.5, the share of what was asked for that the definition has, and bonuses for whole
// phrases are added. The numbers were chosen by the questions in questions_test.go.
func (x *Index) Search(text string) []*setting.Definition {
	wanted := x.joined(wordsOf(text))
	if len(wanted) == 0 {
		return slices.Clone(x.definitions)
	}
	scores := make([]float64, len(x.definitions))
	fitting := make([]float64, len(x.definitions)) // how much of what was asked for a definition has
	best := make([]float64, len(x.definitions))    // of one word, by definition
	asked := 0.0                                   // how much was asked for: words that few definitions have count more
	var touched []int32
	// Each word that was typed counts once in a definition, by the best place and the best
	// likeness.
	for _, w := range wanted {
		// says is how much the word tells definitions apart; best is by definition what it counts
		// there.
		says := 0.0
		for i, quality := range x.meant(w) {
			// A word that few definitions have says more than one that many have.
			rarity := 1 + math.Log(float64(len(x.definitions)+1)/float64(len(x.postings[i])+1))
			says = max(says, rarity*quality)
			for _, p := range x.postings[i] {
				if best[p.definition] == 0 {
					touched = append(touched, p.definition)
				}
				best[p.definition] = max(best[p.definition], float64(p.weight)*quality*rarity)
			}
		}
		if says == 0 {
			says = unknownWord
		}
		asked += says
		for _, d := range touched {
			scores[d] += best[d]
			// Each word counts once in a definition, whatever number of its places the word fits.
			fitting[d] += says
			best[d] = 0
		}
		touched = touched[:0]
	}
	type hit struct {
		*setting.Definition
		score float64
	}
	var hits []hit
	phrase := strings.ToLower(strings.TrimSpace(text))
	for i, d := range x.definitions {
		if fitting[i] == 0 {
			continue
		}
		// Definitions that have only a part of what was asked for count less than in proportion.
		coverage := fitting[i] / asked
		score := scores[i] * coverage * math.Sqrt(coverage)
		score += x.phraseBonus(i, wanted) + x.titleBonus(i, wanted)
		// Whoever types a whole id or a whole keyword means that setting.
		if strings.ToLower(string(d.ID)) == phrase {
			score += 1000
		}
		if slices.ContainsFunc(d.Keywords, func(k string) bool { return strings.ToLower(k) == phrase }) {
			score += 60
		}
		hits = append(hits, hit{d, score})
	}
	// Of equal scores the shorter id is first: it is the more general setting.
	slices.SortFunc(hits, func(a, b hit) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(len(a.ID), len(b.ID)), cmp.Compare(a.ID, b.ID))
	})
	out := make([]*setting.Definition, 0, len(hits))
	for _, h := range hits {
		if h.score < hits[0].score*0.06 { // far behind the first: it would only hide what fits
			break
		}
		out = append(out, h.Definition)
	}
	return out
}

// joined writes two words as one where that is a word of the dictionary or of the trade, as in help
// desk, and takes a word apart that is none, where both halves are, as in screensaver.
func (x *Index) joined(words []string) []string {
	known := func(w string) bool { return len(x.byForm[form(w)]) > 0 || len(synonyms[form(w)]) > 0 }
	var out []string
	for i := 0; i < len(words); i++ {
		if i+1 < len(words) && known(words[i]+words[i+1]) {
			out = append(out, words[i]+words[i+1])
			i++
			continue
		}
		if w := words[i]; !known(w) {
			// The first way of cutting a word in two that gives two known words is taken.
			if at := slices.IndexFunc(halves(w), func(half [2]string) bool { return known(half[0]) && known(half[1]) }); at >= 0 {
				half := halves(w)[at]
				out = append(out, half[0], half[1])
				continue
			}
		}
		out = append(out, words[i])
	}
	return out
}

// halves gives the ways to take a word of letters apart into two words of four letters and more.
func halves(w string) (out [][2]string) {
	const least = 4
	for i := least; i <= len(w)-least; i++ {
		out = append(out, [2]string{w[:i], w[i:]})
	}
	return out
}

// phraseBonus rewards a definition one of whose keywords is what was asked for. A keyword of
// several words of which all were typed, in any order and form, counts as well, more for longer
// ones.
func (x *Index) phraseBonus(definition int, wanted []string) float64 {
	bonus := 0.0
	for _, phrase := range x.phrases[definition] {
		if slices.Equal(phrase, wanted) {
			return 40
		}
		if len(phrase) < 2 {
			continue
		}
		// No word of the keyword is missing from what was typed.
		if !slices.ContainsFunc(phrase, func(w string) bool {
			return !slices.ContainsFunc(wanted, func(v string) bool { return form(v) == form(w) })
		}) {
			bonus = max(bonus, float64(15*len(phrase)))
		}
	}
	return bonus
}

// titleBonus rewards a definition for how much of its title was asked for: a setting called
// Printing is what somebody means who types no more than that.
func (x *Index) titleBonus(definition int, wanted []string) float64 {
	title := x.titles[definition]
	if len(title) == 0 {
		return 0
	}
	asked := 0
	for _, w := range title {
		if slices.ContainsFunc(wanted, func(v string) bool { return form(v) == form(w) || len(v) >= 4 && strings.HasPrefix(w, v) }) {
			asked++
		}
	}
	return 30 * float64(asked) / float64(len(title)+1)
}

// meant gives the words of definitions that are like w or that mean the same, by their places in
// words, with how well they fit: from 0, not at all, to 1.
func (x *Index) meant(w string) map[int]float64 {
	found := x.like(w)
	// A word that means the same counts less than the word itself, and another form of it still
	// less.
	for _, other := range synonyms[form(w)] {
		for _, i := range x.byForm[form(other)] {
			quality := asMeant
			if x.words[i] != other {
				quality *= asForm
			}
			found[i] = max(found[i], quality)
		}
	}
	return found
}

// like gives the words of definitions that are like w, with how well they fit.
func (x *Index) like(w string) map[int]float64 {
	found := map[int]float64{}
	// Words with the same beginning are found by binary search; other forms and typing errors by
	// looking at all words.
	stem, letters := form(w), lettersOf(w)
	wrong := typosAllowed(w)
	start, _ := slices.BinarySearch(x.words, w)
	for i := start; i < len(x.words) && strings.HasPrefix(x.words[i], w); i++ {
		if x.words[i] == w {
			found[i] = exactly
		} else if len(w) >= 2 {
			found[i] = asPrefix
		}
	}
	for i, have := range x.words {
		if len(stem) >= 3 && x.forms[i] == stem {
			found[i] = max(found[i], asForm)
			continue
		}
		// Each wrong letter alters at most two of the letters that a word has: most words are out
		// without a closer look.
		if wrong == 0 || bits.OnesCount32(letters^x.letters[i]) > 2*wrong || have[0] != w[0] && len(w) < 5 || found[i] > 0 {
			continue
		}
		if n := distance(w, have, wrong); n <= wrong {
			found[i] = math.Pow(asTypo, float64(n))
		}
	}
	return found
}

// lettersOf says which letters a word has, one bit each; what is no letter from a to z shares a
// bit.
func lettersOf(w string) (set uint32) {
	for i := range len(w) {
		if c := w[i]; c >= 'a' && c <= 'z' {
			set |= 1 << (c - 'a')
		} else {
			set |= 1 << 26
		}
	}
	return set
}

// typosAllowed is how many letters of a word may be wrong. In short words another letter makes
// another word.
func typosAllowed(w string) int {
	switch {
	case len(w) >= 8:
		return 2
	case len(w) >= 4:
		return 1
	}
	return 0
}

// distance counts the letters that must be added, dropped, replaced or swapped with their neighbour
// to make b of a (optimal string alignment; F. J. Damerau, "A technique for computer detection and
// correction of spelling errors", Communications of the ACM 7, 1964). Beyond most it gives most +
// 1. Texts are compared byte by byte.
func distance(a, b string, most int) int {
	// The difference in length is a lower bound of the distance.
	if len(a)-len(b) > most || len(b)-len(a) > most {
		return most + 1
	}
	const longest = 64
	if len(a) > longest || len(b) > longest {
		return most + 1
	}
	// Three rows of the table are enough: the swap of two letters looks two rows back.
	var rows [3][longest + 1]int
	// last[j] is the distance between the first i-1 letters of a and the first j of b, before that
	// of the first i-2, now that of the first i.
	before, last, now := rows[0][:len(b)+1], rows[1][:len(b)+1], rows[2][:len(b)+1]
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		least := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
			least = min(least, now[j])
		}
		// No way through this row is short enough, so no end can be.
		if least > most {
			return most + 1
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}

// Near tells whether two different texts are so alike that one is likely the other, mistyped: case,
// brackets and blanks around it, or a letter or two. It is meant for proposals, not for decisions.
func Near(a, b string) bool {
	if a == b {
		return false
	}
	plain := func(s string) string { return strings.ToLower(strings.Trim(s, " \t{}[]()<>\"'")) }
	a, b = plain(a), plain(b)
	switch {
	case a == b:
		return true
	case len(a) < 5: // too short for other letters: one that is missing or too many
		return len(a) >= 3 && len(a) != len(b) && distance(a, b, 1) <= 1
	}
	return distance(a, b, 2) <= 2
}
