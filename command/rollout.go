// This file implements `zridge rollout`.

package command

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func rolloutAtFlag() *cli.StringFlag {
	return &cli.StringFlag{Name: "at", Usage: "as it was at a `MOMENT` such as 2026-10-03T14:00; a day alone is its end"}
}

func rolloutCommand(s Streams) *cli.Command {
	commands := []*cli.Command{
		listing(s, "list", "rollouts, those under way first", "/rollouts", []string{"rollout", "state", "title", "laptops", "taken",
			"failed", "wave", "published"},
			func(r wire.Rollout) []string {
				return []string{
					r.ID, progressText(r), r.Title, fmt.Sprint(r.Laptops), fmt.Sprint(r.Counts["taken"]), fmt.Sprint(r.Counts["failed"]), openWave(r),
					moment(r.PublishedAt),
				}
			}, rolloutAtFlag()),
		{
			Name: "show", Usage: "a rollout with its waves", ArgsUsage: "ROLLOUT", Flags: []cli.Flag{rolloutAtFlag(), formatFlag("text", "json")},
			Action: asked(s, 1, "ROLLOUT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				r, err := client.Get[wire.Rollout](ctx, api, client.Path("rollouts", c.Args().First()), reading{at: c.String("at")}.query())
				if err != nil {
					return err
				}
				return printed(s, c, r, func() { printRollout(s.Out, r) })
			}),
		},
		laptopsCommand(s),
		{
			Name: "events", Usage: "what happened in a rollout, the newest first", ArgsUsage: "ROLLOUT",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "laptops", Usage: "those of single laptops, too"}, formatFlag("text", "json")},
			Action: asked(s, 1, "ROLLOUT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				query := url.Values{"limit": {"1000"}}
				if c.Bool("laptops") {
					query.Set("laptops", "true")
				}
				events, err := client.Get[[]wire.RolloutEvent](ctx, api, client.Path("rollouts", c.Args().First(), "events"), query)
				if err != nil {
					return err
				}
				return printed(s, c, events, func() {
					for _, e := range events {
						fmt.Fprintln(s.Out, eventText(e))
					}
				})
			}),
		},
		{
			Name: "watch", Usage: "show a rollout as it goes on, until it is over", ArgsUsage: "ROLLOUT",
			Description: "On a terminal the rollout is drawn anew; elsewhere each thing that happens is a line.",
			Flags:       []cli.Flag{&cli.DurationFlag{Name: "every", Value: 2 * time.Second, Usage: "`TIME` between two looks"}},
			Action: asked(s, 1, "ROLLOUT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				return watchRollout(ctx, s, api, c.Args().First(), max(c.Duration("every"), 100*time.Millisecond))
			}),
		},
	}
	for _, act := range []struct{ name, usage string }{
		{"go", "open the next wave, whatever its gate and hours say"},
		{"pause", "pause a rollout: laptops that have not taken the change get what they had before"},
		{"resume", "go on with a rollout that is paused or stopped"},
		{"finish", "give the change to every laptop now"},
		{"take-back", "give every laptop what it had before"},
	} {
		commands = append(commands, actCommand(s, act.name, act.usage))
	}
	commands = append(commands, &cli.Command{
		Name: "excuse", Usage: "say that a laptop need not take the change while it is rolled out", ArgsUsage: "ROLLOUT DEVICE",
		Flags: []cli.Flag{&cli.StringFlag{Name: "why", Required: true, Usage: "the `REASON`"}},
		Action: asked(s, 2, "ROLLOUT DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			_, err := client.Post[wire.Rollout](
				ctx, api, client.Path("rollouts", c.Args().First(), "acts"), wire.RolloutAct{Act: "excuse", Device: c.Args().Get(1),
					Note: c.String("why")},
			)
			return err
		}),
	}, rehearseCommand(s))
	return &cli.Command{Name: "rollout", Usage: "changes on their way to laptops: list, show, watch, go, pause, resume, take back",
		Commands: commands}
}

func laptopsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "laptops", Usage: "the laptops of a rollout", ArgsUsage: "ROLLOUT",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "wave", Usage: "of this `WAVE` only"},
			&cli.StringFlag{Name: "state", Usage: "in this `STATE` only: waiting, due, taken, failed, lost, silent, excused or returned"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "ROLLOUT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			query := url.Values{}
			for _, name := range []string{"wave", "state"} {
				if c.IsSet(name) {
					query.Set(name, c.String(name))
				}
			}
			laptops, err := client.All[wire.RolloutLaptop](ctx, api, client.Path("rollouts", c.Args().First(), "laptops"), query)
			if err != nil {
				return err
			}
			return printed(s, c, laptops, func() {
				rows := make([][]string, len(laptops))
				for i, l := range laptops {
					rows[i] = []string{l.Device, l.State, l.Wave, l.Owner, l.Unit, sinceText(l.Since), l.Reason}
				}
				printTable(s.Out, []string{"laptop", "state", "wave", "owner", "unit", "since", "reason"}, rows)
			})
		}),
	}
}

func sinceText(at *time.Time) string {
	if at == nil {
		return ""
	}
	return moment(*at)
}

// actCommand is a command that does something with a rollout, after showing what.
func actCommand(s Streams, act, about string) *cli.Command {
	return &cli.Command{
		Name: act, Usage: about, ArgsUsage: "ROLLOUT",
		Description: "Shows the rollout and what it would do, and does it with --yes.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do it; without it the rollout is shown and nothing is done"},
			&cli.StringFlag{Name: "why", Usage: "a `NOTE` for the record"},
		},
		Action: asked(s, 1, "ROLLOUT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			path := client.Path("rollouts", c.Args().First())
			if !c.Bool("yes") {
				r, err := client.Get[wire.Rollout](ctx, api, path, nil)
				if err != nil {
					return err
				}
				printRollout(s.Out, r)
				fmt.Fprintf(s.Out, "\n%s\n", effectOf(act, r))
				return &exitError{exitUsage, "nothing was done; say --yes to " + strings.ReplaceAll(act, "-", " ")}
			}
			r, err := client.Post[wire.Rollout](ctx, api, path+"/acts", wire.RolloutAct{Act: act, Note: c.String("why")})
			if err != nil {
				return err
			}
			printRollout(s.Out, r)
			return nil
		}),
	}
}

// effectOf says in numbers what an act would do.
func effectOf(act string, r wire.Rollout) string {
	n := func(states ...string) (sum int) {
		for _, state := range states {
			sum += r.Counts[state]
		}
		return sum
	}
	switch act {
	case "go":
		for _, w := range r.Waves {
			if w.OpenedAt == nil {
				return fmt.Sprintf("The wave %q would open: %s would get the change at the "+
					"next check-in.", w.ID, counted(w.Laptops, "laptop"))
			}
		}
		return "All waves are open."
	case "pause":
		return fmt.Sprintf("%s that have not taken the change would get what they had before; %s would keep it.",
			counted(n("due", "silent"), "laptop"), counted(n("taken", "failed", "lost"), "laptop"))
	case "resume":
		return fmt.Sprintf("%s would get the change at the next check-in; %d failed and %d lost ones would not stop the rollout again.",
			counted(n("due", "silent"), "laptop"), n("failed"), n("lost"))
	case "finish":
		return fmt.Sprintf("%s that have not taken the change would get it at the next check-in.",
			counted(n("waiting", "due", "silent", "excused"), "laptop"))
	}
	return fmt.Sprintf("%s would get back what they had before.", counted(n("taken", "failed", "lost", "due", "silent"), "laptop"))
}

// progressWords are the words for the states of a rollout.
var progressWords = map[string]string{
	"waiting": "waits for another", "running": "running", "paused": "paused", "stopped": "stopped", "finished": "finished",
	"taking-back": "being taken back", "taken-back": "taken back",
}

func progressText(r wire.Rollout) string {
	switch {
	case r.Reason == "failed":
		return "stopped: too many failed"
	case r.Reason == "lost":
		return "stopped: too many lost"
	case r.Ready:
		return "running: the next wave waits for you"
	}
	return progressWords[r.Progress]
}

func openWave(r wire.Rollout) string {
	open := ""
	for _, w := range r.Waves {
		if w.OpenedAt != nil {
			open = w.ID
		}
	}
	return open
}

// stateOrder is the order in which the states of laptops are listed.
var stateOrder = []string{"taken", "due", "failed", "lost", "silent", "waiting", "excused", "returned"}

func countsText(counts map[string]int) string {
	var parts []string
	for _, state := range stateOrder {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}

func printRollout(w io.Writer, r wire.Rollout) {
	fmt.Fprintf(w, "%s  %s\n  state    %s\n", r.ID, r.Title, progressText(r))
	if len(r.WaitsFor) > 0 {
		fmt.Fprintf(w, "  waits    for %s\n", strings.Join(r.WaitsFor, ", "))
	}
	fmt.Fprintf(w, "  plan     %s\n  laptops  %d: %s\n", planTitle(r), r.Laptops, countsText(r.Counts))
	if s := r.StopsAt; s != nil {
		fmt.Fprintf(w, "  stops    when more than %d fail (%d did) or more than %d are lost (%d are)\n", s.FailedMost, s.Failed,
			s.LostMost, s.Lost)
	}
	if p := r.Prediction; p.Judged > 0 {
		fmt.Fprintf(w, "  came true %s %% of the predictions: %d of %s report what was predicted\n", p.Percent, p.CameTrue,
			counted(p.Judged, "laptop"))
	}
	for _, wave := range r.Waves {
		fmt.Fprintf(w, "  %s\n", waveText(wave))
	}
	for _, reason := range r.Reasons {
		fmt.Fprintf(w, "  failed   %s: %s\n", counted(reason.Laptops, "laptop"), reason.Reason)
	}
}

func planTitle(r wire.Rollout) string {
	if r.Plan.Title != "" {
		return r.Plan.Title
	}
	return r.Plan.ID
}

// barWidth is how many characters the bar of a wave has.
const barWidth = 30

// waveText draws a wave as one line: its bar, what its laptops are, and when they are expected.
func waveText(w wire.RolloutWave) string {
	bar := ""
	for _, part := range []struct{ state, mark string }{{"taken", "█"}, {"failed", "!"}, {"lost", "?"}, {"silent", "~"}, {"due", "░"}} {
		if w.Laptops > 0 {
			bar += strings.Repeat(part.mark, (w.Counts[part.state]*barWidth+w.Laptops/2)/w.Laptops)
		}
	}
	runes := []rune(bar + strings.Repeat("·", barWidth))
	text := fmt.Sprintf("%-14s %s %s", w.ID, string(runes[:barWidth]), countsText(w.Counts))
	if w.OpenedAt == nil {
		return text
	}
	text += "; open since " + moment(*w.OpenedAt)
	if w.MostWithin > 0 && w.Counts["due"] > 0 {
		text += "; 95 % usually check in by " + moment(w.OpenedAt.Add(time.Duration(w.MostWithin)*time.Second))
	}
	return text
}

func eventText(e wire.RolloutEvent) string {
	at := e.At.Local().Format("2006-01-02 15:04:05")
	by := ""
	if e.By != "" && e.By != "service" {
		by = " by " + e.By
	}
	reason := ""
	if e.Reason != "" {
		reason = ": " + e.Reason
	}
	switch e.What {
	case "opened":
		return fmt.Sprintf("%s  wave %s opened with %s%s%s", at, e.Wave, counted(e.Laptops, "laptop"), by, reason)
	case "state":
		return fmt.Sprintf("%s  %s%s%s", at, progressWords[e.To], by, reason)
	}
	return fmt.Sprintf("%s  %s %s → %s%s", at, e.Device, e.From, e.To, reason)
}

// watchRollout shows a rollout until it is over: drawn anew on a terminal, a line for each event
// elsewhere.
func watchRollout(ctx context.Context, s Streams, api *client.Client, id string, every time.Duration) error {
	path := client.Path("rollouts", id)
	drawn, seen := 0, int64(0)
	for {
		r, err := client.Get[wire.Rollout](ctx, api, path, nil)
		if err != nil {
			return err
		}
		events, err := client.Get[[]wire.RolloutEvent](ctx, api, path+"/events", url.Values{"laptops": {"true"}, "limit": {"1000"}})
		if err != nil {
			return err
		}
		if isTerminal(s.Out) {
			var b strings.Builder
			printRollout(&b, r)
			for i, e := range events {
				if i == 8 {
					break
				}
				b.WriteString("  " + eventText(e) + "\n")
			}
			if drawn > 0 {
				fmt.Fprintf(s.Out, "\x1b[%dA\x1b[J", drawn) // up to where it began, and clear from there
			}
			fmt.Fprint(s.Out, fitted(b.String(), widthOf(s.Out)))
			drawn = strings.Count(b.String(), "\n")
		} else {
			for i := len(events) - 1; i >= 0; i-- {
				if events[i].Seq > seen {
					fmt.Fprintln(s.Out, eventText(events[i]))
				}
			}
		}
		if len(events) > 0 {
			seen = events[0].Seq
		}
		if r.Progress == "finished" || r.Progress == "taken-back" {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
	}
}

// fitted cuts the lines of a text that are wider than a terminal: one that goes on in a further line could not be
// drawn anew.
func fitted(text string, width int) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if wide := []rune(line); len(wide) > width {
			lines[i] = string(wide[:width-1]) + "…"
		}
	}
	return strings.Join(lines, "\n")
}

func rehearseCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "rehearse",
		Usage:     "play a rollout with made-up events, without a service",
		ArgsUsage: "FILE",
		Description: "FILE is a JSON document with a rollout plan, laptops and events; - reads it from the standard input.\n" +
			"docs/rollout.md describes it. Each thing that happens is printed as a line of JSON, in order; the last\n" +
			"line counts the laptops by state. A document with faults prints them, and nothing else.\n\n" +
			"Example:\n  zridge rollout rehearse demo/rehearsal.json",
		Action: func(_ context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return usage("rollout rehearse: found %s, expected one FILE", counted(c.NArg(), "argument"))
			}
			return rehearse(s, c.Args().First())
		},
	}
}

func rehearse(s Streams, name string) error {
	data, err := readInput(s, name)
	if err != nil {
		return fmt.Errorf("reading the rehearsal: %w", err)
	}
	rehearsal, err := files.ReadRehearsal(name, data)
	if err == nil {
		out := bufio.NewWriter(s.Out)
		if err = rehearsal.Run(out); err == nil {
			return out.Flush()
		}
	}
	if faults, bad := err.(problem.Faults); bad {
		printFaults(s.Err, faults)
		return &exitError{exitFault, ""}
	}
	return err
}
