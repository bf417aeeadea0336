// This file implements the commands of reviews: zridge change review, send, approve, decline, comment …

package command

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// reviewCommands are the commands of `zridge change` about reviews.
func reviewCommands(s Streams) []*cli.Command {
	return []*cli.Command{
		{
			Name: "review", Usage: "what approval rules ask of a change, who approved it, and what was said", ArgsUsage: "[CHANGE]",
			Description: "Without CHANGE it is the one that you opened last. What the change does is shown by: zridge change impact",
			Flags:       []cli.Flag{formatFlag("text", "json")},
			Action: asked(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				change, err := changeNamed(ctx, s, c, api)
				if err != nil {
					return err
				}
				r, err := client.Get[wire.Review](ctx, api, client.Path("changes", change.ID, "review"), nil)
				if err != nil {
					return err
				}
				return printed(s, c, r, func() { printReview(s.Out, r) })
			}),
		},
		{
			Name: "send", Usage: "freeze a change and ask people to look at it", ArgsUsage: "CHANGE",
			Flags: []cli.Flag{
				&cli.StringSliceFlag{Name: "to", Usage: "the `ACCOUNT` that is asked; may be repeated; without it whoever may approve"},
				&cli.BoolFlag{Name: "back", Usage: "make a change open again that is in review; what was approved is void"},
			},
			Action: asked(s, 1, "CHANGE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				path := client.Path("changes", c.Args().First(), "review")
				var r wire.Review
				method, body := http.MethodPost, any(wire.SendForReview{Reviewers: c.StringSlice("to")})
				if c.Bool("back") {
					method, body = http.MethodDelete, nil
				}
				if _, err := api.Call(ctx, method, path, nil, body, &r); err != nil {
					return err
				}
				printReview(s.Out, r)
				return nil
			}),
		},
		verdictCommand(s, "approve", "approve a change that is in review; not for who edited in it"),
		verdictCommand(s, "decline", "say that a change cannot be published as it is, and why"),
		{
			Name: "comment", Usage: "say something about a change", ArgsUsage: "CHANGE TEXT",
			Description: "Examples:\n  zridge change comment C-abc12345 \"Why 30 minutes?\" --about policies/lock --block\n" +
				"  zridge change comment C-abc12345 --resolve 3",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "about", Usage: "the edit `KIND/ID`, or settings/ID for a line of the impact"},
				&cli.BoolFlag{Name: "block", Usage: "nothing is approved until the comment is resolved"},
				&cli.Int64Flag{Name: "resolve", Usage: "say that the comment `NUMBER` is dealt with, instead"},
			},
			Action: asked(s, anyNumber, "", commentAction),
		},
		{
			Name: "undo", Usage: "turn a change round as a whole", ArgsUsage: "CHANGE",
			Description: "A change that is being rolled out is taken back. Of a published one a new change is made: see what it " +
				"does, then publish it.",
			Flags: []cli.Flag{formatFlag("text", "json")},
			Action: asked(s, 1, "CHANGE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				u, err := client.Post[wire.Undone](ctx, api, client.Path("changes", c.Args().First(), "undo"), nil)
				if err != nil {
					return err
				}
				return printed(s, c, u, func() { printUndone(s.Out, c.Args().First(), u) })
			}),
		},
	}
}

func verdictCommand(s Streams, verdict, about string) *cli.Command {
	return &cli.Command{
		Name: verdict, Usage: about, ArgsUsage: "CHANGE",
		Description: "Shows what you decide about, and decides with --yes, provided that neither the change nor its impact altered " +
			"in between.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` for the record"},
			&cli.BoolFlag{Name: "yes", Usage: "decide; without it the change is shown and nothing is done"},
		},
		Action: asked(s, 1, "CHANGE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id := c.Args().First()
			r, err := client.Get[wire.Review](ctx, api, client.Path("changes", id, "review"), nil)
			if err != nil {
				return err
			}
			if !c.Bool("yes") {
				if err := showImpact(ctx, api, s.Out, id, "text"); err != nil {
					return err
				}
				printReview(s.Out, r)
				return &exitError{exitUsage, "nothing was decided; say --yes to " + verdict}
			}
			r, err = client.Post[wire.Review](
				ctx, api, client.Path("changes", id, "verdicts"), wire.DecideRequest{Verdict: verdict, Note: c.String("note"), Digest: r.Digest},
			)
			if err != nil {
				return err
			}
			printReview(s.Out, r)
			return nil
		}),
	}
}

func commentAction(ctx context.Context, c *cli.Command, api *client.Client) error {
	if c.IsSet("resolve") {
		if c.NArg() != 1 {
			return wrongArguments(c, "CHANGE")
		}
		path := client.Path("changes", c.Args().First(), "comments", fmt.Sprint(c.Int64("resolve")), "resolve")
		_, err := api.Call(ctx, http.MethodPost, path, nil, nil, nil)
		return err
	}
	if c.NArg() != 2 {
		return wrongArguments(c, "CHANGE TEXT")
	}
	_, err := client.Post[wire.Comment](
		ctx, api, client.Path("changes", c.Args().First(), "comments"),
		wire.NewComment{Text: c.Args().Get(1), About: c.String("about"), Blocking: c.Bool("block")},
	)
	return err
}

// changeStates are the words for the states of a change.
var changeStates = map[string]string{
	"open": "open", "in-review": "in review", "rolling-out": "rolling out", "published": "published", "taken-back": "taken back",
	"discarded": "discarded",
}

func printReview(w io.Writer, r wire.Review) {
	state := changeStates[r.Change.State]
	if r.Change.State == "in-review" && r.Approved {
		state = "approved"
	}
	fmt.Fprintf(w, "%s  %s\n  state      %s\n", r.Change.ID, r.Change.Title, state)
	if r.Change.Why != "" {
		fmt.Fprintf(w, "  why        %s\n", r.Change.Why)
	}
	if r.SentBy != "" {
		to := "whoever may approve"
		if len(r.Reviewers) > 0 {
			to = strings.Join(r.Reviewers, ", ")
		}
		fmt.Fprintf(w, "  sent       by %s to %s\n", r.SentBy, to)
	}
	if f := r.Facts; f != nil {
		fmt.Fprintf(w, "  touches    %s, %.1f %% of the estate; %s\n", counted(f.Laptops, "laptop"), f.Share, counted(f.Edits, "edit"))
		for _, n := range []struct {
			count int
			words string
		}{
			{f.Weaker, "get a weaker value"}, {f.Irreversible, "get something that cannot be undone"}, {f.Restarts, "need a restart"},
			{f.Prompts, "ask the person something"}, {f.Lockouts, "can lock the person out"},
		} {
			if n.count > 0 {
				fmt.Fprintf(w, "             %s: they %s\n", counted(n.count, "laptop"), n.words)
			}
		}
		if f.ConflictsGained+f.ProblemsGained > 0 {
			fmt.Fprintf(w, "             %s and %s begin\n", counted(f.ConflictsGained, "conflict"), counted(f.ProblemsGained, "problem"))
		}
	}
	if r.Urgent != "" {
		fmt.Fprintf(w, "  urgent     %s\n", r.Urgent)
	}
	for _, f := range r.Faults {
		fmt.Fprintf(w, "  fault      %s\n", f.Error())
	}
	printDemands(w, r)
	for _, x := range r.WaitsFor {
		fmt.Fprintf(w, "  waits for  rollout %s, %s%s\n", x.Rollout, x.Title, ofObjects(x.Objects))
	}
	for _, m := range r.Meets {
		what := ""
		if len(m.Settings) > 0 {
			what = ", which alters " + strings.Join(m.Settings, ", ") + ", too"
		}
		fmt.Fprintf(w, "  meets      rollout %s, %s (%s)%s: both alter something on %s\n", m.Rollout, m.Title, m.Progress, what,
			counted(m.Laptops, "laptop"))
	}
	for _, c := range r.Comments {
		marks := ""
		if c.Blocking && c.ResolvedAt == nil {
			marks = ", to be resolved first"
		} else if c.ResolvedAt != nil {
			marks = ", resolved by " + c.ResolvedBy
		}
		about := ""
		if c.About != "" {
			about = " about " + c.About
		}
		fmt.Fprintf(w, "  comment %d  %s%s%s: %s\n", c.ID, c.By, about, marks, c.Text)
	}
}

func ofObjects(objects []string) string {
	if len(objects) == 0 {
		return ", which brings what it names"
	}
	return ", which edits " + strings.Join(objects, ", ") + ", too"
}

func printDemands(w io.Writer, r wire.Review) {
	if len(r.Demands) == 0 {
		fmt.Fprintln(w, "  rules      no approval rule asks for an approval")
	}
	for _, d := range r.Demands {
		title, mark := d.Title, "missing"
		if title == "" {
			title = d.Rule
		}
		if d.Met {
			mark = "met"
		}
		from := ""
		if d.From != "" {
			from = " from " + d.From
		}
		fmt.Fprintf(w, "  rule       %s: %s%s, %s\n", title, counted(d.Approvals, "approval"), from, mark)
		if d.Fault != "" {
			fmt.Fprintf(w, "             it could not be evaluated, so it asks: %s\n", d.Fault)
		}
	}
	for _, v := range r.Verdicts {
		word := "approved"
		if v.Verdict == "decline" {
			word = "declined"
		}
		note := ""
		if v.Note != "" {
			note = ": " + v.Note
		}
		fmt.Fprintf(w, "  %s   %s, %s%s\n", word, v.By, moment(v.At), note)
		if v.Outdated {
			fmt.Fprintf(w, "             outdated, to be confirmed: the impact differs since\n")
		}
		for _, d := range v.Differs {
			fmt.Fprintf(w, "             %s: on %d, now on %s\n", d.What, d.Was, counted(d.Is, "laptop"))
		}
	}
}

func printUndone(w io.Writer, id string, u wire.Undone) {
	if u.TakenBack {
		fmt.Fprintf(w, "%s is taken back. See how far it is: zridge rollout show %s\n", id, id)
		return
	}
	ways := map[string]string{
		"restored": "as it was before", "retired": "retired, the change had made it", "merged": "what the change altered is turned round",
		"unchanged": "it is so already", "left": "left as it is",
	}
	for _, o := range u.Objects {
		since := ""
		if o.By != "" {
			since = ", altered since by " + o.By
		}
		if len(o.Parts) > 0 {
			since += "; these stay: " + strings.Join(o.Parts, ", ")
		}
		fmt.Fprintf(w, "%s/%s: %s%s\n", o.Kind, o.ID, ways[o.Way], since)
	}
	fmt.Fprintf(w, "The change %s undoes it. See what it does: zridge change impact %s\n", u.Change, u.Change)
}
