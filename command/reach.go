// This file implements the command that shows whom a policy reaches.

package command

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func whereFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name:  "where",
		Usage: "`CONDITION` that must hold: os=linux|macos, facts/ram_gb>=16, tags~field, edition?, edition!?",
	}
}

func reachCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "reach",
		Usage:     "who gets a policy, in numbers: by platform, release and unit, and what each target does",
		ArgsUsage: "POLICY",
		Description: "With --include and the like it says who would get it then; nothing is kept.\n\nExamples:\n  zridge policy reach " +
			"field-encryption\n  zridge policy reach field-encryption --exclude group:bridge-laptops --beside fleet-startup",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "include", Usage: "`TARGET` besides"},
			&cli.StringSliceFlag{Name: "exclude", Usage: "`TARGET` left out besides"},
			&cli.StringFlag{Name: "when", Usage: "another CEL `CONDITION`"},
			&cli.StringFlag{Name: "beside", Usage: "compare with the audience of this `POLICY`"},
			&cli.IntFlag{
				Name:  "test-group",
				Usage: "name `N` laptops of every platform, unit and release among them, to start with",
			},
			formatFlag("text", "json"),
			readChangeFlag(), liveFlag(), atFlag(),
		},
		Action: asked(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			from, err := readingOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			query := from.query()
			doc, err := policyIn(ctx, api, from, c.Args().First())
			if err != nil {
				return err
			}
			in := trialOf(doc)
			in.Beside = c.String("beside")
			for id := range doc.Settings {
				in.Settings = append(in.Settings, id)
			}
			in.Audience.Include = appendNew(in.Audience.Include, c.StringSlice("include"))
			in.Audience.Exclude = appendNew(in.Audience.Exclude, c.StringSlice("exclude"))
			if c.IsSet("when") {
				in.Audience.When = c.String("when")
			}
			if n := c.Int("test-group"); n > 0 {
				query["count"] = []string{fmt.Sprint(n)}
				var few wire.SpreadList
				if _, err := api.Call(ctx, http.MethodPost, "/audience/spread", query, in, &few); err != nil {
					return err
				}
				return printed(s, c, few, func() { fmt.Fprintln(s.Out, strings.Join(few.Devices, "\n")) })
			}
			var r wire.AudienceAnswer
			if _, err := api.Call(ctx, http.MethodPost, "/audience", query, in, &r); err != nil {
				return err
			}
			if len(r.Faults) > 0 {
				return r.Faults
			}
			return printed(s, c, r.Reach, func() { printReach(s, *r.Reach) })
		}),
	}
}

// takenText says on how many laptops an offered policy was not taken; nothing where it is enforced.
func takenText(not int) string {
	if not == 0 {
		return ""
	}
	return fmt.Sprintf("It is offered; on %s nobody has taken it.\n", counted(not, "laptop"))
}

// trialOf asks who would get a policy as it is written.
func trialOf(doc files.PolicyDoc) wire.AudienceTrial {
	in := wire.AudienceTrial{Kind: doc.Kind, Platforms: doc.Platforms, Within: doc.Within, Audience: doc.Audience}
	if doc.Offered {
		in.Offered = doc.ID
	}
	return in
}

func printReach(s Streams, r wire.AudienceReach) {
	switch r.Alarm {
	case "everyone":
		fmt.Fprintf(s.Out, "EVERYONE: all %d laptops of the company\n", r.Estate)
	case "many":
		fmt.Fprintf(s.Out, "MANY: more than %d%% of the company\n", r.Share)
	}
	fmt.Fprintf(
		s.Out,
		"Assigned to %d of %d laptops, %s, in %s.\n"+
			"Not assigned: %d excluded, %d by the condition, %d by platform, %d outside of its unit, "+
			"%d not included.\n%s%s%s\n",
		r.Gets.Count,
		r.Estate,
		counted(r.People.Count, "owner"),
		counted(r.Units, "unit"),
		r.Excluded.Count,
		r.Condition.Count,
		r.Platform.Count,
		r.Outside.Count,
		r.NotIncluded.Count,
		takenText(r.NotTaken.Count),
		supportText(r.Gets.Count, r.Unsupported.Count),
		unknownText(r.Unknown.Count),
	)
	var rows [][]string
	for _, group := range []struct {
		word string
		list []wire.Slice
	}{{"platform", r.ByPlatform}, {"release", r.ByRelease}, {"unit", r.ByUnit}} {
		for _, x := range group.list {
			rows = append(rows, []string{group.word, strings.TrimSpace(x.Within + " " + x.Name), fmt.Sprint(x.Devices), fmt.Sprint(x.Of)})
		}
	}
	for _, t := range r.ByInclude {
		rows = append(rows, []string{"brought in by", t.Target, fmt.Sprint(t.Devices), ""})
	}
	for _, t := range r.ByExclude {
		rows = append(rows, []string{"taken out by", t.Target, fmt.Sprint(t.Devices), ""})
	}
	if len(rows) > 0 {
		printTable(s.Out, []string{"by", "", "laptops", "of"}, rows)
	}
	if len(r.Missing) > 0 {
		fmt.Fprintf(s.Out, "names nothing: %s\n", strings.Join(r.Missing, ", "))
	}
	if b := r.Beside; b != nil {
		fmt.Fprintf(s.Out, "beside %s: %d only here, %d both, %d only there\n", b.Policy, b.Here.Count, b.Both.Count, b.There.Count)
	}
}
