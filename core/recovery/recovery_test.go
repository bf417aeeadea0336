package recovery_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	. "zenithridge.example/zridge/core/recovery"
)

func TestKeys(t *testing.T) {
	seen := map[Identifier]bool{}
	for range 1000 {
		k, err := New(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if n := len(k.Reveal()); n != Length+7 {
			t.Fatalf("%d characters, expected 8 groups of 4 letters", n)
		}
		again, err := Parse(" " + strings.ToUpper(strings.ReplaceAll(k.Reveal(), " ", "-")) + "\n")
		if err != nil || again != k {
			t.Fatalf("a key that is written with hyphens and capital letters is another one: %v", err)
		}
		id, err := ParseIdentifier(k.Identifier().Spaced())
		if err != nil || id != k.Identifier() || len(id) != 12 {
			t.Fatalf("identifier %q, %v", id, err)
		}
		if seen[id] {
			t.Fatalf("the identifier %s twice among a thousand", id)
		}
		seen[id] = true
	}
	if _, err := New(strings.NewReader("too short")); err == nil {
		t.Error("a key of too few random bytes")
	}
}

// TestIdentifierIsKept holds what laptops and the service compute from the same key.
func TestIdentifierIsKept(t *testing.T) {
	k, err := Parse("bcde fghj knpr stuv bcde fghj knpr stuv")
	if err != nil || k.Identifier() != "010062612335" {
		t.Errorf("identifier %s, %v", k.Identifier(), err)
	}
}

// TestKeysAreNotPrinted prints a key in the ways in which it may get into a log.
func TestKeysAreNotPrinted(t *testing.T) {
	k, err := New(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	secret := string(k.Passphrase())
	text := fmt.Sprint(k) + fmt.Sprintf("%v %+v %#v %s %q", k, k, k, k, k) + fmt.Sprint([]Key{k}) + fmt.Sprintf("%+v", struct{ K Key }{k})
	if strings.Contains(text, secret) || strings.Contains(text, secret[:8]) {
		t.Error("the key is printed")
	}
	if _, err := json.Marshal(map[string]any{"key": k}); err == nil {
		t.Error("the key is written as JSON")
	}
}

func TestWhatIsNoKey(t *testing.T) {
	for _, text := range []string{
		"", "bcde", strings.Repeat("b", 31), strings.Repeat("b", 33), strings.Repeat("a", 32), strings.Repeat("b ", 500),
		strings.Repeat("ü", 16), "bcde\x00fghjknprstuvbcdefghjknprstuv",
	} {
		if k, err := Parse(text); err == nil || !k.IsZero() {
			t.Errorf("%q is taken for a key", text)
		} else if text != "" && len(text) > 6 && strings.Contains(err.Error(), text) {
			t.Errorf("the fault says what was entered: %v", err)
		}
	}
	for _, text := range []string{"", "1234 5678 901", "1234 5678 9012 3", "1234 5678 90l2", strings.Repeat(" ", 300), "١٢٣٤٥٦٧٨٩٠١٢"} {
		if id, err := ParseIdentifier(text); err == nil {
			t.Errorf("%q is taken for the identifier %s", text, id)
		}
	}
}

func TestSimilarSerialNumbers(t *testing.T) {
	serials := []string{"ZX4-8891", "ZX4-8897", "ZX4-B891", "QX4-8891", "ZX4-889", "ZX4-88911", "HN7-0012", "zx4 8891"}
	for asked, want := range map[string]string{
		"ZX4-8891":               "ZX4-8891|zx4 8891|ZX4-8897@7|ZX4-B891@4|QX4-8891@0|ZX4-889|ZX4-88911@8",
		"zx48891":                "ZX4-8891|zx4 8891|ZX4-8897@7|ZX4-B891@4|QX4-8891@0|ZX4-889|ZX4-88911@8",
		"ZX4-889?":               "ZX4-8891|ZX4-8897|zx4 8891|ZX4-B891@4|QX4-8891@0|ZX4-889|ZX4-88911@8",
		"HN7-OO12":               "HN7-0012@4,5",
		"HN7-O0I2":               "HN7-0012@4,6",
		"AA0-0000":               "",
		"":                       "",
		strings.Repeat("?", 300): "",
	} {
		var got []string
		for _, m := range Similar(asked, serials) {
			text := serials[m.At]
			if len(m.Differs) > 0 {
				text += "@" + strings.Trim(strings.ReplaceAll(fmt.Sprint(m.Differs), " ", ","), "[]")
			}
			got = append(got, text)
		}
		if is := strings.Join(got, "|"); is != want {
			t.Errorf("%q: found %q, expected %q", asked, is, want)
		}
	}
}

// TestSimilarIsADistance compares the search with a plain computation of the same cost.
func TestSimilarIsADistance(t *testing.T) {
	var serials []string
	for i := range 120 {
		serials = append(serials, fmt.Sprintf("K%c%d-%04d", 'A'+i%5, i%7, i*37%2000))
	}
	for _, asked := range []string{"KA1-0037", "KB3-012", "KC0-1O99", "K?2-0148", "KD6-11111"} {
		found := map[int]int{}
		for _, m := range Similar(asked, serials) {
			found[m.At] = m.Cost
		}
		for i, serial := range serials {
			want := slowCost(strings.ReplaceAll(asked, "-", ""), strings.ReplaceAll(serial, "-", ""))
			if got, is := found[i]; is && got != want || !is && want <= 4 && len(found) < 20 {
				t.Errorf("%s and %s: cost %d (found: %t), expected %d", asked, serial, got, is, want)
			}
		}
	}
}

func slowCost(a, b string) int {
	if a == "" || b == "" {
		return 3 * (len(a) + len(b))
	}
	cost := 3
	switch pair := string([]byte{a[0], b[0]}); {
	case a[0] == b[0] || a[0] == '?':
		cost = 0
	case strings.Contains("0O O0 0Q Q0 OQ QO 0D D0 OD DO QD DQ 1I I1 1L L1 17 71 IL LI I7 7I L7 7L 2Z Z2 5S S5 6G G6 8B B8 UV VU", pair):
		cost = 1
	}
	if len(a)+len(b) > 18 {
		return 99
	}
	return min(cost+slowCost(a[1:], b[1:]), 3+slowCost(a[1:], b), 3+slowCost(a, b[1:]))
}

func TestCoverage(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	old := now.AddDate(0, 0, -100)
	disk := func(state VolumeState) Volume {
		return Volume{ID: "v1", Kind: SystemVolume, State: state, Identifier: "1"}
	}
	held := func(with func(*Held)) []Held {
		h := Held{Volume: "v1", Identifier: "1", State: Current, Recipients: []string{"a"}, Since: now}
		if with != nil {
			with(&h)
		}
		return []Held{h}
	}
	for name, each := range map[string]struct {
		laptop Laptop
		want   string
	}{
		"nothing is demanded, nothing is known": {Laptop{}, "all"},
		"demanded, never reported":              {Laptop{Wanted: true}, "all demanded never-reported"},
		"demanded, a stick is all it reports": {Laptop{Wanted: true, Reported: true,
			Volumes: []Volume{{Kind: RemovableVolume, State: Plain}}}, "all demanded never-reported"},
		"demanded, plain": {Laptop{Wanted: true, Reported: true, Volumes: []Volume{disk(Plain)}},
			"all demanded not-encrypted"},
		"plain, and nobody demands it": {Laptop{Reported: true, Volumes: []Volume{disk(Plain)}}, "all"},
		"waiting": {Laptop{Wanted: true, Reported: true, Volumes: []Volume{disk(Waiting)}},
			"all demanded not-encrypted"},
		"cannot": {Laptop{Wanted: true, Reported: true, Volumes: []Volume{disk(Cannot), disk(Plain)}},
			"all demanded cannot"},
		"encrypted, no key": {Laptop{Reported: true, Volumes: []Volume{disk(Encrypted)}}, "all encrypted not-escrowed"},
		"encrypted, another key": {Laptop{Reported: true, Volumes: []Volume{disk(Encrypted)},
			Keys: held(func(h *Held) { h.Identifier = "2" })}, "all encrypted not-escrowed"},
		"encrypted, key of before": {Laptop{Reported: true, Volumes: []Volume{disk(Encrypted)},
			Keys: held(func(h *Held) { h.State = Replaced })}, "all encrypted not-escrowed"},
		"escrowed": {Laptop{Wanted: true, Reported: true, Volumes: []Volume{disk(Encrypted)},
			Keys: held(nil)}, "all demanded encrypted escrowed"},
		"two volumes, one key": {
			Laptop{Wanted: true, Reported: true, Volumes: []Volume{disk(Encrypted), {ID: "v2", Kind: FixedVolume, State: Encrypted}},
				Keys: held(nil)},
			"all demanded encrypted not-escrowed",
		},
		"used": {Laptop{Reported: true, Volumes: []Volume{disk(Encrypted)}, Keys: held(func(h *Held) { h.Used = old })},
			"all encrypted escrowed not-renewed"},
		"used and replaced": {
			Laptop{Reported: true, Volumes: []Volume{disk(Encrypted)},
				Keys: append(held(nil), Held{Volume: "v1", Identifier: "0", State: Replaced, Used: old})},
			"all encrypted escrowed",
		},
		"old": {Laptop{Reported: true, MaxAgeDays: 90, Volumes: []Volume{disk(Encrypted)},
			Keys: held(func(h *Held) { h.Since = old })}, "all encrypted escrowed too-old"},
		"old enough": {Laptop{Reported: true, MaxAgeDays: 100, Volumes: []Volume{disk(Encrypted)},
			Keys: held(func(h *Held) { h.Since = old })}, "all encrypted escrowed"},
		"other seal": {Laptop{Reported: true, Escrow: true, Recipients: []string{"b", "a"}, Volumes: []Volume{disk(Encrypted)},
			Keys: held(nil)}, "all encrypted escrowed not-resealed"},
		"seal in order": {Laptop{Reported: true, Escrow: true, Recipients: []string{"a"}, Volumes: []Volume{disk(Encrypted)},
			Keys: held(nil)}, "all encrypted escrowed"},
	} {
		in := Judge(&each.laptop, now)
		var got []string
		var c Counts
		c.Add(in)
		for _, g := range Groups {
			if in.In(g) {
				got = append(got, string(g))
			}
			if in.In(g) != (c.Of(g) == 1) {
				t.Errorf("%s: group %s is counted %d times", name, g, c.Of(g))
			}
		}
		if strings.Join(got, " ") != each.want {
			t.Errorf("%s: in %q, expected %q", name, got, each.want)
		}
	}
}

func TestPatterns(t *testing.T) {
	t.Parallel()
	const id Identifier = "482109375512"
	for text, fits := range map[string]bool{
		"4821 0937 5512": true, "4821-0937-551?": true, "?82109375512\t": true, "\u00a0????????????": true, "4821 0937 5513": false,
		"??21 0937 5513": false,
	} {
		if p, err := ParsePattern(text); err != nil || p.Fits(id) != fits {
			t.Errorf("%q: fits %v, %v; expected %v", text, p.Fits(id), err, fits)
		}
	}
	for _, text := range []string{"", "48", "4821 0937 5512 ?", "4821 0937 551x"} {
		if p, err := ParsePattern(text); err == nil {
			t.Errorf("%q: found %q, expected it to be refused", text, p)
		}
	}
	if p, _ := ParsePattern("4821 0937 5512"); p.Unread() != 0 || p.Fits("48210937551") {
		t.Errorf("%q: %d unread", p, p.Unread())
	}
}
