// This file implements the commands of who gets it: people, units, groups, reach, exceptions, comparing.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func whereFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name:  "where",
		Usage: "`CONDITION` that must hold: os=linux|macos, facts/ram_gb>=16, tags~field, edition?, edition!?",
	}
}

func personCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "person", Usage: "people: list, show",
		Commands: []*cli.Command{
			listing(s, "list", "people", "/people", []string{"person", "name", "mail", "unit", "laptops", "from"}, func(p wire.Person) []string {
				from := "edited here"
				if p.Origin != nil {
					from = p.Origin.Source
					if p.Origin.Left != nil {
						from += ", left"
					}
				}
				return []string{p.ID, p.Name, p.Mail, p.Unit, fmt.Sprint(p.Devices), from}
			}, &cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"}, whereFlag(), &cli.StringFlag{Name: "sort", Usage: "`FIELD` to sort by; with - in front the other way"}),
			{
				Name:      "show",
				Usage:     "a person: groups and why, laptops, where it is known from",
				ArgsUsage: "PERSON",
				Flags:     []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "PERSON", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					p, err := client.Get[wire.PersonPage](ctx, api, client.Path("people", c.Args().First()), nil)
					if err != nil {
						return err
					}
					return printed(s, c, p, func() {
						fmt.Fprintf(s.Out, "%s  %s  %s  %s\n", p.Person.ID, p.Person.Name, p.Person.Mail, strings.Join(p.Units, " / "))
						printMemberships(s, p.Groups)
						for _, d := range p.Devices {
							fmt.Fprintf(s.Out, "laptop %s  %s %s\n", d.ID, d.OS, d.OSVersion)
						}
					})
				}),
			},
		},
	}
}

// printMemberships prints why somebody or something is in its groups.
func printMemberships(s Streams, list []wire.Membership) {
	for _, m := range list {
		var why []string
		if m.Owner {
			why = append(why, "through its owner")
		}
		if m.Listed {
			why = append(why, "listed")
		}
		if len(m.Via) > 0 {
			why = append(why, "through "+strings.Join(m.Via, ", "))
		}
		if len(m.Rule) > 0 {
			why = append(why, "by the rule")
		}
		fmt.Fprintf(s.Out, "group %s: %s\n", m.Group, strings.Join(why, ", "))
		for _, part := range m.Rule {
			word := map[bool]string{true: "true ", false: "false"}[part.Holds]
			fmt.Fprintf(s.Out, "  %s%s  %s %s\n", strings.Repeat("  ", part.Depth), word, part.Source, part.Error)
		}
	}
}

func groupCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "group", Usage: "groups: list, show, try, write, inherits, retire",
		Commands: []*cli.Command{
			listing(s, "list", "groups", "/groups", []string{"group", "of", "members", "rule fails on", "title"}, func(g wire.Group) []string {
				return []string{g.ID, g.Of, fmt.Sprint(g.Members), fmt.Sprint(g.Failures), g.Title}
			}, &cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"}),
			showCommand(s, "group", "groups", func(ctx context.Context, _ *cli.Command, api *client.Client, o wire.Object) error {
				g, err := client.Get[wire.GroupPage](ctx, api, client.Path("groups", o.ID), nil)
				if err != nil {
					return err
				}
				printGroupTrial(s, g.Trial, g.Group.Of)
				for _, n := range g.Nesting {
					fmt.Fprintf(s.Out, "%s└ %s (%d)\n", strings.Repeat("  ", n.Depth), n.ID, n.Members)
				}
				fmt.Fprintf(
					s.Out,
					"included by %s; left out of %s; member of %s; exceptions %s\n",
					orNone(g.Use.Includes),
					orNone(g.Use.Excludes),
					orNone(g.Use.Groups),
					orNone(g.Use.Exceptions),
				)
				return nil
			}),
			inheritsCommand(s, "group", "groups"),
			{
				Name: "try", Usage: "say who a group would have, with nothing kept", ArgsUsage: "GROUP", Flags: groupFlags(),
				Description: "Example:\n  zridge group try old-field --of devices --rule 'device.os_version.below(\"12\") && \"field\" in device.tags'",
				Action: asked(s, 1, "GROUP", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					doc, err := groupDoc(ctx, s, c, api)
					if err != nil {
						return err
					}
					t, err := client.Post[wire.GroupAnswer](ctx, api, "/groups/try", doc)
					switch {
					case err != nil:
						return err
					case len(t.Faults) > 0:
						return t.Faults
					}
					printGroupTrial(s, *t.Trial, doc.Of)
					return nil
				}),
			},
			{
				Name: "write", Usage: "make or alter a group, in a change", ArgsUsage: "GROUP", Flags: append(groupFlags(), changeFlag()),
				Action: writing(s, 1, "GROUP", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					doc, err := groupDoc(ctx, s, c, api)
					if err != nil {
						return err
					}
					body, err := files.PlainJSON(doc)
					if err != nil {
						return err
					}
					return putEdit(ctx, api, s.Out, change, http.MethodPut, "groups", doc.ID, "", body)
				}),
			},
			{
				Name:      "retire",
				Usage:     "take a group away with all that names it, in a change, and say what that does",
				ArgsUsage: "GROUP",
				Flags:     []cli.Flag{changeFlag()},
				Action: writing(s, 1, "GROUP", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					n, err := client.Post[wire.Edited](ctx, api, client.Path("changes", change.ID, "retired-groups", c.Args().First()), nil)
					if err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "%s in change %s\n", counted(n.Edits, "edit"), change.ID)
					return showImpact(ctx, api, s.Out, change.ID, "text")
				}),
			},
		},
	}
}

func groupFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "of",
			Usage: "`WHAT` it is a group of: devices or people",
		},
		&cli.StringFlag{Name: "title", Usage: "`NAME` for people"},
		&cli.StringFlag{Name: "rule", Usage: "a CEL `RULE`; empty: none"},
		&cli.StringSliceFlag{
			Name:  "member",
			Usage: "`ID` to list",
		},
		&cli.StringSliceFlag{Name: "drop", Usage: "`ID` to take off the list"},
		&cli.StringFlag{Name: "serials", Usage: "list the laptops whose serial numbers are in `FILE`, one a line"},
		&cli.StringSliceFlag{Name: "group", Usage: "`GROUP` to have as a member"},
	}
}

// groupDoc gives the group as the flags have it, over the one that is live.
func groupDoc(ctx context.Context, s Streams, c *cli.Command, api *client.Client) (files.GroupDoc, error) {
	id := c.Args().First()
	doc := files.GroupDoc{ID: id}
	if page, err := client.Get[wire.GroupPage](ctx, api, client.Path("groups", id), nil); err == nil {
		doc = page.Doc
	}
	if c.IsSet("of") {
		doc.Of = c.String("of")
	}
	if doc.Of == "" {
		return doc, usage("group: found no group %s; say with --of what a new one is of, devices or people", problem.Quote(id))
	}
	if c.IsSet("title") {
		doc.Title = c.String("title")
	}
	if c.IsSet("rule") {
		doc.Rule = c.String("rule")
	}
	doc.Members = appendNew(doc.Members, c.StringSlice("member"))
	doc.Members = slices.DeleteFunc(doc.Members, func(m string) bool { return slices.Contains(c.StringSlice("drop"), m) })
	doc.Groups = appendNew(doc.Groups, c.StringSlice("group"))
	if name := c.String("serials"); name != "" {
		words, err := readLines(s, name)
		if err != nil {
			return doc, err
		}
		p, err := client.Post[wire.Pasted](ctx, api, "/audience/paste", wire.PasteList{Words: words})
		if err != nil {
			return doc, err
		}
		if len(p.Unknown) > 0 {
			return doc, usage("group: no laptop has the serial number %s", strings.Join(p.Unknown, ", "))
		}
		doc.Members = appendNew(doc.Members, p.Devices)
	}
	return doc, nil
}

func printGroupTrial(s Streams, t wire.GroupTrial, of string) {
	fmt.Fprintf(
		s.Out,
		"%d of %d %s: %d listed, %d through member groups, %d by the rule alone\n",
		t.Count,
		t.Of,
		of,
		t.Listed,
		t.Nested,
		t.ByRule,
	)
	ids := func(list []wire.Member) []string {
		out := make([]string, len(list))
		for i, m := range list {
			out[i] = m.ID
		}
		return out
	}
	if t.JoinCount > 0 {
		fmt.Fprintf(s.Out, "%d would join: %s\n", t.JoinCount, shortened(ids(t.Joins), 10))
	}
	if t.LeaveCount > 0 {
		fmt.Fprintf(s.Out, "%d would leave: %s\n", t.LeaveCount, shortened(ids(t.Leaves), 10))
	}
	if t.FailedCount > 0 {
		fmt.Fprintf(s.Out, "the rule fails on %d, and adds none of them: %s (%s)\n", t.FailedCount, t.Failures[0].ID, t.Failures[0].Error)
	}
}

func reachCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "reach",
		Usage:     "who gets a policy, in numbers: by platform, release and unit, and what each target does",
		ArgsUsage: "POLICY",
		Description: "With --include and the like it says who would get it then; nothing is kept.\n\nExamples:\n  zridge policy reach " +
			"field-encryption\n  zridge policy reach field-encryption --exclude group:bridge-laptops --beside fleet-startup",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "include", Usage: "`TARGET` besides"},
			&cli.StringSliceFlag{Name: "exclude", Usage: "`TARGET` left out besides"},
			&cli.StringFlag{Name: "when", Usage: "another CEL `CONDITION`"},
			&cli.StringFlag{Name: "beside", Usage: "compare with the audience of this `POLICY`"},
			&cli.IntFlag{
				Name:  "test-group",
				Usage: "name `N` laptops of every platform, unit and release among them, to start with",
			},
			formatFlag("text", "json"),
			changeFlag(),
		},
		Action: asked(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			query := map[string][]string{}
			var change wire.Change
			if id := c.String("change"); id != "" {
				query["change"] = []string{id}
				change.ID = id
			}
			doc, err := policyIn(ctx, api, change, c.Args().First())
			if err != nil {
				return err
			}
			in := wire.AudienceTrial{Kind: doc.Kind, Platforms: doc.Platforms, Audience: doc.Audience, Beside: c.String("beside")}
			for id := range doc.Settings {
				in.Settings = append(in.Settings, id)
			}
			in.Audience.Include = appendNew(in.Audience.Include, c.StringSlice("include"))
			in.Audience.Exclude = appendNew(in.Audience.Exclude, c.StringSlice("exclude"))
			if c.IsSet("when") {
				in.Audience.When = c.String("when")
			}
			if n := c.Int("test-group"); n > 0 {
				query["count"] = []string{fmt.Sprint(n)}
				var few wire.SpreadList
				if _, err := api.Call(ctx, http.MethodPost, "/audience/spread", query, in, &few); err != nil {
					return err
				}
				return printed(s, c, few, func() { fmt.Fprintln(s.Out, strings.Join(few.Devices, "\n")) })
			}
			var r wire.AudienceAnswer
			if _, err := api.Call(ctx, http.MethodPost, "/audience", query, in, &r); err != nil {
				return err
			}
			if len(r.Faults) > 0 {
				return r.Faults
			}
			return printed(s, c, r.Reach, func() { printReach(s, *r.Reach) })
		}),
	}
}

func printReach(s Streams, r wire.AudienceReach) {
	switch r.Alarm {
	case "everyone":
		fmt.Fprintf(s.Out, "EVERYONE: all %d laptops of the company\n", r.Estate)
	case "many":
		fmt.Fprintf(s.Out, "MANY: more than %d%% of the company\n", r.Share)
	}
	fmt.Fprintf(
		s.Out,
		"Assigned to %d of %d laptops, %s, in %s.\nNot assigned: %d excluded, %d by the condition, %d by platform, %d outside of its unit, "+
			"%d not included.\n%s%s\n",
		r.Gets.Count,
		r.Estate,
		counted(r.People.Count, "owner"),
		counted(r.Units, "unit"),
		r.Excluded.Count,
		r.Condition.Count,
		r.Platform.Count,
		r.Outside.Count,
		r.NotIncluded.Count,
		supportText(r.Gets.Count, r.Unsupported.Count),
		unknownText(r.Unknown.Count),
	)
	var rows [][]string
	for _, group := range []struct {
		word string
		list []wire.Slice
	}{{"platform", r.ByPlatform}, {"release", r.ByRelease}, {"unit", r.ByUnit}} {
		for _, x := range group.list {
			rows = append(rows, []string{group.word, strings.TrimSpace(x.Within + " " + x.Name), fmt.Sprint(x.Devices), fmt.Sprint(x.Of)})
		}
	}
	for _, t := range r.ByInclude {
		rows = append(rows, []string{"brought in by", t.Target, fmt.Sprint(t.Devices), ""})
	}
	for _, t := range r.ByExclude {
		rows = append(rows, []string{"taken out by", t.Target, fmt.Sprint(t.Devices), ""})
	}
	if len(rows) > 0 {
		printTable(s.Out, []string{"by", "", "laptops", "of"}, rows)
	}
	if len(r.Missing) > 0 {
		fmt.Fprintf(s.Out, "names nothing: %s\n", strings.Join(r.Missing, ", "))
	}
	if b := r.Beside; b != nil {
		fmt.Fprintf(s.Out, "beside %s: %d only here, %d both, %d only there\n", b.Policy, b.Here.Count, b.Both.Count, b.There.Count)
	}
}

func exceptionCommand(s Streams) *cli.Command {
	decide := func(name, about string, approve bool) *cli.Command {
		return &cli.Command{
			Name: name, Usage: about, ArgsUsage: "EXCEPTION", Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "a `NOTE` for the record"}},
			Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				r, err := client.Post[wire.ExceptionRequest](
					ctx,
					api,
					client.Path("exception-requests", c.Args().First(), "decision"),
					wire.Decision{Approve: approve, Note: c.String("note")},
				)
				if err == nil {
					fmt.Fprintf(s.Out, "%s is %s\n", r.Exception.ID, r.State)
				}
				return err
			}),
		}
	}
	return &cli.Command{
		Name: "exception", Usage: "exceptions: list, requests, ask, impact, approve, refuse, withdraw, end",
		Description: "An exception is asked for by one and approved by another. It ends by itself; 14 and 3 days before, the overview says so.",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"exceptions by the day on which they lapse",
				"/exceptions",
				[]string{"exception", "lapses", "days", "setting", "for", "value", "approved by", "laptops"},
				func(x wire.Exception) []string {
					value := "left to the laptop"
					if !x.Unset {
						value = valueText(x.Value)
					}
					return []string{x.ID, x.Until, fmt.Sprint(x.Days), x.Setting, x.Target, value, x.ApprovedBy, fmt.Sprint(x.Devices)}
				},
			),
			listing(
				s,
				"requests",
				"exceptions that were asked for",
				"/exception-requests",
				[]string{"exception", "state", "setting", "for", "until", "asked by", "reason"},
				func(r wire.ExceptionRequest) []string {
					return []string{r.Exception.ID, r.State, r.Exception.Setting, r.Exception.Target, r.Exception.Until, r.AskedBy, r.Exception.Reason}
				},
				&cli.StringFlag{Name: "state", Usage: "only in this `STATE`: asked, approved, refused, withdrawn"},
			),
			{
				Name:      "ask",
				Usage:     "ask for an exception",
				ArgsUsage: "SETTING [VALUE]",
				Description: "Without a value the setting is left to the laptop.\n\nExample:\n  zridge exception ask screen.lock_after_minutes 60 " +
					"--for device:LT-0110 --until 2026-12-20 --reason \"Plotter must stay lit\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "for", Required: true, Usage: "`TARGET`: unit:, group:, device: or person: and an id"},
					&cli.StringFlag{Name: "until", Required: true, Usage: "the last `DAY`"},
					&cli.StringFlag{Name: "from", Usage: "the first `DAY`"},
					&cli.StringFlag{Name: "reason", Required: true, Usage: "the `REASON`"},
					&cli.StringFlag{Name: "id", Usage: "an `ID` of its own"},
				},
				Action: asked(
					s,
					-1,
					"SETTING and, where it is to have one, VALUE",
					func(ctx context.Context, c *cli.Command, api *client.Client) error {
						in := wire.AskException{
							ID:      c.String("id"),
							Setting: c.Args().First(),
							Target:  c.String("for"),
							From:    c.String("from"),
							Until:   c.String("until"),
							Reason:  c.String("reason"),
							Unset:   c.NArg() == 1,
						}
						if !in.Unset {
							use, err := client.Get[wire.SettingUse](ctx, api, client.Path("settings", in.Setting), nil)
							if err != nil {
								return err
							}
							reader := &valueReader{api: api, said: func(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }}
							v, err := reader.read(ctx, in.Setting, use.Setting.ShapeDoc, use.Setting.Columns, strings.Join(c.Args().Tail(), " "))
							if err != nil {
								return err
							}
							in.Value = &v
						}
						r, err := client.Post[wire.ExceptionRequest](ctx, api, "/exception-requests", in)
						if err == nil {
							fmt.Fprintf(s.Out, "Asked for as %s; somebody else approves it: zridge exception approve %s\n", r.Exception.ID, r.Exception.ID)
						}
						return err
					},
				),
			},
			{
				Name: "impact", Usage: "what an exception that is asked for would do", ArgsUsage: "EXCEPTION",
				Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					effect, err := client.Get[wire.Impact](ctx, api, client.Path("exception-requests", c.Args().First(), "impact"), nil)
					if err == nil {
						printImpact(s.Out, effect)
					}
					return err
				}),
			},
			decide("approve", "approve what somebody else asked for, which publishes it", true),
			decide("refuse", "refuse a request", false),
			{
				Name: "withdraw", Usage: "take a request of yours back", ArgsUsage: "EXCEPTION",
				Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					_, err := api.Call(ctx, http.MethodDelete, client.Path("exception-requests", c.Args().First()), nil, nil, nil)
					if err == nil {
						fmt.Fprintln(s.Out, "Taken back.")
					}
					return err
				}),
			},
			{
				Name: "end", Usage: "end an exception, in a change, and say what that does", ArgsUsage: "EXCEPTION", Flags: []cli.Flag{changeFlag()},
				Action: writing(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					if err := putEdit(
						ctx,
						api,
						s.Out,
						change,
						http.MethodPost,
						string(estate.KindException),
						c.Args().First(),
						"/retire",
						nil,
					); err != nil {
						return err
					}
					return showImpact(ctx, api, s.Out, change.ID, "text")
				}),
			},
		},
	}
}

func compareCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "two devices side by side: what differs, and why",
		ArgsUsage: "DEVICE DEVICE",
		Flags:     []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 2, "two devices", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			w, err := client.Get[wire.Comparison](ctx, api, client.Path("devices", c.Args().Get(0), "beside", c.Args().Get(1)), nil)
			if err != nil {
				return err
			}
			return printed(s, c, w, func() { printComparison(s, w, c.Args().Get(0), c.Args().Get(1)) })
		}),
	}
}

func supposeCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:        "suppose",
		Usage:       "a device as it is beside what it would be; nothing is altered",
		ArgsUsage:   "DEVICE",
		Description: "Example:\n  zridge device suppose LT-0110 --unit slipway --join on-call",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "it moves to this `UNIT`"},
			&cli.StringSliceFlag{Name: "join", Usage: "it joins this `GROUP`"},
			&cli.StringSliceFlag{Name: "leave", Usage: "it leaves this `GROUP`"},
			&cli.StringFlag{Name: "owner", Usage: "it gets this `PERSON` as its owner; empty: nobody"},
			&cli.StringFlag{Name: "person", Usage: "this `PERSON` signs in"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			in := wire.Supposed{Unit: c.String("unit"), Join: c.StringSlice("join"), Leave: c.StringSlice("leave"), Person: c.String("person")}
			if c.IsSet("owner") {
				owner := c.String("owner")
				in.Owner = &owner
			}
			w, err := client.Post[wire.Comparison](ctx, api, client.Path("devices", c.Args().First(), "suppose"), in)
			if err != nil {
				return err
			}
			return printed(s, c, w, func() { printComparison(s, w, "as it is", "as it would be") })
		}),
	}
}

func moveCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "move", Usage: "give devices another unit of their own, in a change, and say what that does", ArgsUsage: "DEVICE …",
		Flags: []cli.Flag{&cli.StringFlag{Name: "unit", Usage: "the `UNIT`; empty: they follow their owners"}, changeFlag()},
		Action: writing(s, -1, "DEVICE, once or more", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			n, err := client.Post[wire.Edited](
				ctx,
				api,
				client.Path("changes", change.ID, "moved-devices"),
				wire.Move{Devices: c.Args().Slice(), Unit: c.String("unit")},
			)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "%s in change %s\n", counted(n.Edits, "edit"), change.ID)
			return showImpact(ctx, api, s.Out, change.ID, "text")
		}),
	}
}

func printComparison(s Streams, w wire.Comparison, a, b string) {
	fmt.Fprintf(s.Out, "%d of %s differ\n", w.Differ, counted(len(w.Rows), "setting"))
	for _, line := range []struct {
		word string
		list []string
	}{{"policies for " + a + " alone", w.OnlyA}, {"policies for " + b + " alone", w.OnlyB}, {"groups of " + a + " alone", w.GroupsA}, {"groups of " + b + " alone", w.GroupsB}} {
		if len(line.list) > 0 {
			fmt.Fprintf(s.Out, "%s: %s\n", line.word, strings.Join(line.list, ", "))
		}
	}
	for _, f := range w.Facts {
		fmt.Fprintf(s.Out, "fact %s: %s, %s\n", f.Name, orDefault(valueText(f.A), "not known"), orDefault(valueText(f.B), "not known"))
	}
	var rows [][]string
	for _, r := range w.Rows {
		if !r.Same {
			rows = append(rows, []string{r.Setting, sideText(r.A), sideText(r.B)})
		}
	}
	if len(rows) > 0 {
		printTable(s.Out, []string{"setting", a, b}, rows)
	}
}

// sideText is a setting's outcome with where it comes from.
func sideText(a *files.SettingAnswer) string {
	if a == nil {
		return "not set"
	}
	text := a.Status
	if a.Status == "set" {
		text = valueText(a.Value)
	}
	if len(a.From) > 0 {
		text += " from " + strings.Join(a.From, ", ")
	}
	return text
}
