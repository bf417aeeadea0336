// This file makes ids of names.

package directory

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// slugMost is the most characters of an id that is made of a name.
const slugMost = 100

// letters are written out as people of these languages write them without their own letters. Other
// letters with marks lose the marks.
var letters = func() map[rune]string {
	out := map[rune]string{}
	for _, pair := range strings.Fields(
		"ä=ae ö=oe ü=ue ß=ss æ=ae ø=oe å=aa œ=oe ð=d þ=th ł=l đ=d ħ=h ı=i ŋ=ng " +
			"а=a б=b в=v г=g д=d е=e ё=e ж=zh з=z и=i й=i к=k л=l м=m н=n о=o п=p р=r с=s т=t у=u ф=f х=kh ц=ts ч=ch ш=sh щ=shch " +
			"ъ= ы=y ь= э=e ю=yu я=ya є=ye і=i ї=yi ґ=g " +
			"α=a β=v γ=g δ=d ε=e ζ=z η=i θ=th ι=i κ=k λ=l μ=m ν=n ξ=x ο=o π=p ρ=r σ=s ς=s τ=t υ=y φ=f χ=ch ψ=ps ω=o",
	) {
		letter, as, _ := strings.Cut(pair, "=")
		out[[]rune(letter)[0]] = as
	}
	return out
}()

// ValidSlug makes an id of a text: letters that an id can't hold are transliterated, and what is left
// then becomes '-'. Empty where nothing is left.
func ValidSlug(text string) string {
	var out strings.Builder
	last := byte('-') // an id does not begin with one, and has no two in a row
	put := func(s string) {
		for i := 0; i < len(s) && out.Len() < slugMost; i++ {
			out.WriteByte(s[i])
			last = s[i]
		}
	}
	for _, r := range norm.NFC.String(text) {
		switch as, known := letters[unicode.ToLower(r)]; {
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("._-", r)):
			if r != '-' || out.Len() > 0 {
				put(string(r))
			}
		case known && unicode.IsUpper(r):
			put(strings.ToUpper(as[:min(len(as), 1)]) + as[min(len(as), 1):])
		case known:
			put(as)
		default:
			plain := ""
			for _, part := range norm.NFKD.String(string(r)) { // a letter and its marks
				if part < unicode.MaxASCII && (unicode.IsLetter(part) || unicode.IsDigit(part)) {
					plain += string(part)
				} else if as, known := letters[unicode.ToLower(part)]; known {
					plain += as
				}
			}
			if put(plain); plain == "" && !unicode.IsMark(r) && last != '-' {
				put("-")
			}
		}
	}
	return strings.TrimRight(out.String(), "-")
}
