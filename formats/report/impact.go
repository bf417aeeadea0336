// This file writes what a change does, for the change board: as a document, and as a table.

package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Change says what is reported about.
type Change struct {
	ID, Title, Why string
	Edits          []string // "alter policies/house-rules"
}

const (
	mostWays    = 400 // ways in which settings alter that a document spells out; the table has all
	mostUnits   = 12
	mostNamed   = 8
	unitsOfEach = 3
)

// Impact puts words to what a change does. plan is of the estate after it.
func Impact(c Change, r *impact.Report, plan *resolve.Plan) *Document {
	d := &Document{Title: "What “" + c.Title + "” does"}
	w := &impactWriter{Document: d, r: r, plan: plan}
	if c.Why != "" {
		d.say("%s", c.Why)
	}
	if len(c.Edits) > 0 {
		d.heading("The change")
		d.list(c.Edits)
	}
	w.atAGlance()
	w.findings()
	w.ways()
	w.audiences()
	return d
}

type impactWriter struct {
	*Document
	r    *impact.Report
	plan *resolve.Plan
}

func (w *impactWriter) title(id setting.ID) string {
	if d := w.plan.Definition(id); d != nil && d.Title != "" {
		return d.Title
	}
	return string(id)
}

func (w *impactWriter) unit(id estate.UnitID) string {
	if u := w.plan.Unit(id); u != nil && u.Title != "" {
		return u.Title
	}
	return string(id)
}

func (w *impactWriter) units(of resolve.Devices, most int) string {
	list := of.ByUnit()
	var texts []string
	for i, u := range list {
		if i == most {
			texts = append(texts, fmt.Sprintf("%d more units", len(list)-most))
			break
		}
		texts = append(texts, fmt.Sprintf("%s %d", w.unit(u.Of), u.Devices))
	}
	return strings.Join(texts, ", ")
}

func (w *impactWriter) atAGlance() {
	w.heading("At a glance")
	n := w.r.Devices.Len()
	if n == 0 {
		w.say("No laptop gets anything else.")
		return
	}
	points := []string{fmt.Sprintf("%s of %d get something else.", Counted(n, "laptop"), w.r.Estate)}
	for _, part := range []struct {
		of    resolve.Devices
		words string
	}{
		{w.r.Weaker(), "get a weaker value"}, {w.r.WithEffect(setting.Restart), "need a restart"},
		{w.r.WithEffect(setting.Prompt), "ask the person something"},
		{w.r.WithEffect(setting.Irreversible), "get something that can't be " +
			"undone from here"}, {w.r.WithEffect(setting.Lockout), "may lock the person out"},
	} {
		if n := part.of.Len(); n > 0 {
			points = append(points, fmt.Sprintf("%s %s.", Counted(n, "laptop"), part.words))
		}
	}
	points = append(points, "By unit: "+w.units(w.r.Devices, mostUnits)+".")
	w.list(points)
}

func (w *impactWriter) findings() {
	var points []string
	conflicts := func(list []resolve.ConflictFound, word string) {
		for _, f := range list {
			points = append(
				points,
				fmt.Sprintf(
					"A conflict %s: ‘%s’ between %s, on %s.",
					word,
					w.title(f.Setting),
					strings.Join(f.Policies, " and "),
					Counted(f.Devices.Len(), "laptop"),
				),
			)
		}
	}
	problems := func(list []resolve.ProblemFound, word string) {
		for _, f := range list {
			points = append(points, fmt.Sprintf("A problem %s: %s On %s.", word, sentence(f.Message), Counted(f.Devices.Len(), "laptop")))
		}
	}
	conflicts(w.r.ConflictsGained, "comes")
	problems(w.r.ProblemsGained, "comes")
	conflicts(w.r.ConflictsCleared, "goes")
	problems(w.r.ProblemsCleared, "goes")
	w.heading("Conflicts and problems")
	if len(points) == 0 {
		w.say("None come, and none go.")
		return
	}
	w.list(points)
}

func sentence(text string) string {
	if text == "" || strings.HasSuffix(text, ".") {
		return text
	}
	return text + "."
}

func (w *impactWriter) state(id setting.ID, s impact.State) string {
	if s.Status == "" {
		return "not set"
	}
	return stateWords(w.plan.Definition(id), s)
}

func (w *impactWriter) ways() {
	list := w.r.Ordered()
	if len(list) == 0 {
		return
	}
	w.heading("Values, the weaker ones first")
	t := Table{Header: []string{"Setting", "From", "To", "Laptops", "Where", "Notes", "Such as"}}
	for i := range list {
		if i == mostWays {
			break
		}
		x := &list[i]
		var notes []string
		if x.Weaker {
			notes = append(notes, "weaker")
		}
		for _, e := range x.Effects {
			notes = append(notes, string(e))
		}
		var named []string
		for _, id := range x.Devices.First(mostNamed) {
			named = append(named, string(id))
		}
		t.Rows = append(
			t.Rows,
			[]string{
				w.title(x.Setting),
				w.state(x.Setting, x.From),
				w.state(x.Setting, x.To),
				fmt.Sprint(x.Devices.Len()),
				w.units(x.Devices, unitsOfEach),
				strings.Join(notes, ", "),
				strings.Join(named, ", "),
			},
		)
	}
	w.Blocks = append(w.Blocks, t)
	if len(list) > mostWays {
		w.say("And %d more ways in which settings alter; the table of this report has them all.", len(list)-mostWays)
	}
}

func (w *impactWriter) audiences() {
	if len(w.r.Audiences) == 0 {
		return
	}
	w.heading("Whom policies reach")
	var points []string
	for _, m := range w.r.Audiences {
		name := string(m.Policy)
		if p := w.plan.Policy(m.Policy); p != nil && p.Title != "" {
			name = p.Title
		}
		var words []string
		if n := m.Gained.Len(); n > 0 {
			words = append(words, "begins to reach "+Counted(n, "laptop"))
		}
		if n := m.Dropped.Len(); n > 0 {
			words = append(words, "no longer reaches "+Counted(n, "laptop"))
		}
		points = append(points, fmt.Sprintf("‘%s’ %s.", name, strings.Join(words, " and ")))
	}
	w.list(points)
}

// ImpactCSV writes a row for every way in which a setting alters on a laptop.
func ImpactCSV(to io.Writer, r *impact.Report, plan *resolve.Plan) error {
	w := &impactWriter{r: r, plan: plan}
	out := csv.NewWriter(to)
	if err := out.Write([]string{"setting", "title", "device", "from", "to", "weaker", "effects"}); err != nil {
		return err
	}
	for _, x := range r.Ordered() {
		effects := make([]string, len(x.Effects))
		for i, e := range x.Effects {
			effects[i] = string(e)
		}
		row := []string{
			string(x.Setting),
			w.title(x.Setting),
			"",
			w.state(x.Setting, x.From),
			w.state(x.Setting, x.To),
			fmt.Sprint(x.Weaker),
			strings.Join(effects, " "),
		}
		for _, id := range x.Devices.IDs() {
			row[2] = string(id)
			if err := out.Write(row); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}
