// This file implements `zridge explain`.

package command

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func explainCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "explain", Usage: "why a laptop has a value or has none: where it comes from, what lost to it, what does not apply",
		ArgsUsage: "DEVICE [SETTING]",
		Description: "Of a setting that the laptop does not get it says which policies set it, and why none of them applies.\n\n" +
			"Examples:\n" +
			"  zridge explain --estate demo/estate LT-0007 screen.lock_after_minutes\n  zridge explain LT-0007\n" +
			"  zridge explain LT-0007 --policy field-encryption",
		Flags: []cli.Flag{
			estateFlag(), dateFlag(), atFlag(), personFlag(), formatFlag("text", "json"), notAssignedFlag(),
			&cli.StringFlag{Name: "policy", Usage: "only what this `POLICY` does there, or why it does not apply"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() < 1 || c.NArg() > 2 {
				return wrongArguments(c, "DEVICE [SETTING]")
			}
			a, err := explainAnswer(ctx, c, c.Args().First())
			if err != nil {
				return err
			}
			if only := c.Args().Get(1); only != "" {
				a.Settings = slices.DeleteFunc(a.Settings, func(set files.SettingAnswer) bool { return set.Setting != only })
				if len(a.Settings) == 0 {
					return whyNot(ctx, s, c, a, only)
				}
			}
			if policy := c.String("policy"); policy != "" {
				return policyThere(ctx, s, c, a, policy)
			}
			if c.String("format") == "json" {
				return printJSON(s.Out, a)
			}
			printExplained(s.Out, a, c.Bool(notAssigned))
			if c.IsSet("estate") || c.IsSet("at") {
				return nil
			}
			return printComing(ctx, s.Out, a)
		},
	}
}

// printComing says which of the settings come from a rollout that is under way, and which will be otherwise
// with one.
func printComing(ctx context.Context, w io.Writer, a files.SubjectAnswer) error {
	api, err := signedIn()
	if err != nil {
		return err
	}
	coming, err := client.Get[[]wire.Coming](ctx, api, client.Path("devices", a.Device, "rollouts"), nil)
	if err != nil {
		return err
	}
	for _, c := range coming {
		for _, x := range c.Settings {
			if !slices.ContainsFunc(a.Settings, func(set files.SettingAnswer) bool { return set.Setting == x.Setting }) {
				continue
			}
			switch {
			case c.Gets:
				fmt.Fprintf(w, "%s comes with the rollout %s, %s (wave %s, %s); without it: %s\n", x.Setting, c.Rollout, c.Title, c.Wave,
					c.State, stateText(x.From))
			default:
				fmt.Fprintf(w, "%s will be %s with the rollout %s, %s (%s; wave %s, %s)\n",
					x.Setting, stateText(x.To), c.Rollout, c.Title, progressWords[c.Progress], c.Wave, c.State)
			}
		}
	}
	return nil
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

// whyNot says why a laptop does not get a setting: nothing sets it, or none of the policies that do
// applies.
func whyNot(ctx context.Context, s Streams, c *cli.Command, a files.SubjectAnswer, id string) error {
	setBy, err := policiesThatSet(ctx, c, id)
	if err != nil {
		return err
	}
	a.NotApplying = slices.DeleteFunc(a.NotApplying, func(n files.NotApplyingAnswer) bool { return !slices.Contains(setBy, n.Policy) })
	a.Problems = nil
	if c.String("format") == "json" {
		return printJSON(s.Out, a)
	}
	switch len(a.NotApplying) {
	case 0:
		fmt.Fprintf(s.Out, "%s is not set on %s: no policy sets it.\n", id, a.Device)
		return nil
	case 1:
		fmt.Fprintf(s.Out, "%s is not set on %s: the policy that sets it does not apply.\n", id, a.Device)
	default:
		fmt.Fprintf(s.Out, "%s is not set on %s: none of the %d policies that set it applies.\n", id, a.Device, len(a.NotApplying))
	}
	printNotApplying(s.Out, "  %s: %s\n", a.NotApplying, true)
	return nil
}

// policiesThatSet gives the policies that set a setting, in the folder or in the service.
func policiesThatSet(ctx context.Context, c *cli.Command, id string) ([]string, error) {
	var out []string
	if !c.IsSet("estate") {
		api, err := signedIn()
		if err != nil {
			return nil, err
		}
		use, err := settingUse(ctx, api, id, nil)
		for _, other := range use.Elsewhere {
			out = append(out, other.Policy)
		}
		return out, err
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err != nil {
		return nil, err
	}
	if resolve.Compile(snapshot).Definition(setting.ID(id)) == nil {
		return nil, problem.Faults{{Code: problem.UnknownReference, Found: problem.Quote(id), Expected: "a setting of the dictionary"}}
	}
	for i := range snapshot.Policies {
		if p := &snapshot.Policies[i]; p.Entry(setting.ID(id)) != nil {
			out = append(out, string(p.ID))
		}
	}
	return out, nil
}

// policyThere says what becomes of each entry of a policy on a laptop, or why the policy does not
// apply.
func policyThere(ctx context.Context, s Streams, c *cli.Command, a files.SubjectAnswer, policy string) error {
	a.Settings = slices.DeleteFunc(a.Settings, func(set files.SettingAnswer) bool {
		return !slices.ContainsFunc(set.Candidates, func(c files.CandidateAnswer) bool { return c.Policy == policy })
	})
	a.NotApplying = slices.DeleteFunc(a.NotApplying, func(n files.NotApplyingAnswer) bool { return n.Policy != policy })
	a.Problems = slices.DeleteFunc(a.Problems, func(p files.ProblemAnswer) bool { return !slices.Contains(p.From, policy) })
	if len(a.Settings) == 0 && len(a.NotApplying) == 0 {
		if err := findPolicy(ctx, c, policy); err != nil {
			return err
		}
	}
	if c.String("format") == "json" {
		return printJSON(s.Out, a)
	}
	switch {
	case len(a.NotApplying) > 0:
		fmt.Fprintf(s.Out, "%s does not apply to %s: %s\n", policy, a.Device, notApplyingText(a.NotApplying[0]))
	case len(a.Settings) == 0:
		fmt.Fprintf(s.Out, "%s applies to %s and sets nothing there\n", policy, a.Device)
	default:
		printExplained(s.Out, a, true)
	}
	return nil
}

// findPolicy gives an error where there is no policy of an id.
func findPolicy(ctx context.Context, c *cli.Command, id string) error {
	if !c.IsSet("estate") {
		api, err := signedIn()
		if err != nil {
			return err
		}
		_, err = policyIn(ctx, api, reading{}, id)
		return err
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err == nil && resolve.Compile(snapshot).Policy(estate.PolicyID(id)) == nil {
		err = problem.Faults{{Code: problem.UnknownReference, Found: problem.Quote(id), Expected: "the id of one of the estate's policies"}}
	}
	return err
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
		case s.Status == string(outcome.Set):
			fmt.Fprintf(w, "%s = %s, %s from %s\n", s.Setting, valueText(s.Value), s.How, orNone(s.From))
		case s.Status == string(outcome.Conflict):
			fmt.Fprintf(
				w,
				"%s: conflict between %s; nothing is sent and the laptop keeps what it has\n",
				s.Setting,
				strings.Join(s.From, ", "),
			)
		case s.Status == string(outcome.Unset):
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
	var fate outcome.Fate
	fate.UnmarshalText([]byte(c.Fate)) // a word that it does not know gives the zero Fate
	switch fate {
	case outcome.Won:
		return "in effect"
	case outcome.Clashing:
		return "conflicts with " + by
	case outcome.Outer:
		return "lost: set closer to the laptop by " + by
	case outcome.LowerPriority:
		return "lost: lower priority than " + by
	case outcome.Weaker:
		return "lost: weaker than " + by
	case outcome.LockedOut:
		return "lost: locked further out by " + by
	case outcome.RuledOut:
		return "lost: a ruling prefers " + by
	case outcome.Excepted:
		return "overridden by an exception"
	case outcome.Detached:
		return "not inherited: this kind is detached closer to the laptop"
	case outcome.Enforced:
		return "overridden by " + by
	}
	return c.Fate
}
