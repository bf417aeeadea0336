// This file implements the commands of people and groups.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

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
			}, &cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"}, whereFlag(),
				&cli.StringFlag{Name: "sort", Usage: "`FIELD` to sort by; with - in front the other way"}),
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

// groupInChange says who a group would have as a change has it.
func groupInChange(ctx context.Context, s Streams, api *client.Client, o wire.Object) error {
	var doc files.GroupDoc
	if err := json.Unmarshal(o.Body, &doc); err != nil {
		return err
	}
	return tryGroup(ctx, s, api, doc)
}

// tryGroup says who a group would have, with nothing kept.
func tryGroup(ctx context.Context, s Streams, api *client.Client, doc files.GroupDoc) error {
	t, err := client.Post[wire.GroupAnswer](ctx, api, "/groups/try", doc)
	if err != nil {
		return err
	}
	if len(t.Faults) > 0 {
		return t.Faults
	}
	printGroupTrial(s, *t.Trial, doc.Of)
	return nil
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
			}, &cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"}, atFlag()),
			showCommand(s, "group", "groups", func(ctx context.Context, api *client.Client, o wire.Object, r reading) error {
				if hasEdit(r.change, "groups", o.ID) {
					return groupInChange(ctx, s, api, o)
				}
				g, err := client.Get[wire.GroupPage](ctx, api, client.Path("groups", o.ID), reading{at: r.at}.query())
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
				Description: "Example:\n  zridge group try old-field --of devices --rule 'device.os_version.below(\"12\") && " +
					"\"field\" in device.tags'",
				Action: asked(s, 1, "GROUP", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					doc, err := groupDoc(ctx, s, c, api)
					if err != nil {
						return err
					}
					return tryGroup(ctx, s, api, doc)
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
	for _, remark := range t.Remarks {
		fmt.Fprintf(s.Out, "look: in the rule, %s\n", remark)
	}
	if t.FailedCount > 0 {
		fmt.Fprintf(s.Out, "the rule fails on %d, and adds none of them: %s (%s)\n", t.FailedCount, t.Failures[0].ID, t.Failures[0].Error)
	}
}
