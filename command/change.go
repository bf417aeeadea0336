// This file implements `zridge change`.

package command

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func changeCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "edits laid over what is live: open, edit, see the impact, have it reviewed, publish",
		Commands: append([]*cli.Command{
			listing(s, "list", "changes", "/changes", []string{"change", "state", "title", "by", "updated"}, func(c wire.Change) []string {
				return []string{c.ID, c.State, c.Title, c.CreatedBy, moment(c.UpdatedAt)}
			}, &cli.StringFlag{Name: "state", Usage: "only those that are `STATE`: open, in-review, rolling-out, published, " +
				"taken-back or discarded"}),
			{
				Name: "new", Usage: "open a change", ArgsUsage: "TITLE",
				Description: "Example:\n  zridge change new \"USB for the field crew\" --why \"Ticket 4410\"",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "why", Usage: "the `REASON`"}, formatFlag("text", "json")},
				Action: asked(s, 1, "TITLE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					change, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: c.Args().First(), Why: c.String("why")})
					if err != nil {
						return err
					}
					if err := rememberChange(change.ID); err != nil {
						return err
					}
					return printed(s, c, change, func() { fmt.Fprintln(s.Out, change.ID) })
				}),
			},
			{
				Name: "show", Usage: "a change with its edits", ArgsUsage: "[CHANGE]", Flags: []cli.Flag{formatFlag("text", "json")},
				Description: "Without CHANGE it is the one that you opened last.",
				Action: asked(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					change, err := changeNamed(ctx, s, c, api)
					if err != nil {
						return err
					}
					return printed(s, c, change, func() { printChange(s.Out, change) })
				}),
			},
			{
				Name:      "edit",
				Usage:     "put objects of an estate file into a change, or retire one",
				ArgsUsage: "CHANGE FILE | CHANGE --retire KIND/ID",
				Description: "FILE holds lists of the estate format (policies, groups, rulings, exceptions …), `-` reads them from " +
					"the input. An edit that is in the\nchange already is altered.\n\nExamples:\n" +
					"  zridge change edit C-abc12345 usb.yaml\n  zridge change edit C-abc12345 --retire policies/usb-read-only",
				Flags:  []cli.Flag{&cli.StringFlag{Name: "retire", Usage: "retire the object `KIND/ID`"}},
				Action: editAction(s),
			},
			{
				Name: "drop", Usage: "take an edit out of a change", ArgsUsage: "CHANGE KIND/ID",
				Action: asked(s, 2, "CHANGE KIND/ID", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					kind, id, err := kindAndID(c.Args().Get(1))
					if err != nil {
						return err
					}
					_, err = api.Call(ctx, http.MethodDelete, client.Path("changes", c.Args().First(), "edits", kind, id), nil, nil, nil)
					return err
				}),
			},
			{
				Name:      "impact",
				Usage:     "what a change does to what is live",
				ArgsUsage: "[CHANGE]",
				Description: "Without CHANGE it is the one that you opened last. Every number has a name under --format json " +
					"(devices, weaker, restart, prompt, irreversible, lockout, or `part`): --laptops NAME lists the laptops behind " +
					"it.\nmarkdown, html and csv give the report for the change board; csv has a row for every setting that alters " +
					"on a laptop.",
				Flags: []cli.Flag{
					formatFlag("text", "json", "markdown", "html", "csv"),
					&cli.StringFlag{Name: "laptops", Usage: "list the laptops behind a `NUMBER` instead"},
				},
				Action: asked(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					change, err := changeNamed(ctx, s, c, api)
					if err != nil {
						return err
					}
					if c.IsSet("laptops") {
						return showLaptops(ctx, api, s.Out, change.ID, c.String("laptops"), c.String("format"))
					}
					return showImpact(ctx, api, s.Out, change.ID, c.String("format"))
				}),
			},
			{
				Name:      "publish",
				Usage:     "make a change live or start its rollout, after showing what it does",
				ArgsUsage: "CHANGE",
				Description: "Shows the impact first and publishes with --yes, provided that nobody altered the change in between. " +
					"It goes out in the waves of\n" +
					"the default rollout plan, where there is one, else to all laptops at once.",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "yes", Usage: "publish; without it the impact is shown and nothing is done"},
					&cli.StringFlag{Name: "plan", Usage: "the rollout plan with the id `PLAN`"},
					&cli.BoolFlag{Name: "at-once", Usage: "to all laptops at once, without waves"},
					&cli.StringFlag{Name: "urgent", Usage: "publish without the approvals that are missing, for this `REASON`; they " +
						"must follow"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "CHANGE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id := c.Args().First()
					change, err := client.Get[wire.Change](ctx, api, client.Path("changes", id), nil)
					if err != nil {
						return err
					}
					if c.String("format") == "text" {
						if err := showImpact(ctx, api, s.Out, id, "text"); err != nil {
							return err
						}
					}
					if !c.Bool("yes") {
						return &exitError{exitUsage, "nothing was published; say --yes to publish"}
					}
					how := wire.PublishRequest{Plan: c.String("plan"), AtOnce: c.Bool("at-once"), Urgent: c.String("urgent")}
					return publish(ctx, api, s.Out, change, how, c.String("format"))
				}),
			},
			{
				Name: "discard", Usage: "end a change without publishing it", ArgsUsage: "CHANGE",
				Action: asked(s, 1, "CHANGE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					_, err := api.Call(ctx, http.MethodDelete, client.Path("changes", c.Args().First()), nil, nil, nil)
					return err
				}),
			},
		}, reviewCommands(s)...),
	}
}

// changeNamed gives the change that the argument names, or the one that was opened last and is open.
func changeNamed(ctx context.Context, s Streams, c *cli.Command, api *client.Client) (wire.Change, error) {
	switch c.NArg() {
	case 1:
		return client.Get[wire.Change](ctx, api, client.Path("changes", c.Args().First()), nil)
	case 0:
	default:
		return wire.Change{}, wrongArguments(c, "[CHANGE]")
	}
	k, err := readSignIn()
	if err != nil {
		return wire.Change{}, err
	}
	change, ok := openChange(ctx, api, k)
	if !ok {
		return change, wrongArguments(c, "CHANGE")
	}
	fmt.Fprintf(s.Err, "the open change %s, %s\n", change.ID, change.Title)
	return change, nil
}

// anyNumber of arguments may be given.
const anyNumber = math.MinInt

// countArguments refuses another number of arguments than is expected; a negative one is the least.
func countArguments(c *cli.Command, arguments int, expected string) error {
	if arguments == anyNumber || arguments >= 0 && c.NArg() == arguments || arguments < 0 && c.NArg() >= -arguments {
		return nil
	}
	return wrongArguments(c, expected)
}

// asked makes an action that takes a number of arguments and asks the service.
func asked(_ Streams, arguments int, expected string, do func(context.Context, *cli.Command, *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := countArguments(c, arguments, expected); err != nil {
			return err
		}
		api, err := signedIn()
		if err != nil {
			return err
		}
		return do(ctx, c, api)
	}
}

func kindAndID(text string) (kind, id string, err error) {
	kind, id, found := strings.Cut(text, "/")
	if !found || kind == "" || id == "" {
		return "", "", usage("found %s, expected KIND/ID such as policies/house-rules", problem.Quote(text))
	}
	return kind, id, nil
}

func editAction(s Streams) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		retire := c.String("retire")
		if retire == "" && c.NArg() != 2 || retire != "" && c.NArg() != 1 {
			return usage("edit: found %d arguments, expected CHANGE FILE, or CHANGE --retire KIND/ID", c.NArg())
		}
		api, err := signedIn()
		if err != nil {
			return err
		}
		change, err := client.Get[wire.Change](ctx, api, client.Path("changes", c.Args().First()), nil)
		if err != nil {
			return err
		}
		if retire != "" {
			kind, id, err := kindAndID(retire)
			if err != nil {
				return err
			}
			return putEdit(ctx, api, s.Out, change, http.MethodPost, kind, id, "/retire", nil)
		}
		objects, err := readObjects(s, c.Args().Get(1))
		if err != nil {
			return err
		}
		for _, o := range objects {
			body, err := files.EncodeJSON(o.Value)
			if err != nil {
				return err
			}
			if err := putEdit(ctx, api, s.Out, change, http.MethodPut, string(o.Kind), files.ObjectID(o.Value), "", body); err != nil {
				return err
			}
		}
		return nil
	}
}

func readObjects(s Streams, name string) ([]files.Object, error) {
	data, err := readInput(s, name)
	if err != nil {
		return nil, err
	}
	if name == "-" {
		name = "input.yaml"
	}
	return files.ReadObjects(name, data)
}

// putEdit puts one edit in, over the version of it that the change has.
func putEdit(ctx context.Context, api *client.Client, w io.Writer, change wire.Change, method, kind, id, suffix string, body []byte) error {
	var headers []string
	for _, e := range change.Edits {
		if e.Kind == kind && e.ID == id {
			headers = []string{"If-Match", fmt.Sprintf(`"%d"`, e.Version)}
		}
	}
	var in any
	if body != nil {
		in = body
	}
	var edit wire.Edit
	if _, err := api.Call(ctx, method, client.Path("changes", change.ID, "edits", kind, id)+suffix, nil, in, &edit, headers...); err != nil {
		return err
	}
	fmt.Fprintf(w, "%s %s/%s\n", edit.Action, kind, id)
	return nil
}

func printChange(w io.Writer, change wire.Change) {
	fmt.Fprintf(w, "%s  %s  %s\n", change.ID, change.State, change.Title)
	if change.Why != "" {
		fmt.Fprintln(w, change.Why)
	}
	rows := make([][]string, len(change.Edits))
	for i, e := range change.Edits {
		note := ""
		if e.BaseVersion != e.LiveVersion && change.State == "open" {
			note = "overtaken by another change"
		}
		rows[i] = []string{e.Action, e.Kind + "/" + e.ID, e.By, moment(e.At), note}
	}
	printTable(w, []string{"action", "object", "by", "at", ""}, rows)
	if change.HiddenEdits > 0 {
		fmt.Fprintf(w, "%s outside of the units that you may read\n", counted(change.HiddenEdits, "edit"))
	}
}

// showLaptops lists the laptops behind one number of an impact.
func showLaptops(ctx context.Context, api *client.Client, w io.Writer, id, part, format string) error {
	query := url.Values{"change": {id}, "part": {part}, "limit": {"100000"}}
	var page wire.Page[wire.ImpactDevice]
	if _, err := api.Call(ctx, http.MethodPost, "/impact/devices", query, map[string]any{"edits": []any{}}, &page); err != nil {
		return err
	}
	switch format {
	case "json":
		return printJSON(w, page.Items)
	case "csv":
		table := csv.NewWriter(w)
		table.Write([]string{"id", "serial", "owner", "unit", "os", "os_version", "model"})
		for _, d := range page.Items {
			table.Write([]string{d.ID, d.Serial, d.Owner, d.Unit, d.OS, d.OSVersion, d.Model})
		}
		table.Flush()
		return table.Error()
	case "text":
	default:
		return usage("impact: found --format %s with --laptops, expected text, json or csv", format)
	}
	rows := make([][]string, len(page.Items))
	for i, d := range page.Items {
		rows[i] = []string{d.ID, d.OwnerName, d.Unit, d.OS + " " + d.OSVersion}
	}
	printTable(w, []string{"device", "owner", "unit", "system"}, rows)
	fmt.Fprintln(w, counted(len(rows), "device"))
	return nil
}

func showImpact(ctx context.Context, api *client.Client, w io.Writer, id, format string) error {
	if format == "markdown" || format == "html" || format == "csv" {
		var text []byte
		if _, err := api.Call(
			ctx,
			http.MethodGet,
			client.Path("changes", id, "impact", "report"),
			url.Values{"format": {format}},
			nil,
			&text,
		); err != nil {
			return err
		}
		_, err := w.Write(text)
		return err
	}
	impact, err := client.Get[wire.Impact](ctx, api, client.Path("changes", id, "impact"), nil)
	if err != nil {
		return err
	}
	if format == "json" {
		return printJSON(w, impact)
	}
	if len(impact.Faults) > 0 {
		return problem.Faults(impact.Faults)
	}
	printImpact(w, impact)
	return nil
}

// printImpact prints what a change does.
func printImpact(w io.Writer, impact wire.Impact) {
	fmt.Fprintf(w, "%d of %s get something else", impact.Devices, counted(impact.Estate, "device"))
	for _, part := range []struct {
		n    int
		text string
	}{{impact.Weaker, "get a weaker value"}, {impact.Restart, "restart"}, {impact.Prompt, "ask the person something"},
		{impact.Irreversible, "can't be undone"}, {impact.Lockout, "may lock the person out"}} {
		if part.n > 0 {
			fmt.Fprintf(w, "; %d %s", part.n, part.text)
		}
	}
	fmt.Fprintln(w)
	rows := make([][]string, len(impact.Transitions))
	for i, t := range impact.Transitions {
		weaker := ""
		if t.Weaker {
			weaker = "weaker"
		}
		units := make([]string, len(t.Units))
		for j, u := range t.Units {
			units[j] = fmt.Sprintf("%s %d", u.Unit, u.Devices)
		}
		rows[i] = []string{
			t.Setting,
			stateText(t.From),
			"→",
			stateText(t.To),
			weaker,
			counted(t.DeviceCount, "device"),
			strings.Join(units, ", "),
		}
	}
	if len(rows) > 0 {
		printTable(w, []string{"setting", "from", "", "to", "", "on", "where most are"}, rows)
	}
	if more := impact.Ways - len(rows); more > 0 {
		fmt.Fprintf(w, "and %d more ways in which settings alter; --format csv has them all\n", more)
	}
	for _, m := range impact.Audiences {
		var words []string
		if m.Gained > 0 {
			words = append(words, "begins to reach "+counted(m.Gained, "device"))
		}
		if m.Dropped > 0 {
			words = append(words, "no longer reaches "+counted(m.Dropped, "device"))
		}
		fmt.Fprintf(w, "policy %s %s\n", m.Policy, strings.Join(words, " and "))
	}
	for _, part := range []struct {
		word string
		list []wire.Conflict
	}{{"conflict gained", impact.ConflictsGained}, {"conflict cleared", impact.ConflictsCleared}} {
		for _, f := range part.list {
			fmt.Fprintf(w, "%s: %s between %s on %s\n", part.word, f.Setting, strings.Join(f.Policies, ", "), counted(f.DeviceCount, "device"))
		}
	}
	for _, part := range []struct {
		word string
		list []wire.FoundProblem
	}{{"problem gained", impact.ProblemsGained}, {"problem cleared", impact.ProblemsCleared}} {
		for _, f := range part.list {
			fmt.Fprintf(w, "%s: %s on %s\n", part.word, f.Message, counted(f.DeviceCount, "device"))
		}
	}
}

// stateText shows what a setting is on a laptop.
func stateText(s wire.State) string {
	switch s.Status {
	case "set":
		return valueText(s.Value)
	case "":
		return "not set"
	}
	return s.Status
}

func publish(ctx context.Context, api *client.Client, w io.Writer, change wire.Change, how wire.PublishRequest, format string) error {
	var p wire.Published
	path, version := client.Path("changes", change.ID, "publish"), fmt.Sprintf(`"%d"`, change.Version)
	if _, err := api.Call(ctx, http.MethodPost, path, nil, how, &p, "If-Match", version); err != nil {
		return err
	}
	switch {
	case format == "json":
		return printJSON(w, p)
	case len(p.WaitsFor) > 0:
		for _, x := range p.WaitsFor {
			fmt.Fprintf(w, "Published %s. It starts when rollout %s, %s, is over%s\n", change.ID, x.Rollout, x.Title, ofObjects(x.Objects))
		}
	case p.Rollout != "":
		fmt.Fprintf(w, "Published %s. Its rollout has started; watch it: zridge rollout watch %s\n", change.ID, p.Rollout)
	default:
		fmt.Fprintf(w, "Published %s as revision %d with %s\n", change.ID, p.Revision, counted(p.Edits, "edit"))
	}
	return nil
}
