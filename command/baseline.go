// This file implements `zridge baseline`: how laptops stand to baselines, and what a new one is captured from.

package command

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func baselineCommand(s Streams) *cli.Command {
	unit := &cli.StringFlag{Name: "unit", Usage: "laptops of this `UNIT` and below"}
	return &cli.Command{
		Name: "baseline", Usage: "baselines, by which laptops are measured: list, show, laptops, capture, retire",
		Description: "A baseline is a named set of values that laptops are to have. It never overrides a policy: where the two " +
			"disagree, it says so.\n" +
			"Exit status 3 says that fewer laptops comply than a baseline's line wants.",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "baselines with how many of their laptops comply", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					list, err := client.Get[[]wire.BaselineSummary](ctx, api, "/baselines", nil)
					if err != nil {
						return err
					}
					if err := printed(s, c, list, func() { printBaselines(s, list) }); err != nil {
						return err
					}
					for _, b := range list {
						if b.Below {
							return &exitError{exitFindings, ""}
						}
					}
					return nil
				}),
			},
			{
				Name: "show", Usage: "how laptops stand to a baseline, by unit and by setting", ArgsUsage: "BASELINE",
				Flags: []cli.Flag{unit, formatFlag("text", "json", "csv")},
				Action: asked(s, 1, "BASELINE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					path := client.Path("baselines", c.Args().First(), "compliance")
					is, err := client.Get[wire.Compliance](ctx, api, path, url.Values{"unit": {c.String("unit")}})
					if err != nil {
						return err
					}
					if c.String("format") == "csv" {
						return complianceCSV(s, &is)
					}
					if err := printed(s, c, is, func() { printCompliance(s, &is) }); err != nil || !is.Baseline.Below {
						return err
					}
					return &exitError{exitFindings, ""}
				}),
			},
			baselineLaptops(s, unit),
			captureCommand(s),
			{
				Name: "retire", Usage: "retire a baseline: nothing is measured by it any more", ArgsUsage: "BASELINE", Flags: []cli.Flag{changeFlag()},
				Action: writing(s, 1, "BASELINE", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					return putEdit(ctx, api, s.Out, change, http.MethodPost, "baselines", c.Args().First(), "/retire", nil)
				}),
			},
		},
	}
}

func printBaselines(s Streams, list []wire.BaselineSummary) {
	rows := make([][]string, len(list))
	for i, b := range list {
		line := "–"
		if b.AlertBelow != "" {
			line = b.AlertBelow.String() + " %"
		}
		share := b.Count.Percent.String() + " %"
		if b.Below {
			share += " BELOW"
		}
		rows[i] = []string{
			b.ID, b.Title, counted(b.Settings, "setting"), fmt.Sprint(b.Count.Laptops), share, line, fmt.Sprint(b.Count.Differs),
			fmt.Sprint(b.Count.Unknown),
		}
	}
	printTable(s.Out, []string{"baseline", "title", "settings", "laptops", "comply", "line", "differ", "not known"}, rows)
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "There is no baseline. Make one with: zridge baseline capture ID --from-policy POLICY --include TARGET")
	}
}

func printCompliance(s Streams, is *wire.Compliance) {
	b := is.Baseline
	fmt.Fprintf(
		s.Out, "%s: %s %% of %s comply, %d differ, of %d it is not known\n\n",
		cmp.Or(b.Title, b.ID), b.Count.Percent, counted(b.Count.Laptops, "laptop"), b.Count.Differs, b.Count.Unknown,
	)
	units := make([][]string, len(is.Units))
	for i, u := range is.Units {
		units[i] = []string{
			cmp.Or(u.Title, u.Unit), u.Count.Percent.String() + " %", fmt.Sprint(u.Count.Laptops), fmt.Sprint(u.Count.Differs),
			fmt.Sprint(u.Count.Unknown),
		}
	}
	printTable(s.Out, []string{"unit", "comply", "laptops", "differ", "not known"}, units)
	fmt.Fprintln(s.Out)
	items := make([][]string, len(is.Items))
	for i, x := range is.Items {
		items[i] = []string{
			x.Setting, x.Severity, valueText(&x.Value), fmt.Sprint(x.Complies), fmt.Sprint(x.Differs), fmt.Sprint(x.Overridden),
			fmt.Sprint(x.NotReported),
			fmt.Sprint(x.Unsupported), strings.Join(x.Policies, ", "),
		}
	}
	printTable(s.Out, []string{"setting", "severity", "wanted", "comply", "differ", "overridden", "not reported", "not supported",
		"by policies"}, items)
}

// complianceCSV writes how laptops stand, by unit, for a table of somebody else.
func complianceCSV(s Streams, is *wire.Compliance) error {
	w := csv.NewWriter(s.Out)
	rows := [][]string{{"baseline", "unit", "laptops", "comply", "differ", "not_known", "percent"}}
	for _, u := range is.Units {
		rows = append(rows, []string{
			is.Baseline.ID, u.Unit, fmt.Sprint(u.Count.Laptops), fmt.Sprint(u.Count.Complies), fmt.Sprint(u.Count.Differs),
			fmt.Sprint(u.Count.Unknown), u.Count.Percent.String(),
		})
	}
	return w.WriteAll(rows)
}

func baselineLaptops(s Streams, unit cli.Flag) *cli.Command {
	return &cli.Command{
		Name: "laptops", Usage: "the laptops of a baseline, with what is not as it wants it", ArgsUsage: "BASELINE",
		Flags: []cli.Flag{
			unit, &cli.StringFlag{Name: "state", Usage: "complies, differs or unknown"},
			&cli.StringFlag{Name: "setting", Usage: "laptops on which this `SETTING` is not as it is wanted"},
			formatFlag("text", "json", "csv"),
		},
		Action: asked(s, 1, "BASELINE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			q := url.Values{}
			for _, name := range []string{"unit", "state", "setting"} {
				if v := c.String(name); v != "" {
					q.Set(name, v)
				}
			}
			list, err := client.All[wire.LaptopCompliance](ctx, api, client.Path("baselines", c.Args().First(), "laptops"), q)
			if err != nil {
				return err
			}
			rows := make([][]string, len(list))
			for i, l := range list {
				var failing []string
				for _, f := range l.Failing {
					failing = append(failing, f.Setting+" ("+strings.ReplaceAll(f.Verdict, "-", " ")+")")
				}
				rows[i] = []string{l.Device, l.Unit, l.State, strings.Join(failing, ", ")}
			}
			heads := []string{"device", "unit", "state", "not as wanted"}
			if c.String("format") == "csv" {
				return csv.NewWriter(s.Out).WriteAll(append([][]string{heads}, rows...))
			}
			return printed(s, c, list, func() { printTable(s.Out, heads, rows) })
		}),
	}
}

func captureCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "capture", Usage: "make a baseline of what a laptop has, or of what a policy sets", ArgsUsage: "BASELINE",
		Description: "Example:\n  zridge baseline capture field --from-policy house-rules --include group:field-laptops --severity " +
			"high --alert-below 95",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from-device", Usage: "a reference `DEVICE`, by id or serial:NUMBER"},
			&cli.StringFlag{Name: "from-policy", Usage: "a `POLICY`"},
			&cli.StringFlag{Name: "title", Usage: "a `TITLE`"},
			&cli.StringSliceFlag{Name: "include", Usage: "`TARGET` that is measured"},
			&cli.StringSliceFlag{Name: "only", Usage: "take this `SETTING` alone, or an area:NAME"},
			&cli.StringFlag{Name: "severity", Value: "medium", Usage: "critical, high, medium or low, for each setting"},
			&cli.BoolFlag{Name: "repair", Usage: "put right what differs and no policy decides"},
			&cli.StringFlag{Name: "alert-below", Usage: "say so when fewer than this `PERCENT` of the laptops comply"},
			changeFlag(),
		},
		Action: writing(s, 1, "BASELINE", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			q := url.Values{}
			if policy := c.String("from-policy"); policy != "" {
				q.Set("policy", policy)
			}
			if device := c.String("from-device"); device != "" {
				id, err := deviceID(ctx, api, device)
				if err != nil {
					return err
				}
				q.Set("device", id)
			}
			items, err := client.Get[map[string]files.BaselineItemDoc](ctx, api, "/baseline-settings", q)
			if err != nil {
				return err
			}
			doc := files.BaselineDoc{
				ID: c.Args().First(), Title: c.String("title"), AlertBelow: json.Number(c.String("alert-below")),
				Audience: files.AudienceDoc{Include: c.StringSlice("include")}, Settings: map[string]files.BaselineItemDoc{},
			}
			for id, item := range items {
				if !onlyThese(c.StringSlice("only"), id, item.Category) {
					continue
				}
				if item.Severity = c.String("severity"); c.Bool("repair") {
					item.OnDrift = "repair"
				}
				doc.Settings[id] = item
			}
			if len(doc.Settings) == 0 {
				return usage("baseline capture: there is no such setting to take")
			}
			if _, err := api.Call(ctx, http.MethodPut, client.Path("changes", change.ID, "edits", "baselines", doc.ID), nil, doc, nil); err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "The baseline %s has %s. Publish it with: zridge change publish %s\n", doc.ID,
				counted(len(doc.Settings), "setting"), change.ID)
			return nil
		}),
	}
}

// onlyThese tells whether a setting is among those that are named; without any, all are.
func onlyThese(only []string, id, area string) bool {
	for _, name := range only {
		if name == id || name == "area:"+area {
			return true
		}
	}
	return len(only) == 0
}
