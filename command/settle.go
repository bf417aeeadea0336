// This file has the commands that settle what does not fit together: ways with their effects, and
// questions to the owners.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// settlingCommands are the commands below `conflicts`.
func settlingCommands(s Streams) []*cli.Command {
	return []*cli.Command{
		{
			Name:        "ways",
			Usage:       "ways to settle a conflict or a problem, each with what it would do",
			ArgsUsage:   "[SETTING …]",
			Description: "Examples:\n  zridge conflicts ways signin.banner\n  zridge conflicts ways --check startup.pin-without-chip",
			Flags: append(
				disagreementFlags(),
				readChangeFlag(),
				liveFlag(),
				formatFlag("text", "json"),
			),
			Action: asked(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				from, err := readingOf(ctx, s, c, api)
				if err != nil {
					return err
				}
				ways, err := waysFor(ctx, c, api, from.change.ID)
				if err != nil {
					return err
				}
				return printed(s, c, ways, func() { printConflictWays(s, ways) })
			}),
		},
		{
			Name:      "settle",
			Usage:     "put a way into a change, and say what that does",
			ArgsUsage: "[SETTING …]",
			Description: "Example:\n  zridge conflicts settle signin.banner --way prefer --policy on-call-banner --reason \"The " +
				"watch must " +
				"be reached\"",
			Flags: append(
				disagreementFlags(),
				&cli.StringFlag{Name: "way", Required: true, Usage: "the `WAY`, as `zridge conflicts ways` names it"},
				&cli.StringFlag{Name: "policy", Required: true, Usage: "the `POLICY` that it names"},
				&cli.StringFlag{Name: "reason", Required: true, Usage: "the `REASON`: kept with the ruling, or with the change"},
				changeFlag(),
			),
			Action: writing(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
				return settle(ctx, s, c, api, change)
			}),
		},
		{
			Name:        "ask",
			Usage:       "ask those who answer for the policies",
			ArgsUsage:   "[SETTING]",
			Description: "Example:\n  zridge conflicts ask signin.banner --note \"Which of the two shall the leads see?\"",
			Flags: append(
				disagreementFlags(),
				&cli.StringFlag{Name: "note", Required: true, Usage: "what is asked: a `NOTE`"},
				&cli.StringSliceFlag{Name: "of", Usage: "ask this `NAME`; without it the owners of the policies"},
			),
			Action: asked(s, anyNumber, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				query, err := disagreementOf(ctx, c, api, "")
				if err != nil {
					return err
				}
				if len(query["setting"]) > 1 {
					return usage("ask: found %d settings, expected one", len(query["setting"]))
				}
				q, err := client.Post[wire.Question](
					ctx,
					api,
					"/conflict-questions",
					wire.AskOwners{
						Setting:  query.Get("setting"),
						Check:    query.Get("check"),
						Policies: query["policies"],
						Of:       c.StringSlice("of"),
						Note:     c.String("note"),
					},
				)
				if err == nil {
					fmt.Fprintf(s.Out, "Asked %s as %s\n", strings.Join(q.Of, " and "), q.ID)
				}
				return err
			}),
		},
		listing(
			s,
			"questions",
			"questions to those who answer for policies",
			"/conflict-questions",
			[]string{"question", "state", "about", "of", "asked", "note", "answer"},
			func(q wire.Question) []string {
				state := q.State
				if !q.Current {
					state += ", settled by now"
				}
				return []string{
					q.ID,
					state,
					q.Setting + q.Check,
					strings.Join(q.Of, ", "),
					q.By + " " + moment(q.At),
					clipped(q.Note, 40),
					clipped(q.Answer, 40),
				}
			},
			&cli.StringFlag{Name: "state", Usage: "only in this `STATE`: open, answered, withdrawn"},
		),
		{
			Name: "answer", Usage: "answer a question", ArgsUsage: "QUESTION ANSWER",
			Action: asked(s, -2, "QUESTION and ANSWER", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				q, err := client.Post[wire.Question](
					ctx,
					api,
					client.Path("conflict-questions", c.Args().First(), "answer"),
					wire.Answer{Answer: strings.Join(c.Args().Tail(), " ")},
				)
				if err == nil {
					fmt.Fprintf(s.Out, "%s is %s\n", q.ID, q.State)
				}
				return err
			}),
		},
		{
			Name: "withdraw", Usage: "take a question of yours back", ArgsUsage: "QUESTION",
			Action: asked(s, 1, "QUESTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				_, err := api.Call(ctx, http.MethodDelete, client.Path("conflict-questions", c.Args().First()), nil, nil, nil)
				if err == nil {
					fmt.Fprintln(s.Out, "Taken back.")
				}
				return err
			}),
		},
	}
}

func disagreementFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "check", Usage: "a problem: what this `CHECK` finds"},
		&cli.StringSliceFlag{Name: "policies", Usage: "of these `POLICIES`, where the name fits more than one"},
	}
}

// disagreementOf finds the conflict or problem that is meant, as the service names it.
func disagreementOf(ctx context.Context, c *cli.Command, api *client.Client, change string) (url.Values, error) {
	query, in := url.Values{}, url.Values{}
	if change != "" {
		query.Set("change", change)
		in.Set("change", change)
	}
	settings, check := c.Args().Slice(), c.String("check")
	if (len(settings) == 0) == (check == "") {
		return nil, usage("%s: found %d settings and the check %q, expected settings or a check", c.Name, len(settings), check)
	}
	var fits [][]string
	if check != "" {
		query.Set("check", check)
		problems, err := client.Get[[]wire.FoundProblem](ctx, api, "/problems", in)
		if err != nil {
			return nil, err
		}
		for _, p := range problems {
			if p.Check == check {
				fits = append(fits, p.From)
			}
		}
	} else {
		query["setting"] = settings
		conflicts, err := client.Get[[]wire.Conflict](ctx, api, "/conflicts", in)
		if err != nil {
			return nil, err
		}
		for _, one := range conflicts {
			if one.Setting == settings[0] {
				fits = append(fits, one.Policies)
			}
		}
	}
	if named := slices.Sorted(slices.Values(c.StringSlice("policies"))); len(named) > 0 {
		fits = slices.DeleteFunc(fits, func(f []string) bool { return !slices.Equal(f, named) })
	}
	about := strings.Join(settings, ", ") + check
	switch {
	case len(fits) == 0:
		return nil, usage(
			"%s: found nothing that does not fit together about %s; `zridge conflicts` and `zridge status` list what does not",
			c.Name,
			about,
		)
	case len(fits) > 1:
		var words []string
		for _, f := range fits {
			words = append(words, strings.Join(f, ","))
		}
		return nil, usage("%s: found %d about %s, expected --policies with one of %s", c.Name, len(fits), about, strings.Join(words, " or "))
	}
	query["policies"] = fits[0]
	return query, nil
}

func waysFor(ctx context.Context, c *cli.Command, api *client.Client, change string) ([]wire.ConflictWay, error) {
	query, err := disagreementOf(ctx, c, api, change)
	if err != nil {
		return nil, err
	}
	return client.Get[[]wire.ConflictWay](ctx, api, "/conflicts/ways", query)
}

func printConflictWays(s Streams, ways []wire.ConflictWay) {
	rows := make([][]string, len(ways))
	for i, w := range ways {
		left := "settles it"
		if w.Left > 0 {
			left = fmt.Sprintf("leaves it on %d of %d", w.Left, w.Touched)
		}
		policy := w.Policy
		if len(w.Targets) > 0 {
			policy += " leaves out " + strings.Join(w.Targets, ", ")
		}
		rows[i] = []string{w.Kind, policy, left, fmt.Sprint(w.Devices), fmt.Sprint(w.Weaker), fmt.Sprint(w.Gained)}
	}
	if len(rows) > 0 {
		printTable(s.Out, []string{"way", "policy", "", "laptops that differ", "weaker", "conflicts gained"}, rows)
	}
	fmt.Fprintln(s.Out, counted(len(ways), "way"))
}

func settle(ctx context.Context, s Streams, c *cli.Command, api *client.Client, change wire.Change) error {
	ways, err := waysFor(ctx, c, api, change.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(ways, func(w wire.ConflictWay) bool { return w.Kind == c.String("way") && w.Policy == c.String("policy") })
	if at < 0 {
		return usage(
			"settle: found the way %q for the policy %q, expected one that `zridge conflicts ways` lists",
			c.String("way"),
			c.String("policy"),
		)
	}
	reason := strings.TrimSpace(c.String("reason"))
	if reason == "" {
		return usage("settle: found an empty --reason, expected the reason as text")
	}
	if change.Why == "" {
		if _, err := api.Call(
			ctx,
			http.MethodPut,
			client.Path("changes", change.ID),
			nil,
			wire.NewChange{Title: change.Title, Why: reason},
			nil,
		); err != nil {
			return err
		}
	}
	for _, e := range ways[at].Edits {
		body := []byte(e.Body)
		if e.Kind == "rulings" {
			var ruling map[string]any
			if err := json.Unmarshal(body, &ruling); err != nil {
				return err
			}
			ruling["reason"] = reason
			if body, err = json.Marshal(ruling); err != nil {
				return err
			}
		}
		if err := putEdit(ctx, api, s.Out, change, http.MethodPut, e.Kind, e.ID, "", body); err != nil {
			return err
		}
	}
	return showImpact(ctx, api, s.Out, change.ID, "text")
}
