// This file implements `zridge explain`.

package command

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/files"
)

func explainCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "explain", Usage: "why a laptop has a value: where it comes from and what lost to it", ArgsUsage: "DEVICE [SETTING]",
		Description: "Examples:\n  zridge explain --estate demo/estate LT-0007 screen.lock_after_minutes\n  zridge explain LT-0007",
		Flags:       []cli.Flag{estateFlag(), dateFlag(), personFlag(), formatFlag("text", "json"), notAssignedFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() < 1 || c.NArg() > 2 {
				return wrongArguments(c, "DEVICE [SETTING]")
			}
			a, err := explainAnswer(ctx, c, c.Args().First())
			if err != nil {
				return err
			}
			if only := c.Args().Get(1); only != "" {
				kept := a.Settings[:0:0]
				for _, set := range a.Settings {
					if set.Setting == only {
						kept = append(kept, set)
					}
				}
				if len(kept) == 0 {
					return problem.Faults{
						{
							Code:     problem.UnknownReference,
							Found:    problem.Quote(only),
							Expected: "a setting that some policy or exception decides on " + a.Device,
						},
					}
				}
				a.Settings = kept
			}
			if c.String("format") == "json" {
				return printJSON(s.Out, a)
			}
			printExplained(s.Out, a, c.Bool(notAssigned))
			return nil
		},
	}
}

func explainAnswer(ctx context.Context, c *cli.Command, device string) (files.SubjectAnswer, error) {
	if !c.IsSet("estate") {
		return askExplain(ctx, c, device)
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err != nil {
		return files.SubjectAnswer{}, err
	}
	results, err := effectiveOf(resolve.Compile(snapshot), []string{device}, c.String("person"))
	if err != nil {
		return files.SubjectAnswer{}, err
	}
	return files.Explained(results[0]), nil
}

func printExplained(w io.Writer, a files.SubjectAnswer, notAssigned bool) {
	who := "nobody signed in"
	if a.Person != "" {
		who = a.Person
	}
	fmt.Fprintf(w, "%s, %s, home unit %s\n", a.Device, who, a.Unit)
	for _, s := range a.Settings {
		fmt.Fprintln(w)
		switch {
		case s.Status == string(resolve.Set):
			fmt.Fprintf(w, "%s = %s, %s from %s\n", s.Setting, valueText(s.Value), s.How, orNone(s.From))
		case s.Status == string(resolve.Conflict):
			fmt.Fprintf(w, "%s: conflict between %s; nothing is sent and the laptop keeps what it has\n", s.Setting, strings.Join(s.From, ", "))
		case s.Status == string(resolve.Unset):
			fmt.Fprintf(w, "%s: left to the laptop by exception %s\n", s.Setting, strings.Join(s.From, ", "))
		default:
			fmt.Fprintf(w, "%s: not supported by this laptop (%s)\n", s.Setting, s.Reason)
		}
		if s.Replaced != nil {
			fmt.Fprintf(w, "  forced in place of %s, %s from %s\n", s.Replaced.Value, s.Replaced.How, orNone(s.Replaced.From))
		}
		for _, c := range s.Candidates {
			lock := ""
			if c.Locked {
				lock = ", locked"
			}
			fmt.Fprintf(w, "  %-12s %s = %s (priority %d%s): %s\n", c.Level, c.Policy, c.Value, c.Priority, lock, fateText(c))
		}
	}
	for _, p := range a.Problems {
		fmt.Fprintf(w, "\nproblem %s: %s (from %s)\n", p.Check, p.Message, orNone(p.From))
	}
	if len(a.NotApplying) > 0 {
		fmt.Fprintln(w, "\npolicies that do not apply:")
		printNotApplying(w, "  %s: %s\n", a.NotApplying, notAssigned)
	}
}

// fateText says what became of a candidate, and what it lost to.
func fateText(c files.CandidateAnswer) string {
	by := orNone(c.BeatenBy)
	var fate resolve.Fate
	fate.UnmarshalText([]byte(c.Fate)) // a word that it does not know gives the zero Fate
	switch fate {
	case resolve.Won:
		return "in effect"
	case resolve.Clashing:
		return "conflicts with " + by
	case resolve.Outer:
		return "lost: set closer to the laptop by " + by
	case resolve.LowerPriority:
		return "lost: lower priority than " + by
	case resolve.Weaker:
		return "lost: weaker than " + by
	case resolve.LockedOut:
		return "lost: locked further out by " + by
	case resolve.RuledOut:
		return "lost: a ruling prefers " + by
	case resolve.Excepted:
		return "passed over by an exception"
	case resolve.Detached:
		return "not taken: this kind is detached closer to the laptop"
	}
	return c.Fate
}
