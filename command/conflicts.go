// This file implements `zridge conflicts`.

package command

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func conflictsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "conflicts",
		Usage:     "settings that policies disagree about, with the values and the laptops",
		ArgsUsage: " ",
		Description: "Without a command it lists the conflicts. A conflict is named by its setting, or by several on which the same " +
			"policies conflict; a\n" +
			"problem by --check. Where the name fits more than one, --policies says which.\n\n" +
			"Examples:\n  zridge conflicts --estate demo/estate\n  zridge conflicts ways signin.banner\n" +
			"  zridge conflicts settle signin.banner --way prefer --policy on-call-banner --reason \"The watch must be reached\"",
		Commands: settlingCommands(s),
		Flags: []cli.Flag{
			estateFlag(), dateFlag(), atFlag(), formatFlag("text", "json"),
			&cli.BoolFlag{Name: "strict", Usage: "exit with status 3 when there is a conflict"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return wrongArguments(c, "no arguments")
			}
			found, err := conflictsFound(ctx, c)
			if err != nil {
				return err
			}
			if c.String("format") == "json" {
				err = printJSON(s.Out, found)
			} else {
				printConflicts(s, found)
				fmt.Fprintln(s.Out, counted(len(found), "conflict"))
			}
			if err == nil && c.Bool("strict") && len(found) > 0 {
				return &exitError{exitFindings, ""}
			}
			return err
		},
	}
}

// printConflicts prints conflicts with each one's values and laptops; of a service also with who
// answers for them and what was asked.
func printConflicts(s Streams, found []wire.Conflict) {
	for _, f := range found {
		fmt.Fprintf(s.Out, "%s on %s\n", f.Setting, counted(len(f.Devices), "device"))
		for _, v := range f.Values {
			fmt.Fprintf(s.Out, "  %s = %s (%s, priority %d)\n", v.Policy, v.Value, v.Level, v.Priority)
			if at := slices.IndexFunc(f.Involved, func(p wire.InvolvedPolicy) bool { return p.Policy == v.Policy }); at >= 0 {
				p := f.Involved[at]
				fmt.Fprintf(
					s.Out,
					"	for %s; owner %s; why: %s\n",
					audienceText(p.Audience),
					orDefault(p.Owner, "nobody"),
					orDefault(p.Why, "nobody wrote it down"),
				)
			}
		}
		if f.Since != nil {
			fmt.Fprintf(s.Out, "  since %s, by %s (%s)\n", moment(f.Since.At), f.Since.Title, f.Since.By)
		}
		for _, q := range f.Questions {
			fmt.Fprintf(s.Out, "  %s asked %s: %s", q.By, strings.Join(q.Of, " and "), q.Note)
			if q.Answer != "" {
				fmt.Fprintf(s.Out, " — %s: %s", q.AnsweredBy, q.Answer)
			}
			fmt.Fprintln(s.Out)
		}
		fmt.Fprintf(s.Out, "  %s\n", shortened(f.Devices, 12))
	}
}

// audienceText says for whom a policy is, in one line.
func audienceText(a files.AudienceDoc) string {
	text := orNone(a.Include)
	if len(a.Exclude) > 0 {
		text += ", not " + strings.Join(a.Exclude, ", ")
	}
	if a.When != "" {
		text += ", when " + a.When
	}
	return text
}

func conflictsFound(ctx context.Context, c *cli.Command) ([]wire.Conflict, error) {
	if !c.IsSet("estate") {
		return askConflicts(ctx, c)
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err != nil {
		return nil, err
	}
	plan := resolve.Compile(snapshot)
	return conflictsOf(plan, plan.Estate().Conflicts()), nil
}

// conflictsOf gives conflicts with all of their devices.
func conflictsOf(plan *resolve.Plan, found []resolve.ConflictFound) []wire.Conflict {
	return wire.Conflicts(found, plan.Definition, len(plan.Snapshot().Devices))
}

// shortened lists the first ids and how many more there are.
func shortened(ids []string, most int) string {
	if len(ids) <= most {
		return strings.Join(ids, " ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(ids[:most], " "), len(ids)-most)
}
