// This file implements `zridge device past`: the auditor's question.

package command

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func pastCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "past", Usage: "what was decided for a laptop at a moment, by whom, who approved it, and what the laptop reported",
		ArgsUsage: "DEVICE",
		Description: "Examples:\n  zridge device past LT-0110 --at 2026-10-03T14:00 --area encryption\n" +
			"  zridge device past LT-0110 --at 2026-10-03",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "at", Required: true, Usage: "the `MOMENT`, such as 2026-10-03T14:00; a day alone is its end"},
			&cli.StringFlag{Name: "area", Usage: "settings of this `AREA` of the dictionary, or of this kind of policy, alone"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			query := url.Values{"at": {c.String("at")}}
			if c.IsSet("area") {
				query.Set("area", c.String("area"))
			}
			p, err := client.Get[wire.Past](ctx, api, client.Path("devices", id, "past"), query)
			if err != nil {
				return err
			}
			return printed(s, c, p, func() { printPast(s.Out, p) })
		}),
	}
}

func printPast(w io.Writer, p wire.Past) {
	fmt.Fprintf(w, "%s at %s, revision %d, %s\n", p.Device, moment(p.At), p.Revision, strings.Join(p.Units, " / "))
	switch is := p.Presence; {
	case is == nil:
		fmt.Fprintln(w, "  it had never checked in")
	case is.Covers:
		fmt.Fprintf(w, "  it checked in as usual from %s to %s\n", moment(is.Since), moment(is.Until))
	default:
		fmt.Fprintf(w, "  it had last checked in at %s\n", moment(is.Until))
	}
	for _, id := range p.Rollouts {
		fmt.Fprintf(w, "  the rollout %s had reached it\n", id)
	}
	for _, x := range p.Exceptions {
		fmt.Fprintf(w, "  the exception %s counted: %s, approved by %s on %s, until %s: %s\n", x.ID, x.Setting, x.ApprovedBy,
			x.ApprovedOn, x.Until, x.Reason)
	}
	for _, is := range p.Settings {
		printPastSetting(w, is)
	}
}

func printPastSetting(w io.Writer, is wire.PastSetting) {
	value := is.Status
	if is.Status == "set" {
		value = valueText(is.Value)
	}
	fmt.Fprintf(w, "\n%s = %s\n", is.Setting, value)
	switch {
	case is.InForce:
		fmt.Fprintf(w, "  in force: the laptop reported it since %s\n", sinceText(is.Since))
	case is.Reported != nil:
		fmt.Fprintf(w, "  the laptop reported %s since %s\n", valueText(is.Reported), sinceText(is.Since))
	case is.Status == "set":
		fmt.Fprintln(w, "  the laptop had reported nothing of it")
	}
	if is.Exception != "" {
		fmt.Fprintf(w, "  decided by the exception %s\n", is.Exception)
	}
	for _, d := range is.Decisions {
		where := fmt.Sprintf("version %d", d.Version)
		if d.Rollout != "" {
			where = "by the rollout " + d.Rollout
		}
		fmt.Fprintf(w, "  decided by %s, %s, published by %s at %s\n", d.Policy, where, d.By, sinceText(d.At))
		if d.Why != "" {
			fmt.Fprintf(w, "    change %s: %s\n", d.Change, d.Why)
		}
		for _, a := range d.Approvals {
			fmt.Fprintf(w, "    %s by %s at %s\n", map[string]string{"approve": "approved", "decline": "declined"}[a.Verdict], a.By, moment(a.At))
		}
	}
}
