// This file writes how far laptops are encrypted with a key that can be found again, for auditors.

package report

import (
	"fmt"
	"strings"
	"time"

	"zenithridge.example/zridge/core/recovery"
)

// Coverage is what the page about coverage tells.
type Coverage struct {
	Day     string // on which it was written
	By      string // for whom
	Units   []CoveredUnit
	Laptops []CoveredLaptop
}

// CoveredUnit is a unit with its laptops and those of the units below it.
type CoveredUnit struct {
	Title  string
	Counts recovery.Counts
}

// CoveredLaptop is a laptop with how it is covered.
type CoveredLaptop struct {
	Device, Model, Owner, Unit string
	In                         recovery.Membership
	Volumes                    []recovery.Volume
	Since, Used, Seen          time.Time
}

// groupWords says of a laptop what being in a group means, for groups that somebody has to look at.
var groupWords = []struct {
	group recovery.Group
	title string
}{
	{recovery.NotEscrowed, "Encrypted, but no key is stored"},
	{recovery.NotEncrypted, "Not encrypted yet"},
	{recovery.Unable, "Cannot be encrypted"},
	{recovery.NeverReported, "Never reported"},
	{recovery.NotRenewed, "Key was shown and not replaced yet"},
	{recovery.TooOld, "Key is older than policies allow"},
	{recovery.OtherSeal, "Key is not sealed to the recipients that policies name"},
}

// Document puts words to coverage.
func (c *Coverage) Document() *Document {
	d := &Document{Title: "Disk encryption and recovery keys"}
	d.say("As of %s, written for %s. A laptop counts as covered when each of its fixed volumes is encrypted, and opens with a "+
		"recovery key that is stored.", c.Day, c.By)
	d.heading("By unit")
	units := Table{Header: []string{"Unit", "Laptops", "Encryption demanded", "Encrypted", "Covered", "Covered of those demanded"}}
	for _, u := range c.Units {
		demanded, escrowed := u.Counts.Of(recovery.Demanded), u.Counts.Of(recovery.Escrowed)
		units.Rows = append(units.Rows, []string{
			u.Title, fmt.Sprint(u.Counts.Of(recovery.All)), fmt.Sprint(demanded), fmt.Sprint(u.Counts.Of(recovery.AllEncrypted)),
			fmt.Sprint(escrowed), percent(escrowed, demanded),
		})
	}
	d.Blocks = append(d.Blocks, units)
	for _, g := range groupWords {
		var rows [][]string
		for i := range c.Laptops {
			if l := &c.Laptops[i]; l.In.In(g.group) {
				rows = append(rows, []string{l.Device, l.Model, l.Owner, l.Unit, l.reasons(), day(l.Since), day(l.Used), day(l.Seen)})
			}
		}
		if len(rows) == 0 {
			continue
		}
		d.heading(fmt.Sprintf("%s: %d", g.title, len(rows)))
		d.Blocks = append(d.Blocks, Table{Header: []string{"Laptop", "Model", "Owner", "Unit", "Volumes", "Key since", "Key shown",
			"Reported"}, Rows: rows})
	}
	return d
}

func percent(part, of int) string {
	if of == 0 {
		return "none demanded"
	}
	return fmt.Sprintf("%.1f %%", min(100, 100*float64(part)/float64(of)))
}

func day(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format(time.DateOnly)
}

// reasons says how the volumes of a laptop are.
func (l *CoveredLaptop) reasons() string {
	texts := make([]string, len(l.Volumes))
	for i, v := range l.Volumes {
		texts[i] = v.Name + ": " + string(v.State)
		if v.Reason != "" {
			texts[i] += " (" + v.Reason + ")"
		}
	}
	return strings.Join(texts, "; ")
}

// Rows gives every laptop as rows of a table, the first of which names the columns.
func (c *Coverage) Rows() [][]string {
	header := []string{"device", "model", "owner", "unit", "volumes", "key since", "key shown", "reported"}
	for _, g := range recovery.Groups[1:] {
		header = append(header, string(g))
	}
	out := [][]string{header}
	for i := range c.Laptops {
		l := &c.Laptops[i]
		row := []string{l.Device, l.Model, l.Owner, l.Unit, l.reasons(), day(l.Since), day(l.Used), day(l.Seen)}
		for at := range row {
			row[at] = Cell(row[at])
		}
		for _, g := range recovery.Groups[1:] {
			row = append(row, map[bool]string{true: "yes", false: "no"}[l.In.In(g)])
		}
		out = append(out, row)
	}
	return out
}
