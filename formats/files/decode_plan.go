// This file decodes rollout plans and approval rules.

package files

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
)

const (
	maxWaves    = 100
	maxHours    = 50
	maxDuration = 3650 * 24 * time.Hour // ten years
)

var (
	durationText = regexp.MustCompile(`^([0-9]{1,7})([mhd])$`)
	percentText  = regexp.MustCompile(`^([0-9]{1,9})(?:\.([0-9]{1,9}))?$`)
	clockText    = regexp.MustCompile(`^([01][0-9]|2[0-4]):([0-5][0-9])$`)
	waveID       = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
)

// dayNames are the days of the week as plans name them, Sunday first.
var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// plan decodes a rollout plan; what is left out has its default.
func (d *decoder) plan(n *node, path string) estate.RolloutPlan {
	o := d.object(n, path, "id", "title", "default", "waves", "stop", "hours", "zone", "silent_after", "lost_after")
	p := estate.DefaultPlan()
	p.ID, p.Title, p.Default = estate.RolloutPlanID(o.text("id")), o.text("title"), o.boolean("default")
	o.list("waves", "waves", func(n *node, path string) { p.Waves = append(p.Waves, d.wave(n, path)) })
	d.checkWaves(o, p.Waves)
	if n := o.node.get("stop"); n != nil {
		stop := d.object(n, o.at("stop"), "failed", "lost")
		stop.percent("failed", &p.StopFailed, 0)
		stop.percent("lost", &p.StopLost, 0)
	}
	o.list("hours", "times of the week", func(n *node, path string) { p.Hours = append(p.Hours, d.window(n, path)) })
	if len(p.Hours) > maxHours {
		o.refuse(problem.TooMany, o.at("hours"), o.node.get("hours").place, strconv.Itoa(len(p.Hours)), fmt.Sprintf("at most %d", maxHours))
	}
	if n := o.field("zone", textNode, "a time zone such as Europe/Lisbon"); n != nil {
		zone, err := time.LoadLocation(n.text)
		if err != nil || n.text == "" || n.text == "Local" {
			o.refuse(
				problem.NotOneOf,
				o.at("zone"),
				n.place,
				problem.Quote(n.text),
				"a time zone of the tz database such as Europe/Lisbon, or UTC",
			)
		} else {
			p.Zone = zone
		}
	}
	o.duration("silent_after", &p.SilentAfter, time.Minute)
	o.duration("lost_after", &p.LostAfter, time.Minute)
	return p
}

func (d *decoder) wave(n *node, path string) estate.Wave {
	o := d.object(n, path, "id", "who", "share", "rest", "least", "enough", "go")
	o.require("id", "an id of the wave, each once")
	w := estate.DefaultWave(estate.WaveID(o.text("id")), "")
	if n := o.node.get("id"); n != nil && n.kind == textNode && !waveID.MatchString(n.text) {
		o.refuse(problem.BadID, o.at("id"), n.place, problem.Quote(n.text), "1 to 64 of a to z, 0 to 9, and . _ - after the first")
	}
	var kinds []string
	if n := o.node.get("who"); n != nil {
		kinds, w.Kind = append(kinds, "who"), estate.ByAudience
		w.Who = d.audience(n, o.at("who"))
	}
	if o.node.get("share") != nil {
		kinds, w.Kind = append(kinds, "share"), estate.ByShare
		o.percent("share", &w.Share, 1)
	}
	if n := o.node.get("rest"); n != nil {
		kinds, w.Kind = append(kinds, "rest"), estate.ForRest
		if !o.boolean("rest") && n.kind == boolNode {
			o.refuse(problem.NotOneOf, o.at("rest"), n.place, "false", "true, or no such field")
		}
	}
	if len(kinds) != 1 && n.kind == mapNode {
		found := "none of them"
		if len(kinds) > 0 {
			found = strings.Join(kinds, " and ")
		}
		o.refuse(problem.EitherOr, path, n.place, found, "exactly one of who, share and rest")
	}
	o.duration("least", &w.Least, 0)
	o.percent("enough", &w.Enough, 0)
	if n := o.field("go", textNode, "automatic or by-hand"); n != nil {
		w.ByHand = n.text == "by-hand"
		if !w.ByHand && n.text != "automatic" {
			o.refuse(problem.NotOneOf, o.at("go"), n.place, problem.Quote(n.text), "automatic or by-hand")
		}
	}
	return w
}

// checkWaves looks at the waves of a plan together.
func (d *decoder) checkWaves(plan object, waves []estate.Wave) {
	list := plan.node.get("waves")
	if list == nil || list.kind != listNode {
		return
	}
	if len(waves) > maxWaves {
		d.refuse(problem.TooMany, plan.at("waves"), list.place, strconv.Itoa(len(waves)), fmt.Sprintf("at most %d waves", maxWaves))
	}
	hasRest := false
	for i, w := range waves {
		at, place := problem.Join(plan.at("waves"), i), list.items[i].place
		if before := slices.IndexFunc(waves[:i], func(o estate.Wave) bool { return o.ID == w.ID }); before >= 0 && w.ID != "" {
			d.refuse(
				problem.DoubledID,
				problem.Join(at, "id"),
				place,
				problem.Quote(string(w.ID)),
				"each id once; wave "+strconv.Itoa(before+1)+" has it",
			)
		}
		if w.Kind == estate.ForRest {
			hasRest = true
			if i < len(waves)-1 {
				d.refuse(
					problem.MisplacedField,
					problem.Join(at, "rest"),
					place,
					"a wave for the rest that is not the last",
					"rest in the last wave alone",
				)
			}
		}
	}
	if at := slices.IndexFunc(waves, func(w estate.Wave) bool { return w.ID == estate.RestID }); at >= 0 && !hasRest {
		d.refuse(
			problem.DoubledID, problem.Join(plan.at("waves"), at, "id"), list.items[at].place, problem.Quote(string(estate.RestID)),
			"another id: a last wave with this id is added for the rest",
		)
	}
}

func (d *decoder) window(n *node, path string) estate.Window {
	o := d.object(n, path, "days", "from", "to")
	o.require("days", "days of the week")
	var w estate.Window
	present := o.list("days", "days of the week", func(n *node, path string) {
		day := slices.Index(dayNames, n.text)
		switch {
		case n.kind != textNode:
			d.wrong(path, n, "a day of the week")
		case day < 0:
			d.refuse(problem.NotOneOf, path, n.place, problem.Quote(n.text), "one of "+strings.Join(dayNames, ", "))
		case slices.Contains(w.Days, time.Weekday(day)):
			d.refuse(problem.DoubledItem, path, n.place, problem.Quote(n.text), "each day once")
		default:
			w.Days = append(w.Days, time.Weekday(day))
		}
	})
	if days := o.node.get("days"); present && days.kind == listNode && len(days.items) == 0 {
		o.refuse(problem.OutOfRange, o.at("days"), days.place, "no days", "at least one day")
	}
	from, knownFrom := o.clock("from")
	to, knownTo := o.clock("to")
	w.From, w.To = from, to
	if knownFrom && knownTo && from >= to {
		o.refuse(
			problem.OutOfRange,
			o.at("to"),
			o.node.get("to").place,
			problem.Quote(to.String()),
			"a time after "+from.String()+" of the same day, at most 24:00",
		)
	}
	return w
}

// clock reads a time of the day.
func (o object) clock(name string) (c estate.Clock, known bool) {
	o.require(name, "a time of the day such as 09:00")
	n := o.field(name, textNode, "a time of the day such as 09:00")
	if n == nil {
		return 0, false
	}
	parts := clockText.FindStringSubmatch(n.text)
	if parts == nil || parts[1] == "24" && parts[2] != "00" {
		o.refuse(problem.BadDate, o.at(name), n.place, problem.Quote(n.text), "a time of the day from 00:00 to 24:00")
		return 0, false
	}
	hours, _ := strconv.Atoi(parts[1])
	minutes, _ := strconv.Atoi(parts[2])
	return estate.Clock(hours*60 + minutes), true
}

// duration reads a whole number of minutes, hours or days into to, where the field is there.
func (o object) duration(name string, to *time.Duration, least time.Duration) {
	expected := "a whole number with m, h or d, such as 24h, "
	if least > 0 {
		expected += "more than 0 and "
	}
	expected += "at most 3650d"
	n := o.field(name, textNode, expected)
	if n == nil {
		return
	}
	units := map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour}
	parts := durationText.FindStringSubmatch(n.text)
	if parts != nil {
		number, _ := strconv.ParseInt(parts[1], 10, 64)
		if unit := units[parts[2]]; number <= int64(maxDuration/unit) && time.Duration(number)*unit >= least {
			*to = time.Duration(number) * unit
			return
		}
	}
	o.refuse(problem.OutOfRange, o.at(name), n.place, problem.Quote(n.text), expected)
}

// percent reads a percentage with at most two decimals into to, where the field is there. least is in
// hundredths of a percent.
func (o object) percent(name string, to *estate.Percent, least estate.Percent) {
	n := o.node.get(name)
	if n == nil {
		return
	}
	expected := "a percentage from 0 to 100 with at most two decimals"
	if least > 0 {
		expected = "a percentage above 0 and at most 100 with at most two decimals"
	}
	if n.kind != integerNode && n.kind != numberNode {
		o.wrong(o.at(name), n, expected)
		return
	}
	if p, ok := parsePercent(n.text); ok && p >= least && p <= estate.Whole {
		*to = p
		return
	}
	o.refuse(problem.OutOfRange, o.at(name), n.place, problem.Quote(n.text), expected)
}

// parsePercent reads a number with at most two decimals that say something, exactly.
func parsePercent(text string) (estate.Percent, bool) {
	parts := percentText.FindStringSubmatch(text)
	if parts == nil {
		return 0, false
	}
	decimals := strings.TrimRight(parts[2], "0")
	if len(decimals) > 2 {
		return 0, false
	}
	number, err := strconv.ParseInt(parts[1]+(decimals + "00")[:2], 10, 64)
	return estate.Percent(number), err == nil && number <= math.MaxInt32
}

// approvalRule decodes an approval rule; what is left out asks for one approval.
func (d *decoder) approvalRule(n *node, path string) estate.ApprovalRule {
	o := d.object(n, path, "id", "title", "when", "approvals", "from", "reason")
	r := estate.ApprovalRule{
		ID: estate.ApprovalRuleID(o.text("id")), Title: o.text("title"), When: o.expression("when", rule.OfChange), Approvals: 1,
		From: o.ref("from"), Reason: o.text("reason"),
	}
	if n := o.integer("approvals"); n != nil {
		r.Approvals = int(min(max(*n, -1), estate.MaxApprovals+1)) // what is out of range stays so
	}
	return r
}
