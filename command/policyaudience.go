// This file has the command that says whom a policy is for.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func audienceCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "audience",
		Usage:     "say who gets a policy",
		ArgsUsage: "POLICY",
		Description: "Targets are everyone, unit:ID, group:ID, device:ID, person:ID; serial:NUMBER is the laptop with that " +
			"serial number. " +
			"Everyone, or\nevery laptop by other words, needs --everyone.\n\nExamples:\n" +
			"  zridge policy audience field-encryption --include " +
			"group:field-laptops --exclude unit:labs\n  zridge policy audience camera-off --include serial:ZX4-1110",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:  "include",
				Usage: "`TARGET` that gets it",
			},
			&cli.StringSliceFlag{Name: "exclude", Usage: "`TARGET` that is left out"},
			&cli.StringSliceFlag{Name: "drop", Usage: "`TARGET` to take out of either list"},
			&cli.StringFlag{
				Name:  "serials",
				Usage: "include the laptops whose serial numbers are in `FILE`, one a line",
			},
			&cli.StringFlag{Name: "when", Usage: "a CEL `CONDITION` over device and person; empty: always"},
			&cli.BoolFlag{Name: "offered", Usage: "offer the policy: it counts only where a person takes it; --offered=false enforces it"},
			&cli.StringFlag{
				Name:  "within",
				Usage: "a `UNIT` that bounds the policy: it never reaches a laptop outside it; empty: no bound",
			},
			&cli.StringFlag{Name: "on-drift", Usage: "what is done where a value was altered on a laptop: `repair` or report"},
			&cli.BoolFlag{Name: "everyone", Usage: "it is meant for everyone"},
			changeFlag(),
		},
		Action: writing(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			doc, err := policyIn(ctx, api, reading{change: change}, c.Args().First())
			if err != nil {
				return err
			}
			include, err := targetsOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			before := doc
			a := &doc.Audience
			a.Include, a.Exclude = slices.Clone(a.Include), slices.Clone(a.Exclude)
			a.Include = appendNew(a.Include, include)
			a.Exclude = appendNew(a.Exclude, c.StringSlice("exclude"))
			for _, t := range c.StringSlice("drop") {
				a.Include = slices.DeleteFunc(a.Include, func(have string) bool { return have == t })
				a.Exclude = slices.DeleteFunc(a.Exclude, func(have string) bool { return have == t })
			}
			if c.IsSet("when") {
				a.When = c.String("when")
			}
			if c.IsSet("offered") {
				doc.Offered = c.Bool("offered")
			}
			if c.IsSet("on-drift") {
				doc.OnDrift = c.String("on-drift")
			}
			if c.IsSet("within") {
				doc.Within = c.String("within")
			}
			if !c.Bool("everyone") {
				if err := notForEveryone(ctx, api, change, before, doc); err != nil {
					return err
				}
			}
			return putPolicy(ctx, s, api, change, doc)
		}),
	}
}

// notForEveryone gives an error where an edit makes a policy one for every laptop of the company, by
// whichever words.
func notForEveryone(ctx context.Context, api *client.Client, change wire.Change, before, after files.PolicyDoc) error {
	is, err := reachOf(ctx, api, change, after)
	if err != nil || is.Alarm != "everyone" {
		return err
	}
	if was, err := reachOf(ctx, api, change, before); err != nil || was.Alarm == "everyone" {
		return err
	}
	return usage(
		"audience: the policy would be for everyone, %d laptops today and those that come later; say --everyone if that is meant",
		is.Gets.Count,
	)
}

// reachOf says whom a policy would reach.
func reachOf(ctx context.Context, api *client.Client, change wire.Change, doc files.PolicyDoc) (wire.AudienceReach, error) {
	var r wire.AudienceAnswer
	in := trialOf(doc)
	_, err := api.Call(ctx, http.MethodPost, "/audience", reading{change: change}.query(), in, &r)
	switch {
	case err != nil:
		return wire.AudienceReach{}, err
	case len(r.Faults) > 0:
		return wire.AudienceReach{}, r.Faults
	}
	return *r.Reach, nil
}

// targetsOf gives the targets that are included, serial numbers turned into the laptops that have
// them.
func targetsOf(ctx context.Context, s Streams, c *cli.Command, api *client.Client) ([]string, error) {
	var targets, serials []string
	for _, t := range c.StringSlice("include") {
		if serial, is := strings.CutPrefix(t, "serial:"); is {
			serials = append(serials, serial)
		} else {
			targets = append(targets, t)
		}
	}
	if name := c.String("serials"); name != "" {
		lines, err := readLines(s, name)
		if err != nil {
			return nil, err
		}
		serials = append(serials, lines...)
	}
	if len(serials) == 0 {
		return targets, nil
	}
	found, err := client.Post[wire.Pasted](ctx, api, "/audience/paste", wire.PasteList{Words: serials})
	if err != nil {
		return nil, err
	}
	for _, id := range found.Devices {
		targets = append(targets, "device:"+id)
	}
	left := found.Devices
	for _, serial := range serials { // in their order, without those that nobody has
		if len(left) > 0 && !slices.Contains(found.Unknown, serial) && !slices.Contains(found.Doubled, serial) {
			fmt.Fprintf(s.Out, "%s is %s\n", serial, left[0])
			left = left[1:]
		}
	}
	unknown := found.Unknown
	if len(unknown) > 0 {
		return nil, usage("audience: no laptop has the serial number %s", strings.Join(unknown, ", "))
	}
	return targets, nil
}

func appendNew(list, more []string) []string {
	for _, t := range more {
		if !slices.Contains(list, t) {
			list = append(list, t)
		}
	}
	return list
}
