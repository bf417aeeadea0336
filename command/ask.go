// This file has the commands that list what the service knows, and asks it what folders answer too.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func askEffective(ctx context.Context, c *cli.Command, devices []string) ([]files.SubjectAnswer, error) {
	api, err := signedIn()
	if err != nil {
		return nil, err
	}
	if c.IsSet("date") {
		return nil, usage("--date goes with --estate; the service judges exceptions by its own day")
	}
	query := url.Values{}
	if len(devices) > 0 {
		for i := range devices {
			if devices[i], err = deviceID(ctx, api, devices[i]); err != nil {
				return nil, err
			}
		}
		query.Set("device", strings.Join(devices, ","))
	}
	if p := c.String("person"); p != "" {
		query.Set("person", p)
	}
	if c.Bool("reasons") {
		query.Set("reasons", "true")
	}
	if c.Name == "explain" {
		query.Set("explain", "true")
	}
	if at := c.String("at"); at != "" {
		query.Set("at", at)
	}
	return client.All[files.SubjectAnswer](ctx, api, "/effective", query)
}

// deviceID gives the id of a device that is named by its id or its serial number. What names none
// is given back: the service says so.
func deviceID(ctx context.Context, api *client.Client, named string) (string, error) {
	found, err := client.Post[wire.Pasted](ctx, api, "/audience/paste", wire.PasteList{Words: []string{named}})
	if err == nil && len(found.Devices) == 1 {
		return found.Devices[0], nil
	}
	return named, err
}

func askExplain(ctx context.Context, c *cli.Command, device string) (files.SubjectAnswer, error) {
	answers, err := askEffective(ctx, c, []string{device})
	if err != nil {
		return files.SubjectAnswer{}, err
	}
	return answers[0], nil
}

func askConflicts(ctx context.Context, c *cli.Command) ([]wire.Conflict, error) {
	api, err := signedIn()
	if err != nil {
		return nil, err
	}
	return client.Get[[]wire.Conflict](ctx, api, "/conflicts", reading{at: c.String("at")}.query())
}

// printed prints a value as JSON, or as text.
func printed(s Streams, c *cli.Command, v any, text func()) error {
	if c.String("format") == "json" {
		return printJSON(s.Out, v)
	}
	text()
	return nil
}

func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// listing is a command that prints a list of the service as a table. A path whose answer has pages
// is followed to its end.
func listing[T any](s Streams, name, what, path string, header []string, row func(T) []string, flags ...cli.Flag) *cli.Command {
	return &cli.Command{
		Name: name, Usage: "list " + what, ArgsUsage: " ", Flags: append(flags, formatFlag("text", "json")),
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			query := url.Values{}
			for _, f := range flags {
				switch flag := f.Names()[0]; v := c.Value(flag).(type) {
				case bool: // --live
					from, err := readingOf(ctx, s, c, api)
					if err != nil {
						return err
					}
					query.Del("change")
					maps.Copy(query, from.query())
				case []string:
					query[strings.ReplaceAll(flag, "-", "_")] = v
				default:
					if c.IsSet(flag) {
						query.Set(strings.ReplaceAll(flag, "-", "_"), fmt.Sprint(v))
					}
				}
			}
			return listed(ctx, s, c, api, path, query, header, row)
		}),
	}
}

func listed[T any](
	ctx context.Context,
	s Streams,
	c *cli.Command,
	api *client.Client,
	path string,
	query url.Values,
	header []string,
	row func(T) []string,
) error {
	var items []T
	first, err := client.Get[json.RawMessage](ctx, api, path, query)
	if err == nil && len(first) > 0 && first[0] == '[' {
		err = json.Unmarshal(first, &items)
	} else if err == nil {
		items, err = client.All[T](ctx, api, path, query)
	}
	if err != nil {
		return err
	}
	if items == nil {
		items = []T{}
	}
	return printed(s, c, items, func() {
		rows := make([][]string, len(items))
		for i, item := range items {
			rows[i] = row(item)
		}
		printTable(s.Out, header, rows)
		fmt.Fprintln(s.Out, len(items), "in all")
	})
}

// showCommand prints an object in the estate format, as YAML, and what more there is to say of it in
// a change.
func showCommand(
	s Streams,
	noun, kind string,
	more func(context.Context, *client.Client, wire.Object, reading) error,
) *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "a " + noun + " in the estate format",
		ArgsUsage: strings.ToUpper(noun),
		Flags:     append(readingFlags(), formatFlag("text", "json")),
		Action: asked(s, 1, strings.ToUpper(noun), func(ctx context.Context, c *cli.Command, api *client.Client) error {
			from, err := readingOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			o, err := objectIn(ctx, api, from, kind, c.Args().First())
			if err != nil {
				return err
			}
			if c.String("format") == "json" {
				return printJSON(s.Out, o)
			}
			text, err := files.YAML(kind, o.Body)
			if err != nil {
				return err
			}
			head := fmt.Sprintf("version %d", o.Version)
			if hasEdit(from.change, kind, o.ID) {
				head = "as in the change " + from.change.ID
			}
			fmt.Fprintf(s.Out, "# %s\n%s", head, text)
			return more(ctx, api, o, from)
		}),
	}
}

func deviceCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "device", Usage: "devices: list, show, compare, suppose, move, try again what failed, ask, simulate",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"devices",
				"/devices",
				[]string{"device", "serial", "owner", "unit", "os", "last seen", "applied", "pending", "failed"},
				func(d wire.Device) []string {
					seen := "never"
					if d.LastSeen != nil {
						seen = moment(*d.LastSeen)
					}
					return []string{
						d.ID,
						d.Serial,
						d.OwnerName,
						d.Unit,
						d.OS + " " + d.OSVersion,
						seen,
						fmt.Sprint(d.Statuses.Applied),
						fmt.Sprint(d.Statuses.Pending),
						fmt.Sprint(d.Statuses.Failed),
					}
				},
				&cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"},
				&cli.StringFlag{Name: "unit", Usage: "only in this `UNIT` or below"},
				&cli.StringFlag{Name: "group", Usage: "only of this `GROUP`"},
				&cli.StringFlag{
					Name:  "state",
					Usage: "only in this `STATE`: silent, never-seen, failed, pending, conflict, problem",
				},
				whereFlag(),
				&cli.StringFlag{
					Name:  "sort",
					Usage: "`FIELD` to sort by: id, unit, os_version, facts/ram_gb, last_seen, failed …; with - in front the other way",
				},
			),
			compareCommand(s),
			supposeCommand(s),
			moveCommand(s),
			{
				Name: "show", Usage: "what a device gets, has, and said", ArgsUsage: "DEVICE", Flags: []cli.Flag{formatFlag("text", "json")},
				Description: "DEVICE is an id or a serial number.",
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					p, err := client.Get[wire.DevicePage](ctx, api, client.Path("devices", id), nil)
					if err != nil {
						return err
					}
					return printed(s, c, p, func() { printDevice(s, p) })
				}),
			},
			pastCommand(s),
			verifyCommand(s),
			{
				Name: "check-in", Usage: "tell a laptop to check in now", ArgsUsage: "DEVICE",
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					is, err := client.Post[wire.Told](ctx, api, client.Path("devices", id, "check-in"), nil)
					if err != nil {
						return err
					}
					if is.Told {
						fmt.Fprintf(s.Out, "%s was told to check in.\n", id)
					} else {
						fmt.Fprintf(s.Out, "%s holds no connection and cannot be told. It checks in by itself, as it usually does.\n", id)
					}
					return nil
				}),
			},
			{
				Name: "retry", Usage: "try again what failed, at the next check-in", ArgsUsage: "DEVICE",
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					n, err := client.Post[struct{ Settings int }](ctx, api, client.Path("devices", id, "retry"), nil)
					if err == nil {
						fmt.Fprintf(s.Out, "%s will be retried at the next check-in.\n", counted(n.Settings, "failed setting"))
					}
					return err
				}),
			},
			{
				Name:      "ask",
				Usage:     "ask a device at its next check-in for all that it has, so that a policy can be captured from it",
				ArgsUsage: "DEVICE",
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					_, err = api.Call(ctx, http.MethodPost, client.Path("devices", id, "ask"), nil, nil, nil)
					if err == nil {
						fmt.Fprintln(s.Out, "It is asked at its next check-in; then: zridge policy new POLICY --capture", id)
					}
					return err
				}),
			},
			simulateCommand(s),
		},
	}
}

func printDevice(s Streams, p wire.DevicePage) {
	d := p.Device
	fmt.Fprintf(s.Out, "%s  serial %s  %s  %s %s  %s  owner %s\n", d.ID, orDefault(d.Serial, "not known"), d.Model, d.OS,
		d.OSVersion, strings.Join(p.Units, " / "), d.OwnerName)
	if d.Origin != nil {
		fmt.Fprintf(s.Out, "from the source %s: %s", d.Origin.Source, strings.Join(d.Origin.Brings, ", "))
		if len(d.Origin.Local) > 0 {
			fmt.Fprintf(s.Out, "; edited here: %s", strings.Join(d.Origin.Local, ", "))
		}
		if d.Origin.Left != nil {
			fmt.Fprintf(s.Out, "; LEFT its source on %s", moment(*d.Origin.Left))
		}
		fmt.Fprintln(s.Out)
	}
	printMemberships(s, p.Groups)
	for _, a := range p.Applies {
		fmt.Fprintf(s.Out, "applies %s: %d of %s in effect\n", a.ID, a.InEffect, counted(a.Entries, "entry"))
	}
	for _, o := range p.Offers {
		fmt.Fprintf(s.Out, "offered %s: %s\n", o.Policy, offerText(o))
	}
	for _, x := range p.Exceptions {
		fmt.Fprintf(s.Out, "exception %s for %s, lapses in %s\n", x.ID, x.Setting, counted(x.Days, "day"))
	}
	rows := make([][]string, len(p.Deliveries))
	for i, x := range p.Deliveries {
		rows[i] = []string{x.Setting, x.Status, valueText(x.Wanted), valueText(x.Reported), x.Reason}
	}
	printTable(s.Out, []string{"setting", "status", "wanted", "reported", "reason"}, rows)
	for _, f := range p.Effective.Problems {
		fmt.Fprintf(s.Out, "problem %s: %s (from %s)\n", f.Check, f.Message, orNone(f.From))
	}
	for i, c := range p.CheckIns {
		if i == 5 {
			break
		}
		fmt.Fprintf(s.Out, "check-in %s: %s, %d sent, %d applied, %d failed\n", moment(c.At), c.Outcome, c.Sent, c.Applied, c.Failed)
	}
}

// offerText says whether an offered policy was taken, and when.
func offerText(o wire.Offer) string {
	switch {
	case !o.Taken:
		return "not taken"
	case o.Since == nil:
		return "taken"
	}
	return "taken at the laptop " + moment(*o.Since)
}

func orDefault(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// needs is what needs a person.
type needs struct {
	wire.Overview
	Reviews  []wire.ReviewWaiting `json:"reviews"`
	Rollouts []wire.Rollout       `json:"rollouts"` // under way
}

// reviewWaits says what a review waits for.
var reviewWaits = map[string]string{
	"approval": "waits for your approval", "outdated": "differs since you approved it",
	"urgent":  "was published urgently: its approvals must follow",
	"publish": "is approved: you may publish it", "other": "is in review",
}

func statusCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "what needs a person", ArgsUsage: " ", Flags: []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			var o needs
			var err error
			if o.Overview, err = client.Get[wire.Overview](ctx, api, "/overview", nil); err != nil {
				return err
			}
			if o.Reviews, err = client.Get[[]wire.ReviewWaiting](ctx, api, "/reviews", nil); err != nil {
				return err
			}
			if o.Rollouts, err = client.Get[[]wire.Rollout](ctx, api, "/rollouts", nil); err != nil {
				return err
			}
			o.Rollouts = slices.DeleteFunc(o.Rollouts, func(r wire.Rollout) bool { return r.Progress == "finished" || r.Progress == "taken-back" })
			return printed(s, c, o, func() {
				fmt.Fprintf(
					s.Out,
					"revision %d, %s, %s, %s\n",
					o.Revision,
					counted(o.Devices, "device"),
					counted(o.People, "person"),
					counted(o.Policies, "policy"),
				)
				fmt.Fprintf(
					s.Out,
					"settings: %d applied, %d pending, %d failed, %d in conflict, %d not supported\n",
					o.Statuses.Applied,
					o.Statuses.Pending,
					o.Statuses.Failed,
					o.Statuses.Conflict,
					o.Statuses.Unsupported,
				)
				fmt.Fprintf(s.Out, "devices: %d enrolled, %d silent, %d never seen\n", o.Enrolled, o.Silent, o.NeverSeen)
				for _, r := range o.Reviews {
					fmt.Fprintf(s.Out, "review    %s %s %s\n", r.Change, r.Title, reviewWaits[r.For])
				}
				for _, r := range o.Rollouts {
					fmt.Fprintf(s.Out, "rollout   %s %s is %s\n", r.ID, r.Title, progressText(r))
				}
				for _, f := range o.Conflicts {
					fmt.Fprintf(s.Out, "conflict  %s: %s on %s\n", f.Setting, strings.Join(f.Policies, ", "), counted(f.DeviceCount, "device"))
				}
				for _, f := range o.Problems {
					fmt.Fprintf(s.Out, "problem   %s on %s\n", f.Message, counted(f.DeviceCount, "device"))
				}
				for _, f := range o.Failed {
					fmt.Fprintf(s.Out, "failed    %s on %s: %s\n", f.Setting, counted(len(f.Devices), "device"), f.Reason)
				}
				for _, x := range o.Lapsing {
					fmt.Fprintf(s.Out, "lapsing   %s in %s, on %s: %s\n", x.ID, counted(x.Days, "day"), x.Until, x.Reason)
				}
				for _, id := range o.Waiting {
					fmt.Fprintf(s.Out, "waiting   a reading of %s waits to be looked at: zridge source show %s\n", id, id)
				}
				for _, id := range o.FailedRuns {
					fmt.Fprintf(s.Out, "failed    the last reading of %s: zridge source show %s\n", id, id)
				}
				for _, n := range []struct {
					count int
					text  string
				}{{o.Asked, "exceptions are asked for: zridge exception requests --state asked"}, {o.Left, "left their source and " +
					"are still here: " +
					"zridge source left"}, {o.Missed, "entries were missed by places that are detached: zridge unit missed"}} {
					if n.count > 0 {
						fmt.Fprintf(s.Out, "look      %d %s\n", n.count, n.text)
					}
				}
				for _, ch := range o.Changes {
					fmt.Fprintf(s.Out, "open      %s %s (%s)\n", ch.ID, ch.Title, ch.CreatedBy)
				}
			})
		}),
	}
}

// printProblem says what the service refused.
func printProblem(p *wire.Problem) error {
	if len(p.Faults) > 0 {
		return problem.Faults(p.Faults)
	}
	switch {
	case p.Code == "not-signed-in":
		return &exitError{exitFault, "You are not signed in, or your session has expired. Run: zridge sign-in ADDRESS --name NAME"}
	case p.Change != "":
		return &exitError{exitFault, p.Detail + " Add: --change " + p.Change}
	case strings.HasSuffix(p.Detail, "."): // a sentence, which says all
		return &exitError{exitFault, p.Detail}
	}
	return p
}
