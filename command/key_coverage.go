// This file implements `zridge key coverage` and `zridge key findings`.

package command

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/wire"
)

func keyCoverageCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "coverage", Usage: "how far laptops are encrypted with a key that can be found again, by unit; with --group its laptops",
		ArgsUsage: " ",
		Description: "Examples:\n  zridge key coverage\n  zridge key coverage --group not-encrypted --unit labs\n" +
			"  zridge key coverage --report html --output coverage.html",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "this `UNIT` with what is below it"},
			&cli.StringFlag{Name: "group", Usage: "list the laptops of a `GROUP`: " + groupNames(), Validator: func(text string) error {
				if !slices.Contains(recovery.Groups, recovery.Group(text)) {
					return fmt.Errorf("Found %s: expected one of %s", problem.Quote(text), groupNames()) //nolint:staticcheck // a sentence for people
				}
				return nil
			}},
			&cli.StringFlag{Name: "report", Usage: "as a page for auditors, in a `FORMAT`: " +
				"markdown, html, csv", Validator: func(text string) error {
				if !slices.Contains([]string{"markdown", "html", "csv"}, text) {
					return fmt.Errorf("Found %s: expected one of markdown, html, csv", problem.Quote(text))
				}
				return nil
			}},
			&cli.StringFlag{Name: "output", Usage: "`FILE` for the page; without it, it is printed", TakesFile: true},
			formatFlag("text", "json"),
		},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			q := url.Values{}
			if unit := c.String("unit"); unit != "" {
				q.Set("unit", unit)
			}
			switch {
			case c.String("report") != "":
				return coverageReport(ctx, s, c, api, q)
			case c.String("group") != "":
				return coverageGroup(ctx, s, c, api, q)
			}
			units, err := client.Get[[]wire.UnitCoverage](ctx, api, "/coverage", nil)
			if err != nil {
				return err
			}
			if unit := c.String("unit"); unit != "" {
				if units = below(units, unit); len(units) == 0 {
					return usage("There is no unit %s with laptops that you see. List them with: zridge unit list", problem.Quote(unit))
				}
			}
			return printed(s, c, units, func() { printCoverage(s.Out, units) })
		}),
	}
}

func groupNames() string {
	texts := make([]string, len(recovery.Groups))
	for i, g := range recovery.Groups {
		texts[i] = string(g)
	}
	return strings.Join(texts, ", ")
}

// below gives a unit with those below it, which follow it.
func below(units []wire.UnitCoverage, unit string) []wire.UnitCoverage {
	at := slices.IndexFunc(units, func(u wire.UnitCoverage) bool { return u.Unit == unit })
	if at < 0 {
		return nil
	}
	end := at + 1
	for end < len(units) && units[end].Depth > units[at].Depth {
		end++
	}
	return units[at:end]
}

func printCoverage(w io.Writer, units []wire.UnitCoverage) {
	rows := make([][]string, len(units))
	for i, u := range units {
		c := u.Counts
		numbers := []int{c.All, c.Demanded, c.Encrypted, c.Escrowed, c.NotEscrowed, c.NotEncrypted, c.Cannot, c.NeverReported,
			c.NotRenewed, c.TooOld, c.NotResealed}
		rows[i] = []string{strings.Repeat("  ", u.Depth) + u.Title}
		for _, n := range numbers {
			rows[i] = append(rows[i], fmt.Sprint(n))
		}
	}
	printTable(w, []string{
		"unit", "laptops", "demanded", "encrypted", "covered", "no key stored", "not encrypted", "cannot", "never reported", "shown",
		"too old", "other seal",
	}, rows)
}

func coverageGroup(ctx context.Context, s Streams, c *cli.Command, api *client.Client, q url.Values) error {
	q.Set("group", c.String("group"))
	list, err := client.All[wire.CoveredLaptop](ctx, api, "/coverage/laptops", q)
	if err != nil {
		return err
	}
	return printed(s, c, list, func() {
		rows := make([][]string, len(list))
		for i, l := range list {
			owner, why := "shared", []string{}
			if l.Owner != nil {
				owner = titleOr(*l.Owner)
			}
			for _, v := range l.Volumes {
				if text := strings.TrimSpace(v.Reason + " " + v.Weak); text != "" {
					why = append(why, text)
				}
			}
			rows[i] = []string{l.Device, l.Model, owner, l.Unit.Title, stateOfVolumes(l.Volumes), since(l.KeySince),
				strings.Join(append(why, usedText(l.UsedAt)), " ")}
		}
		printTable(s.Out, []string{"laptop", "model", "owner", "unit", "disk", "key since", ""}, rows)
		fmt.Fprintln(s.Out, counted(len(list), "laptop"))
	})
}

func coverageReport(ctx context.Context, s Streams, c *cli.Command, api *client.Client, q url.Values) error {
	q.Set("format", c.String("report"))
	var page []byte
	if _, err := api.Call(ctx, http.MethodGet, "/coverage/report", q, nil, &page); err != nil {
		return err
	}
	if file := c.String("output"); file != "" {
		return os.WriteFile(file, page, 0o644)
	}
	_, err := s.Out.Write(page)
	return err
}

// findingWords says of each code what was found.
var findingWords = map[string]string{
	"no-recipient":        "have to be encrypted, but no escrow recipient is named: they wait for ever",
	"no-escrow":           "have to be encrypted, but their keys are kept nowhere",
	"unknown-recipient":   "seal their keys to a recipient that nobody registered",
	"destroyed-recipient": "are to seal their keys to a recipient that is destroyed",
	"recipient-due":       "seal their keys to a recipient that is to be replaced",
	"owner-left":          "are encrypted, and their owner has left",
	"not-renewed":         "had a key shown more than a day ago that still opens them",
	"weak-volume":         "have a volume that is weaker than it should be",
}

func keyFindingsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "findings", Usage: "what has to be looked at about recovery keys; exit status 3 says that there is something", ArgsUsage: " ",
		Flags: []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			list, err := client.Get[[]wire.RecoveryFinding](ctx, api, "/coverage/findings", nil)
			if err != nil {
				return err
			}
			if err := printed(s, c, list, func() {
				for _, f := range list {
					what := strings.Join(slices.DeleteFunc([]string{f.What, f.Day}, func(t string) bool { return t == "" }), ", until ")
					if what != "" {
						what = " (" + what + ")"
					}
					fmt.Fprintf(s.Out, "%s %s%s: %s\n", counted(f.Laptops, "laptop"), findingWords[f.Code], what,
						strings.Join(firstOf(f.Devices, 8, f.Laptops), ", "))
				}
				if len(list) == 0 {
					fmt.Fprintln(s.Out, "Nothing has to be looked at.")
				}
			}); err != nil {
				return err
			}
			if len(list) > 0 {
				return &exitError{exitFindings, ""}
			}
			return nil
		}),
	}
}

// firstOf gives the first of a list, and says how many more there are of all.
func firstOf(list []string, most, all int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("%d more", all-most))
}
