package decide

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// given is an entry of a policy that applies to some rows at one level.
type given struct {
	policy   string
	level    outcome.Level
	priority int64
	value    setting.Value
	lock     bool
	rows     []int
}

func number(n int64) setting.Value        { return setting.IntegerValue(n) }
func texts(items ...string) setting.Value { return setting.ListValue(items) }

var (
	closestNumber   = &setting.Definition{ID: "t.number", Shape: setting.Shape{Type: setting.TypeInteger}, Combine: setting.Closest}
	strictestNumber = &setting.Definition{
		ID:       "t.number",
		Shape:    setting.Shape{Type: setting.TypeInteger},
		Combine:  setting.Strictest,
		Stricter: setting.StricterLower,
	}
	mergedList = &setting.Definition{ID: "t.list", Shape: setting.Shape{Type: setting.TypeList}, Combine: setting.Merge}
	commonList = &setting.Definition{ID: "t.list", Shape: setting.Shape{Type: setting.TypeList}, Combine: setting.Common}
)

// fates records what an Observer is told, by row and policy.
type fates map[int]map[string]string

func (f fates) Fate(of *Candidate, is outcome.Fate, rows *bitset.Set) {
	for row := range rows.All() {
		if f[row] == nil {
			f[row] = map[string]string{}
		}
		name := fmt.Sprintf("%d@%s", of.Policy, of.Level)
		if before, twice := f[row][name]; twice {
			f[row][name] = before + " and " + is.String() // no expectation has this
			continue
		}
		f[row][name] = is.String()
	}
}

func (f fates) Fates(of []Candidate, is outcome.Fate, rows *bitset.Set) {
	var here bitset.Set
	for i := range of {
		if here.SetAnd(of[i].Live, rows) {
			f.Fate(&of[i], is, &here)
		}
	}
}

func (f fates) By(outcome.How, *estate.Exception, *bitset.Set) {}

// decided is what a setting came out as, as text by row, with the fates of the candidates where
// they were asked for.
type decided struct {
	outcomes map[int]string
	fates    fates
	twice    []int // rows with more than one outcome
}

// fixture is an index with its candidates.
type fixture struct {
	ix     Index
	in     []Candidate
	marked map[int]Marked
}

// arrange ranks entries and makes a candidate of each ranked one.
func arrange(def *setting.Definition, rulings []Ruling, list []given) *fixture {
	f := &fixture{marked: map[int]Marked{}}
	gen := intern.NewGeneration()
	f.ix.Define(def, gen.OutcomesOf(def.ID))
	f.ix.Rulings = map[Ruling]bool{}
	for _, r := range rulings {
		f.ix.Rulings[r] = true
	}
	names := map[string]int{}
	for _, g := range list {
		names[g.policy] = 0
	}
	order := []string{}
	for name := range names {
		order = append(order, name)
	}
	slices.Sort(order)
	for at, name := range order {
		names[name] = at
	}
	var sources []Source
	rows := map[[2]int]*bitset.Set{}
	for _, g := range list {
		set := &bitset.Set{}
		for _, row := range g.rows {
			set.Add(row)
		}
		rows[[2]int{names[g.policy], int(g.level)}] = set
		sources = append(sources, Source{
			Policy: names[g.policy], ID: estate.PolicyID(g.policy), Priority: g.priority, Levels: []outcome.Level{g.level},
			Entry: &estate.Entry{Setting: def.ID, Value: g.value, Lock: g.lock},
		})
	}
	f.ix.Rank(sources)
	for rank := range f.ix.Ranked {
		r := &f.ix.Ranked[rank]
		live := rows[[2]int{int(r.Policy), int(r.Level)}]
		f.in = append(f.in, Candidate{Ranked: r, At: int32(rank), Rank: int32(rank), Order: r.Order, Live: live})
		for row := range live.All() {
			if f.marked[row] == nil {
				f.marked[row] = make(Marked, 4)
			}
			f.marked[row][rank>>6] |= 1 << (rank & 63)
		}
	}
	return f
}

// decide decides for the rows below n, or for one row alone.
func (f *fixture) decide(n, only int, observe bool) decided {
	out := decided{outcomes: map[int]string{}}
	var arena bitset.Arena
	d := NewDecider(&arena)
	if observe {
		out.fates = fates{}
		d.Observer = out.fates
	}
	var rows bitset.Set
	rows.Fill(n)
	if only >= 0 {
		rows.Clear()
		rows.Add(only)
	}
	d.Decide(&f.ix, f.in, &rows, Limits{})
	numbers, sets := d.Out.Lists()
	items := map[int][]string{}
	for i, number := range numbers {
		o := f.ix.Outcomes.Of(number)
		for row := range sets[i].All() {
			text := string(o.Status)
			switch {
			case intern.IsItem(number):
				items[row] = append(items[row], o.Value.Items()...)
				continue
			case number == intern.FromItems:
				text = "items"
			case o.Status == outcome.Set:
				text = o.Value.String()
			case o.Status == outcome.Conflict:
				text = "conflict of " + strings.Join(o.Policies, " ")
			}
			if out.outcomes[row] != "" {
				out.twice = append(out.twice, row)
			}
			out.outcomes[row] = text
		}
	}
	for row, list := range items {
		slices.Sort(list)
		if out.outcomes[row] != "items" {
			out.twice = append(out.twice, row)
		}
		out.outcomes[row] = "[" + strings.Join(list, " ") + "]"
	}
	for row, text := range out.outcomes {
		if text == "items" {
			out.outcomes[row] = "[]"
		}
	}
	return out
}

func TestEachRuleDecides(t *testing.T) {
	house := func(v setting.Value, lock bool, rows ...int) given { return given{"house", 0, 0, v, lock, rows} }
	site := func(v setting.Value, lock bool, rows ...int) given { return given{"site", 1, 0, v, lock, rows} }
	team := func(v setting.Value, priority int64, rows ...int) given {
		return given{"team", outcome.GroupLevel, priority, v, false, rows}
	}
	crew := func(v setting.Value, priority int64, rows ...int) given {
		return given{"crew", outcome.GroupLevel, priority, v, false, rows}
	}
	for _, c := range []struct {
		what    string
		def     *setting.Definition
		rulings []Ruling
		list    []given
		want    map[int]string
		fates   map[string]string // of row 0, by policy number in the order of names, and level
	}{
		{
			"the closest level wins", closestNumber, nil, []given{house(number(10), false, 0, 1), site(number(5), false, 0)},
			map[int]string{0: "5", 1: "10"}, map[string]string{"0@unit:0": "outer", "1@unit:1": "won"},
		},
		{
			"a locked entry of an outer level wins", closestNumber, nil, []given{house(number(10), true, 0, 1), site(number(5), false, 0, 2)},
			map[int]string{0: "10", 1: "10", 2: "5"}, map[string]string{"0@unit:0": "won", "1@unit:1": "locked-out"},
		},
		{
			"of two locked entries the outermost wins", closestNumber, nil, []given{house(number(10), true, 0), site(number(5), true, 0, 1)},
			map[int]string{0: "10", 1: "5"}, map[string]string{"0@unit:0": "won", "1@unit:1": "locked-out"},
		},
		{
			"priority decides within a level", closestNumber, nil, []given{team(number(1), 5, 0), crew(number(2), 9, 0)},
			map[int]string{0: "2"}, map[string]string{"0@group": "won", "1@group": "lower-priority"},
		},
		{
			"equal values win together", closestNumber, nil, []given{team(number(3), 0, 0), crew(number(3), 0, 0)},
			map[int]string{0: "3"}, map[string]string{"0@group": "won", "1@group": "won"},
		},
		{
			"different values are a conflict only where both are", closestNumber, nil, []given{team(number(1), 0, 0, 1), crew(number(2), 0, 0, 2)},
			map[int]string{0: "conflict of crew team", 1: "1", 2: "2"}, map[string]string{"0@group": "clashing", "1@group": "clashing"},
		},
		{
			"a ruling settles a conflict", closestNumber, []Ruling{{"team", "crew"}}, []given{team(number(1), 0, 0), crew(number(2), 0, 0)},
			map[int]string{0: "1"}, map[string]string{"0@group": "ruled-out", "1@group": "won"},
		},
		{
			"rulings that contradict each other settle nothing", closestNumber, []Ruling{{"team", "crew"}, {"crew", "team"}},
			[]given{team(number(1), 0, 0), crew(number(2), 0, 0)},
			map[int]string{0: "conflict of crew team"}, map[string]string{"0@group": "clashing", "1@group": "clashing"},
		},
		{
			"the strictest value wins whatever the level", strictestNumber, nil,
			[]given{house(number(5), false, 0, 1), site(number(10), false, 0, 2)},
			map[int]string{0: "5", 1: "5", 2: "10"}, map[string]string{"0@unit:0": "won", "1@unit:1": "weaker"},
		},
		{
			"lists add up", mergedList, nil, []given{house(texts("a", "b"), false, 0, 1), site(texts("b", "c"), false, 0), team(texts(), 0, 2)},
			map[int]string{0: "[a b c]", 1: "[a b]", 2: "[]"}, map[string]string{"0@unit:0": "won", "1@unit:1": "won"},
		},
		{
			"only common items stay", commonList, nil, []given{house(texts("a", "b"), false, 0, 1), site(texts("b", "c"), false, 0, 2)},
			map[int]string{0: "[b]", 1: "[a b]", 2: "[b c]"}, map[string]string{"0@unit:0": "won", "1@unit:1": "won"},
		},
		{
			"nothing in common is a conflict", commonList, nil, []given{house(texts("a"), false, 0), site(texts("c"), false, 0, 1)},
			map[int]string{0: "conflict of house site", 1: "[c]"}, map[string]string{"0@unit:0": "clashing", "1@unit:1": "clashing"},
		},
		{
			"an empty list has nothing in common with others, which is no conflict", commonList, nil,
			[]given{house(texts(), false, 0), site(texts("c"), false, 0)},
			map[int]string{0: "[]"}, map[string]string{"0@unit:0": "won", "1@unit:1": "won"},
		},
	} {
		t.Run(c.what, func(t *testing.T) {
			got := arrange(c.def, c.rulings, c.list).decide(8, -1, true)
			if fmt.Sprint(got.outcomes) != fmt.Sprint(c.want) || len(got.twice) > 0 {
				t.Errorf("came out as %v, expected %v; rows with two outcomes: %v", got.outcomes, c.want, got.twice)
			}
			if fmt.Sprint(got.fates[0]) != fmt.Sprint(c.fates) {
				t.Errorf("fates on row 0: %v, expected %v", got.fates[0], c.fates)
			}
		})
	}
}

// random gives entries of a few policies at a few levels, for a few rows.
func random(r *rand.Rand, def *setting.Definition) (list []given, rulings []Ruling) {
	value := func() setting.Value {
		if def.Type == setting.TypeInteger {
			return number(int64(r.IntN(3)))
		}
		items := []string{}
		for _, item := range []string{"a", "b", "c", "d"} {
			if r.IntN(2) == 0 {
				items = append(items, item)
			}
		}
		return texts(items...)
	}
	policies := []string{"p1", "p2", "p3", "p4"}
	levels := []outcome.Level{0, 1, 2, outcome.GroupLevel, outcome.IndividualLevel}
	for _, policy := range policies {
		v, priority, lock := value(), int64(r.IntN(2)), r.IntN(4) == 0
		for _, level := range levels {
			if r.IntN(3) > 0 {
				continue
			}
			g := given{policy: policy, level: level, priority: priority, value: v, lock: lock}
			for row := range testRows {
				if r.IntN(3) == 0 {
					g.rows = append(g.rows, row)
				}
			}
			list = append(list, g)
		}
		if other := policies[r.IntN(4)]; other != policy && r.IntN(2) == 0 {
			rulings = append(rulings, Ruling{estate.PolicyID(policy), estate.PolicyID(other)})
		}
	}
	return list, rulings
}

const testRows = 12

// TestLawsOfEveryRule tries the laws that Combiner names on random entries: the order of the
// policies makes no difference, a candidate that no laptop has makes none, every laptop with a
// candidate comes out once, one laptop alone comes out as among others, whether or not somebody
// asks why, and deciding by the first candidate comes to the same.
func TestLawsOfEveryRule(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	for _, def := range []*setting.Definition{closestNumber, strictestNumber, mergedList, commonList} {
		for range 400 {
			list, rulings := random(r, def)
			f := arrange(def, rulings, list)
			all := f.decide(testRows, -1, false)
			if len(all.twice) > 0 {
				t.Fatalf("%s: rows %v came out twice: %+v", def.Combine, all.twice, list)
			}
			has := map[int]bool{}
			for _, g := range list {
				for _, row := range g.rows {
					has[row] = true
				}
			}
			if len(has) != len(all.outcomes) {
				t.Fatalf("%s: %d rows have a candidate, %d came out", def.Combine, len(has), len(all.outcomes))
			}
			shuffled := slices.Clone(list)
			r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
			more := append(slices.Clone(shuffled), given{policy: "p9", level: 3, value: list0(def)})
			for what, other := range map[string]decided{
				"in another order":         arrange(def, rulings, shuffled).decide(testRows, -1, false),
				"with a candidate of none": arrange(def, rulings, more).decide(testRows, -1, false),
				"while somebody asks why":  f.decide(testRows, -1, true),
			} {
				if fmt.Sprint(other.outcomes) != fmt.Sprint(all.outcomes) {
					t.Fatalf("%s %s: %v, expected %v\n%+v", def.Combine, what, other.outcomes, all.outcomes, list)
				}
			}
			for row := range testRows {
				if one := f.decide(testRows, row, true); one.outcomes[row] != all.outcomes[row] {
					t.Fatalf("%s: row %d alone is %q, among others %q", def.Combine, row, one.outcomes[row], all.outcomes[row])
				}
				f.compareLead(t, row, all.outcomes[row])
			}
		}
	}
}

// list0 is some value of a definition's type.
func list0(def *setting.Definition) setting.Value {
	if def.Type == setting.TypeInteger {
		return number(0)
	}
	return texts("z")
}

// compareLead decides for one row by its first candidate, where that is enough, and compares the
// outcome and the fates.
func (f *fixture) compareLead(t *testing.T, row int, want string) {
	t.Helper()
	order := make([]Order, len(f.ix.Ranked))
	for i := range order {
		order[i] = f.ix.Ranked[i].Order
	}
	marked := f.marked[row]
	if marked == nil {
		marked = make(Marked, 4)
	}
	outcome, became, ranks, ok := f.ix.DecideByLead(marked, order, 0, nil, nil)
	if !ok {
		return
	}
	if len(became) == 0 {
		if want != "" {
			t.Fatalf("row %d has no candidate by the first one, and is %q", row, want)
		}
		return
	}
	if got := f.ix.Outcomes.Of(outcome).Value.String(); got != want {
		t.Fatalf("row %d is %q by its first candidate, expected %q", row, got, want)
	}
	told := f.decide(testRows, row, true).fates[row]
	for i, rank := range ranks {
		name := fmt.Sprintf("%d@%s", f.ix.Ranked[rank].Policy, f.ix.Ranked[rank].Level)
		if became[i].String() != told[name] {
			t.Fatalf("row %d: the fate of %s is %s by the first candidate, %s in full", row, name, became[i], told[name])
		}
	}
	if len(told) != len(ranks) {
		t.Fatalf("row %d: %d fates by the first candidate, %d in full", row, len(ranks), len(told))
	}
}

// TestRerankIsRank replaces entries of some policies in an index, and compares with an index that
// is made at once.
func TestRerankIsRank(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 200 {
		def := []*setting.Definition{closestNumber, strictestNumber, mergedList}[r.IntN(3)]
		gen := intern.NewGeneration()
		source := func(policy int) Source {
			v := number(int64(r.IntN(3)))
			if def == mergedList {
				v = texts([]string{"a", "b", "c"}[r.IntN(3)])
			}
			return Source{
				Policy: policy, ID: estate.PolicyID(fmt.Sprint("p", policy)), Priority: int64(r.IntN(3)),
				Levels: []outcome.Level{outcome.GroupLevel, outcome.Level(r.IntN(3))}, Entry: &estate.Entry{Value: v, Lock: r.IntN(3) == 0},
			}
		}
		first := []Source{source(0), source(1), source(2), source(3)}
		altered := []Source{source(1), source(4)}
		var stepwise, whole Index
		stepwise.Define(def, gen.OutcomesOf(def.ID))
		whole.Define(def, gen.OutcomesOf(def.ID))
		stepwise.Rank(first)
		stepwise.Rerank([]int{1, 2, 4}, altered) // policy 2 loses its entry
		whole.Rank([]Source{first[0], altered[0], first[3], altered[1]})
		if !slices.Equal(stepwise.Ranked, whole.Ranked) || !slices.Equal(stepwise.Keys, whole.Keys) {
			t.Fatalf("ranked step by step:\n%+v\nat once:\n%+v", stepwise.Ranked, whole.Ranked)
		}
		for rank := range whole.Ranked {
			if !slices.Equal(stepwise.Items(int32(rank)), whole.Items(int32(rank))) {
				t.Fatalf("items of rank %d: %v and %v", rank, stepwise.Items(int32(rank)), whole.Items(int32(rank)))
			}
		}
	}
}

func TestKeysHoldPolicyAndLevel(t *testing.T) {
	for _, policy := range []int{0, 1, 1 << 21} {
		for _, level := range []int{0, 5, 1023} {
			if p, l := Unkey(Key(policy, level)); p != policy || l != level {
				t.Errorf("%d and %d became %d and %d", policy, level, p, l)
			}
		}
	}
}

// TestEveryRuleIsDecided finds a Combiner for each rule that a definition can name.
func TestEveryRuleIsDecided(t *testing.T) {
	for _, rule := range setting.Combines() {
		if combiners[rule] == nil {
			t.Errorf("nothing decides %s", rule)
		}
	}
}
