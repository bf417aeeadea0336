// This file shows the readings of sources, and sends files to them.

package command

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/wire"
)

func runText(r *directory.SourceReport) string {
	if r == nil {
		return ""
	}
	if r.Message != "" {
		return r.Message
	}
	return fmt.Sprintf("%d new, %d altered, %d left, %d back, %d the same", r.New, r.Altered, r.Left, r.Back, r.Same)
}

// printReport prints what a reading found and what it does.
func printReport(w io.Writer, r *directory.SourceReport) {
	fmt.Fprintf(
		w,
		"%d read: %d new (%d of them here already), %d altered, %d the same, %d left, %d back, %d faulty\n",
		r.Read,
		r.New,
		r.Adopted,
		r.Altered,
		r.Same,
		r.Left,
		r.Back,
		r.Faulty,
	)
	fmt.Fprintf(
		w,
		"Laptops that get something else: %d; a weaker value: %d; conflicts gained: %d; problems gained: %d\n",
		r.Devices,
		r.Weaker,
		r.Conflicts,
		r.Problems,
	)
	if r.Message != "" {
		fmt.Fprintln(w, r.Message)
	}
	for _, s := range r.Shrunk {
		what := "the policy " + s.Policy
		if s.Exclusion != "" {
			what = fmt.Sprintf("the exclusion %s of the policy %s", s.Exclusion, s.Policy)
		}
		fmt.Fprintf(w, "look: %s had %s and would have %d\n", what, counted(s.Before, "laptop"), s.After)
	}
	for _, a := range r.Audiences {
		if slices.ContainsFunc(r.Shrunk, func(s directory.Shrunk) bool { return s.Policy == a.Policy && s.Exclusion == "" }) {
			continue
		}
		fmt.Fprintf(w, "the policy %s would apply to %d laptops more and %d fewer\n", a.Policy, a.Gained, a.Dropped)
	}
	if len(r.Differ) > 0 {
		named := r.Differ[:min(len(r.Differ), 20)]
		fmt.Fprintf(w, "laptops that differ: %s", strings.Join(named, " "))
		if more := r.Devices - len(named); more > 0 {
			fmt.Fprintf(w, " and %d more", more)
		}
		fmt.Fprintln(w)
	}
	printLines(w, r.Faults)
	if r.MoreFaults > 0 {
		fmt.Fprintf(w, "and %d more faults\n", r.MoreFaults)
	}
	if r.CircleCount > 0 {
		fmt.Fprintf(w, "%s would close a circle of groups and %s left out: %s\n",
			counted(r.CircleCount, "membership"), map[bool]string{true: "is", false: "are"}[r.CircleCount == 1], strings.Join(r.Circles, "; "))
	}
	if r.LooseCount > 0 {
		fmt.Fprintf(w, "%d references lead nowhere and are left out: %s\n", r.LooseCount, shortened(r.Loose, 3))
	}
	var rows [][]string
	shown := map[string]int{}
	for _, i := range r.Items {
		if shown[i.What]++; shown[i.What] > 10 {
			continue
		}
		fields := make([]string, len(i.Fields))
		for j, f := range i.Fields {
			if f.Added+f.Removed > 0 && f.From == "" && f.To == "" {
				fields[j] = fmt.Sprintf("%s: %d added, %d removed", f.Field, f.Added, f.Removed)
				continue
			}
			fields[j] = fmt.Sprintf("%s: %s → %s", f.Field, orDefault(f.From, "nothing"), orDefault(f.To, "nothing"))
		}
		rows = append(rows, []string{i.What, i.Kind, i.ID, lineText(i.Line), shortened(fields, 3)})
	}
	if len(rows) > 0 {
		printTable(w, []string{"", "kind", "id", "line", "what differs"}, rows)
	}
}

func lineText(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// waitingText says why a run waits for review.
func waitingText(r *directory.SourceReport) string {
	switch r.Reason {
	case "many-left":
		return fmt.Sprintf("%s would leave, more than the allowed %d %%", counted(r.Left, "object"), r.MostLeft)
	case "shrunk":
		if len(r.Shrunk) == 1 {
			return "a policy or an exclusion would lose its laptops"
		}
		return fmt.Sprintf("%d policies and exclusions would lose all of their laptops, or more than %d %%", len(r.Shrunk), r.MostLost)
	case "faults":
		return fmt.Sprintf("%s cannot be imported", counted(max(r.Faulty, len(r.Faults)+r.MoreFaults), "object"))
	case "first":
		return "nothing was imported from this source yet"
	case "set-up":
		return "the configuration of the source was altered"
	}
	return "you asked to see it first"
}

// finishRun prints a run and gives the exit status that it comes to.
func finishRun(s Streams, c *cli.Command, id string, run wire.SourceRun) error {
	if run.State == "failed" && len(run.Report.Faults) > 0 && c.String("format") != "json" {
		return run.Report.Faults
	}
	if err := printed(s, c, run, func() { printReport(s.Out, run.Report) }); err != nil {
		return err
	}
	switch run.State {
	case "waiting":
		if c.String("format") != "json" {
			fmt.Fprintf(s.Out, "Waiting for review: %s. Import it with: zridge source take %s\n", waitingText(run.Report), id)
		}
		return nil
	case "taken":
		if c.String("format") != "json" {
			fmt.Fprintln(s.Out, "Taken.")
		}
	case "failed":
		return &exitError{exitFault, "nothing was taken; all is as it was"}
	}
	return nil
}

// ended waits until the run that began then has ended or waits, and tells how far it is on a
// terminal.
func ended(ctx context.Context, api *client.Client, s Streams, id string, begun time.Time) (wire.SourceRun, error) {
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		x, err := client.Get[wire.Source](ctx, api, client.Path("sources", id), nil)
		switch {
		case err != nil:
			return wire.SourceRun{}, err
		case x.Running != nil && x.Running.State != "reading":
			return *x.Running, nil
		case x.Running == nil && len(x.Runs) > 0 && !x.Runs[0].StartedAt.Before(begun.Truncate(time.Millisecond)):
			return x.Runs[0], nil
		case x.Running != nil && isTerminal(s.Err):
			fmt.Fprintf(s.Err, "\r%s %d   ", x.Running.Step, x.Running.Done)
		}
		select {
		case <-ctx.Done():
			return wire.SourceRun{}, ctx.Err()
		case <-tick.C:
		}
	}
}

func isTerminal(w io.Writer) bool {
	if s, is := w.(*shown); is {
		w = s.w
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func sendCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "send",
		Usage:     "send a table as CSV to a source",
		ArgsUsage: "SOURCE FILE",
		Description: "The table is compared with what is here. It is taken at once, unless it is the first, the set-up is another, " +
			"rows are faulty,\nor much would leave at once: then it waits for `source take`. A table that can't be read to its end " +
			"alters nothing.\n\nExample:\n  zridge source send inventory laptops.csv --look",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "look", Usage: "only say what it would do, and wait"}, formatFlag("text", "json")},
		Action: asked(s, 2, "SOURCE and FILE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			file, err := os.Open(c.Args().Get(1))
			if err != nil {
				return err
			}
			defer file.Close()
			info, err := file.Stat()
			if err != nil {
				return err
			}
			if !info.Mode().IsRegular() {
				return usage("send: found %s, which is no file", problem.Quote(c.Args().Get(1)))
			}
			run, err := send(ctx, api, s, c.Args().First(), file, info.Size(), c.Bool("look"))
			if err != nil {
				return err
			}
			return finishRun(s, c, c.Args().First(), run)
		}),
	}
}

// send sends a table with a bar on a terminal.
func send(
	ctx context.Context,
	api *client.Client,
	s Streams,
	id string,
	file *os.File,
	size int64,
	look bool,
) (run wire.SourceRun, err error) {
	var body io.Reader = file
	if isTerminal(s.Err) {
		bar := progressbar.NewOptions64(
			size,
			progressbar.OptionSetWriter(s.Err),
			progressbar.OptionShowBytes(true),
			progressbar.OptionSetDescription("sending"),
			progressbar.OptionClearOnFinish(),
		)
		body = io.TeeReader(file, bar)
	}
	query := url.Values{"name": {filepath.Base(file.Name())}, "look": {fmt.Sprint(look)}}
	_, err = api.Call(
		ctx,
		http.MethodPost,
		client.Path("sources", id, "tables"),
		query,
		client.Stream{Reader: body, Size: size},
		&run,
		"Content-Type",
		"text/csv",
	)
	return run, err
}
