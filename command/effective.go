// This file implements `zridge effective`.

package command

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/files"
)

func effectiveCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "effective",
		Usage:     "what laptops get, with every candidate and its fate",
		ArgsUsage: "DEVICE…",
		Description: "Examples:\n  zridge effective --estate demo/estate LT-0007\n  zridge effective --estate demo/estate --all --format " +
			"jsonl\n  zridge effective LT-0007 --person ines.okafor --reasons",
		Flags: []cli.Flag{
			estateFlag(), dateFlag(), atFlag(), personFlag(), formatFlag("text", "json", "jsonl"),
			&cli.BoolFlag{Name: "all", Usage: "every device of the estate"},
			&cli.BoolFlag{Name: "reasons", Usage: "add the policies that do not apply, each with the reason"},
			notAssignedFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			devices := c.Args().Slice()
			switch {
			case c.Bool("all") && len(devices) > 0:
				return usage("effective: found both --all and devices, expected one of the two")
			case c.Bool("all") && c.IsSet("person"):
				return usage("effective: --person goes with named devices only, not with --all")
			case !c.Bool("all") && len(devices) == 0:
				return usage("effective: found no device, expected DEVICE… or --all")
			}
			answers, err := effectiveAnswers(ctx, c, devices)
			if err != nil {
				return err
			}
			out := bufio.NewWriter(s.Out)
			defer out.Flush()
			switch c.String("format") {
			case "jsonl":
				for _, a := range answers {
					if err := printJSON(out, a); err != nil {
						return err
					}
				}
				return nil
			case "json":
				return printJSON(out, answers)
			}
			for _, a := range answers {
				printEffective(out, a, c.Bool(notAssigned))
			}
			return nil
		},
	}
}

// effectiveAnswers asks the folder, or the service where no folder is named.
func effectiveAnswers(ctx context.Context, c *cli.Command, devices []string) ([]files.SubjectAnswer, error) {
	if !c.IsSet("estate") {
		return askEffective(ctx, c, devices)
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err != nil {
		return nil, err
	}
	plan := resolve.Compile(snapshot)
	var results []*outcome.Result
	if c.Bool("all") {
		results = slices.Collect(plan.Estate().All)
	} else if results, err = effectiveOf(plan, devices, c.String("person")); err != nil {
		return nil, err
	}
	answers := make([]files.SubjectAnswer, len(results))
	for i, r := range results {
		answers[i] = files.Answer(r, c.Bool("reasons"))
	}
	return answers, nil
}

// effectiveOf resolves the named devices, in the order of their ids, each once. All that are
// unknown are reported together.
func effectiveOf(plan *resolve.Plan, devices []string, person string) ([]*outcome.Result, error) {
	devices = slices.Compact(slices.Sorted(slices.Values(devices)))
	var faults problem.Faults
	var results []*outcome.Result
	for _, id := range devices {
		r, err := plan.Effective(estate.DeviceID(id), estate.PersonID(person))
		var unknown *resolve.UnknownError
		if err != nil {
			unknown = err.(*resolve.UnknownError)
			fault := problem.Fault{
				Code:     problem.UnknownReference,
				Found:    problem.Quote(unknown.ID),
				Expected: "the id of one of the estate's " + string(unknown.Kind),
			}
			if !slices.Contains(faults, fault) {
				faults = append(faults, fault)
			}
			continue
		}
		results = append(results, r)
	}
	if faults != nil {
		return nil, faults
	}
	return results, nil
}

func printEffective(w io.Writer, a files.SubjectAnswer, notAssigned bool) {
	who := "no person"
	if a.Person != "" {
		who = a.Person
	}
	fmt.Fprintf(w, "%s  %s  unit %s\n", a.Device, who, a.Unit)
	rows := make([][]string, len(a.Settings))
	for i, s := range a.Settings {
		status := s.Status
		if s.Reason != "" {
			status += " (" + s.Reason + ")"
		}
		from := strings.Join(s.From, ", ")
		rows[i] = []string{s.Setting, status, valueText(s.Value), string(s.How), from}
	}
	printTable(w, []string{"setting", "status", "value", "how", "from"}, rows)
	for _, p := range a.Problems {
		fmt.Fprintf(w, "problem %s: %s (from %s)\n", p.Check, p.Message, orNone(p.From))
	}
	printNotApplying(w, "not applying: %s, %s\n", a.NotApplying, notAssigned)
	fmt.Fprintln(w)
}

// notAssigned is the flag that lists every policy whose audience does not include a laptop: there
// are many of them, and few are of interest.
const notAssigned = "not-assigned"

func notAssignedFlag() cli.Flag {
	return &cli.BoolFlag{Name: notAssigned, Usage: "list the policies whose audience does not include the laptop, too"}
}

// printNotApplying prints the policies that do not apply, a line each. Those that are not assigned
// are counted alone unless they are asked for.
func printNotApplying(w io.Writer, line string, list []files.NotApplyingAnswer, notAssigned bool) {
	hidden := 0
	for _, n := range list {
		if n.Reason == string(outcome.NotIncluded) && !notAssigned {
			hidden++
			continue
		}
		fmt.Fprintf(w, line, n.Policy, notApplyingText(n))
	}
	if hidden > 0 {
		verb := "are"
		if hidden == 1 {
			verb = "is"
		}
		fmt.Fprintf(w, "%s %s not assigned to this laptop. Show them with --not-assigned\n", counted(hidden, "policy"), verb)
	}
}

// notApplyingText says why a policy does not apply.
func notApplyingText(n files.NotApplyingAnswer) string {
	switch n.Reason {
	case string(outcome.NotActive):
		return "it is not active"
	case string(outcome.OnPlatform):
		return "it is for other platforms"
	case string(outcome.Outside):
		return "the laptop is outside of the unit that bounds the policy"
	case string(outcome.NotIncluded):
		return "not assigned to this laptop or person"
	case string(outcome.Excluded):
		return "left out by " + strings.Join(n.Targets, ", ")
	case string(outcome.NotTaken):
		return "it is offered, and nobody took it on this laptop"
	}
	if n.Error != "" {
		return "its condition failed: " + n.Error
	}
	return "its condition is not true"
}
