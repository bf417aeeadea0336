// This file implements `zridge announcement`: what one wants to be told, and how.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func announcementCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "announcement", Usage: "what you want to be told by e-mail or by a webhook, and what you were told",
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "your choices, and what you were told last", ArgsUsage: " ", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					own, err := client.Get[wire.Announcements](ctx, api, "/announcements", nil)
					if err != nil {
						return err
					}
					return printed(s, c, own, func() { printAnnouncements(s, own) })
				}),
			},
			{
				Name: "choose", Usage: "choose what you want to be told; what is not named stays as it is", ArgsUsage: " ",
				Description: "Topics are those that `zridge announcement show` lists. The service sends to hosts that its " +
					"administrator named, and signs\n" +
					"what it sends.\n\nExamples:\n  zridge announcement choose --mail review-wanted --mail rollout-stopped\n" +
					"  zridge announcement choose --webhook rollout-stopped --to https://hooks.larkfell.example/zridge\n" +
					"  zridge announcement choose --mail none",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "mail", Usage: "`TOPIC` by e-mail; none: no topic"},
					&cli.StringSliceFlag{Name: "webhook", Usage: "`TOPIC` by webhook; none: no topic"},
					&cli.StringFlag{Name: "to", Usage: "`ADDRESS` of your webhook; empty: none"},
				},
				Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					own, err := client.Get[wire.Announcements](ctx, api, "/announcements", nil)
					if err != nil {
						return err
					}
					choices := own.AnnouncementChoices
					for _, f := range []struct {
						name string
						list *[]string
					}{{"mail", &choices.Mail}, {"webhook", &choices.Webhook}} {
						if !c.IsSet(f.name) {
							continue
						}
						if *f.list, err = topicsNamed(f.name, c.StringSlice(f.name), own.Topics); err != nil {
							return err
						}
					}
					if c.IsSet("to") {
						choices.Hook = c.String("to")
					}
					if _, err := api.Call(ctx, http.MethodPut, "/announcements", nil, choices, &own); err != nil {
						return err
					}
					printAnnouncements(s, own)
					return nil
				}),
			},
		},
	}
}

// topicsNamed gives the topics of a flag; the word none stands for no topic.
func topicsNamed(flag string, words, topics []string) ([]string, error) {
	if slices.Equal(words, []string{"none"}) {
		return []string{}, nil
	}
	for _, w := range words {
		if !slices.Contains(topics, w) {
			return nil, usage("announcement choose: --%s: found %q, expected none, or some of %s", flag, w, orNone(topics))
		}
	}
	return words, nil
}

func printAnnouncements(s Streams, own wire.Announcements) {
	mail := "to " + own.Address
	switch {
	case !own.SendsMail:
		mail = "the service sends none"
	case own.Address == "":
		mail = "the estate has no address of yours"
	}
	fmt.Fprintf(s.Out, "by e-mail   %s (%s)\n", orNone(own.Mail), mail)
	fmt.Fprintf(s.Out, "by webhook  %s (%s)\n", orNone(own.Webhook), orDefault(own.Hook, "no address"))
	fmt.Fprintf(s.Out, "topics      %s\n", orNone(own.Topics))
	if own.PublicKey != "" {
		fmt.Fprintf(s.Out, "signed by   %s (Ed25519)\n", own.PublicKey)
	}
	if len(own.Sent) == 0 {
		return
	}
	rows := make([][]string, len(own.Sent))
	for i, a := range own.Sent {
		rows[i] = []string{moment(a.At), a.Topic, a.Channel, a.State, a.Title, a.Fault}
	}
	printTable(s.Out, []string{"at", "topic", "by", "state", "about", "fault"}, rows)
}
