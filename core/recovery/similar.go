// This file finds serial numbers that may have been meant by one that somebody reads from a worn
// label.
//
// Somebody at the service desk hears the number on the telephone, from a person whose laptop does
// not start. Giving out the key of another laptop helps nobody, so the answer is a list with the
// places that differ, and a person decides.

package recovery

import (
	"cmp"
	"slices"
	"strings"
)

// Match is a serial number that may have been meant, as an index into the list that was searched.
type Match struct {
	At      int   // which of the serial numbers
	Cost    int   // how far it is from what was asked: 0 is the same
	Differs []int // places in it, in bytes, that are otherwise than what was asked
}

// Costs of a difference. Two characters that look alike cost less than any other two.
const (
	costAlike = 1
	costOther = 3
	maxCost   = 4 // one character otherwise and one that looks alike, or several that look alike
	mostFound = 20
	unread    = '?' // stands for a character that nobody can read
)

// alike are characters that are taken for one another on a label, each group by itself.
var alike = []string{"0OQD", "1IL7", "2Z", "5S", "6G", "8B", "UV"}

// lookAlike is alike as a table, since it is asked for every pair of characters of 100,000 serial
// numbers.
var lookAlike = func() (table [128][128]bool) {
	for _, group := range alike {
		for _, a := range group {
			for _, b := range group {
				table[a][b] = a != b
			}
		}
	}
	return table
}()

// Similar gives the serial numbers that are like the one that was asked for, the nearest first, and
// of those that are equally near the first in the alphabet. Capital and small letters, spaces and
// hyphens do not matter; a question mark stands for any character. A difference is a character that
// is another one, that is missing, or that is too much.
func Similar(asked string, serials []string) []Match {
	asked = plainSerial(asked)
	if asked == "" || len(asked) > maxEntered {
		return nil
	}
	var found []Match
	for i, serial := range serials {
		// Each character more or less costs at least costOther: most are told by their length.
		if len(serial) > maxEntered || absolute(len(serial)-len(asked)) > maxCost {
			continue
		}
		if cost, differs := distance(asked, serial); cost <= maxCost {
			found = append(found, Match{i, cost, differs})
		}
	}
	slices.SortFunc(found, func(a, b Match) int {
		return cmp.Or(cmp.Compare(a.Cost, b.Cost), strings.Compare(serials[a.At], serials[b.At]))
	})
	return found[:min(len(found), mostFound)]
}

// absolute gives n without its sign.
func absolute(n int) int { return max(n, -n) }

// plainSerial gives a serial number in capital letters, without spaces and hyphens.
func plainSerial(text string) string { return strings.ToUpper(unspaced(text)) }

// distance gives what it costs to make a serial number of what was asked, and where it differs: the
// edit distance with the costs above, row by row. It counts no further than maxCost. asked is in
// capital letters, without spaces and hyphens.
func distance(asked, serial string) (cost int, differs []int) {
	var plain [maxEntered]byte // the serial number in capital letters, without spaces and hyphens
	var places [maxEntered]int // of each of its characters, in the serial number
	n := 0
	for i := 0; i < len(serial); i++ {
		switch c := serial[i]; {
		case c == ' ' || c == '-':
			continue
		case 'a' <= c && c <= 'z':
			plain[n] = c - 'a' + 'A'
		default:
			plain[n] = c
		}
		places[n] = i
		n++
	}
	text := plain[:n]
	// Too many characters are missing or too much.
	if absolute(n-len(asked))*costOther > maxCost {
		return maxCost + 1, nil
	}
	// row[j] is what it costs to make the first j characters of the serial number of those of what
	// was asked so far.
	var rows [2][maxEntered + 1]int
	row, before := rows[0][:n+1], rows[1][:n+1]
	for j := range row {
		row[j] = j * costOther
	}
	for i := 0; i < len(asked); i++ {
		row, before = before, row
		least := maxCost + 1
		row[0] = (i + 1) * costOther
		for j := 1; j <= n; j++ {
			row[j] = min(before[j-1]+costOf(asked[i], text[j-1]), before[j]+costOther, row[j-1]+costOther)
			least = min(least, row[j])
		}
		// Costs only rise from one row to the next.
		if least > maxCost && row[0] > maxCost {
			return maxCost + 1, nil
		}
	}
	if cost = row[n]; cost == 0 || cost > maxCost {
		return cost, nil
	}
	return cost, differences(asked, text, places[:n])
}

// costOf gives what it costs to read one character for another.
func costOf(asked, is byte) int {
	switch {
	case asked == is || asked == unread:
		return 0
	case asked < 128 && is < 128 && lookAlike[asked][is]:
		return costAlike
	}
	return costOther
}

// differences gives the places of a serial number that are otherwise than what was asked: what is
// between the part that both begin with and the part that both end with.
func differences(asked string, text []byte, places []int) (differs []int) {
	// from: where both cease to be alike; to and end: behind the last character of the part that
	// differs.
	from, to, end := 0, len(text), len(asked)
	for from < to && from < end && costOf(asked[from], text[from]) == 0 {
		from++
	}
	for to > from && end > from && costOf(asked[end-1], text[to-1]) == 0 {
		to, end = to-1, end-1
	}
	for at := from; at < to; at++ {
		// Parts of the same length are compared character by character. Otherwise all of the part
		// differs.
		if to-from != end-from || costOf(asked[at], text[at]) > 0 {
			differs = append(differs, places[at])
		}
	}
	return differs
}
