package adapter

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// word is how a file of the system writes a value.
type word struct {
	to   func(setting.Value) (text string, ok bool)
	from func(text string) (v setting.Value, ok bool)
}

// plain writes texts as they are.
func plain() word {
	return word{
		func(v setting.Value) (string, bool) {
			return v.Text(), v.Kind() == setting.Text && !strings.ContainsAny(v.Text(), "\n\r\x00")
		},
		func(text string) (setting.Value, bool) { return setting.TextValue(text), true },
	}
}

// truth writes bools in two words.
func truth(yes, no string) word {
	return word{
		func(v setting.Value) (string, bool) {
			if v.Bool() {
				return yes, v.Kind() == setting.Bool
			}
			return no, v.Kind() == setting.Bool
		},
		func(text string) (setting.Value, bool) {
			return setting.BoolValue(text == yes), text == yes || text == no
		},
	}
}

// number writes whole numbers times a factor, between two words.
func number(times int64, before, after string) word {
	return word{
		func(v setting.Value) (string, bool) {
			return fmt.Sprintf("%s%d%s", before, v.Integer()*times, after), v.Kind() == setting.Integer
		},
		func(text string) (setting.Value, bool) {
			text, is := strings.CutPrefix(text, before)
			text, was := strings.CutSuffix(text, after)
			n, err := strconv.ParseInt(text, 10, 64)
			return setting.IntegerValue(n / times), is && was && err == nil && n%times == 0
		},
	}
}

// choice writes the options of a choice in the words of the system, which come in pairs with them.
func choice(pairs ...string) word {
	return word{
		func(v setting.Value) (string, bool) {
			for i := 0; i < len(pairs); i += 2 {
				if pairs[i] == v.Text() {
					return pairs[i+1], v.Kind() == setting.Text
				}
			}
			return "", false
		},
		func(text string) (setting.Value, bool) {
			for i := 1; i < len(pairs); i += 2 {
				if pairs[i] == text {
					return setting.TextValue(pairs[i-1]), true
				}
			}
			return setting.Value{}, false
		},
	}
}

// list writes lists with a space between two items.
func list() word {
	return word{
		func(v setting.Value) (string, bool) {
			spaced := func(item string) bool { return item == "" || strings.ContainsAny(item, " \t\n\r") }
			return strings.Join(v.Items(), " "), v.Kind() == setting.List && !slices.ContainsFunc(v.Items(), spaced)
		},
		func(text string) (setting.Value, bool) { return setting.ListValue(strings.Fields(text)), true },
	}
}
