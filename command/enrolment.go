// This file implements `zridge enrolment`: invitations, laptops that wait, certificates.

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

func enrolmentCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "enrolment", Usage: "how laptops come in: invite, list, withdraw, waiting, approve, refuse, certificates, revoke, authority",
		Commands: []*cli.Command{
			inviteCommand(s),
			listing(s, "list", "invitations, the newest first", "/invitations",
				[]string{"invitation", "for", "codes left", "waiting", "enrolled", "by", "expires", ""},
				func(i wire.Invitation) []string {
					state := ""
					switch {
					case i.WithdrawnAt != nil:
						state = "withdrawn"
					case i.Ended:
						state = "ended"
					}
					return []string{
						i.ID, invitedText(i), fmt.Sprint(i.Unused), fmt.Sprint(i.Waiting), fmt.Sprint(i.Enrolled), i.By, moment(i.ExpiresAt), state,
					}
				},
			),
			{
				Name: "withdraw", Usage: "end an invitation: its codes are void", ArgsUsage: "INVITATION",
				Action: asked(s, 1, "INVITATION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					if _, err := api.Call(ctx, http.MethodDelete, client.Path("invitations", c.Args().First()), nil, nil, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Invitation %s withdrawn.\n", c.Args().First())
					return nil
				}),
			},
			listing(s, "waiting", "laptops that wait for somebody to approve their enrolment", "/waiting-laptops",
				[]string{"id", "device", "", "serial", "model", "invitation", "since"},
				func(w wire.WaitingLaptop) []string {
					fresh := ""
					if w.New {
						fresh = "new"
					}
					return []string{w.ID, w.Device, fresh, w.Serial, w.Model, w.Invitation, moment(w.At)}
				},
			),
			decideCommand(s, "approve", "let a laptop in that waits; ID is the one that `zridge enrolment waiting` gives", true),
			decideCommand(s, "refuse", "refuse a laptop that waits", false),
			{
				Name: "certificates", Usage: "the certificates of a laptop, the newest first", ArgsUsage: "DEVICE",
				Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					list, err := client.Get[[]wire.LaptopCertificate](ctx, api, client.Path("devices", id, "certificates"), nil)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printCertificates(s.Out, list) })
				}),
			},
			{
				Name: "revoke", Usage: "make all certificates of a laptop void: it is lost, or retired", ArgsUsage: "DEVICE",
				Description: "The laptop is out at its next message. It needs an invitation to come back.\n\n" +
					"Example:\n  zridge enrolment revoke LT-0042 --reason \"Left on the ferry\"",
				Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Required: true, Usage: "the `REASON`, which is recorded"}},
				Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					id, err := deviceID(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					is, err := client.Post[wire.Revoked](ctx, api, client.Path("devices", id, "revocation"), wire.Revocation{Reason: c.String("reason")})
					if err == nil {
						fmt.Fprintf(s.Out, "%s of %s revoked.\n", counted(is.Revoked, "certificate"), id)
					}
					return err
				}),
			},
			authorityCommand(s),
		},
	}
}

func authorityCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "authority", Usage: "the authority that issues certificates to laptops, as PEM", ArgsUsage: " ",
		Flags: []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			a, err := client.Get[wire.Authority](ctx, api, "/authority", nil)
			if err != nil {
				return err
			}
			return printed(s, c, a, func() {
				if !a.On {
					fmt.Fprintln(s.Out, "The service has no TLS: laptops enrol with secrets.")
					return
				}
				fmt.Fprintf(s.Out, "# %s, until %s\n# SHA-256 %s\n%s", a.Subject, moment(a.NotAfter), a.Fingerprint, a.PEM)
			})
		}),
	}
}

func inviteCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "invite", Usage: "make codes with which laptops enrol by certificate; they are shown once", ArgsUsage: " ",
		Description: "An invitation is for one laptop, for laptops of a person, or for laptops of a unit. Each code lets one laptop " +
			"in, once.\n\n" +
			"Examples:\n  zridge enrolment invite --device LT-0042\n" +
			"  zridge enrolment invite --unit slipway --laptops 20 --new --approval --days 14",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "device", Usage: "for this `DEVICE`"},
			&cli.StringFlag{Name: "person", Usage: "for laptops of this `PERSON`"},
			&cli.StringFlag{Name: "unit", Usage: "for laptops of this `UNIT` and those below"},
			&cli.IntFlag{Name: "laptops", Value: 1, Usage: "`NUMBER` of laptops"},
			&cli.BoolFlag{Name: "new", Usage: "add laptops that the estate does not have, from their serial number and model"},
			&cli.BoolFlag{Name: "approval", Usage: "somebody has to approve each laptop"},
			&cli.BoolFlag{Name: "mail", Usage: "send what to do, with the codes, to the person or to the owner of the device, by e-mail"},
			&cli.IntFlag{Name: "days", Value: 7, Usage: "`DAYS` until it expires: 1 to 90"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			in := wire.NewInvitation{
				Device: c.String("device"), Person: c.String("person"), Unit: c.String("unit"), Laptops: c.Int("laptops"), Makes: c.Bool("new"),
				Approval: c.Bool("approval"), Days: c.Int("days"), Mail: c.Bool("mail"),
			}
			made, err := client.Post[wire.Invitation](ctx, api, "/invitations", in)
			if err != nil {
				return err
			}
			return printed(s, c, made, func() {
				fmt.Fprintf(s.Err, "Invitation %s, %s, until %s. The codes are shown this once:\n", made.ID, invitedText(made), moment(made.ExpiresAt))
				fmt.Fprintln(s.Out, strings.Join(made.Codes, "\n"))
				switch {
				case made.MailedTo != "":
					fmt.Fprintf(s.Err, "What to do was sent to %s.\n", made.MailedTo)
				case made.NotMailed != "":
					fmt.Fprintln(s.Err, made.NotMailed)
				}
			})
		}),
	}
}

// invitedText says for whom an invitation is.
func invitedText(i wire.Invitation) string {
	var text string
	switch {
	case i.Device != "":
		text = i.Device
	case i.Person != "":
		text = "laptops of " + i.Person
	default:
		text = "laptops of the unit " + i.Unit
	}
	if i.Makes {
		text += ", new ones too"
	}
	if i.Approval {
		text += ", to be approved"
	}
	return text
}

func decideCommand(s Streams, name, what string, approve bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: what, ArgsUsage: "ID",
		Action: asked(s, 1, "ID", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			path := client.Path("waiting-laptops", c.Args().First(), "decision")
			if _, err := api.Call(ctx, http.MethodPost, path, nil, wire.EnrolmentDecision{Approve: approve}, nil); err != nil {
				return err
			}
			if approve {
				fmt.Fprintln(s.Out, "Approved. The laptop gets its certificate when it asks again.")
			} else {
				fmt.Fprintln(s.Out, "Refused.")
			}
			return nil
		}),
	}
}

func printCertificates(w io.Writer, list []wire.LaptopCertificate) {
	rows := make([][]string, len(list))
	for i, c := range list {
		note := c.Reason
		if c.RevokedBy != "" {
			note += ", by " + c.RevokedBy
		}
		used := "never"
		if c.UsedAt != nil {
			used = moment(*c.UsedAt)
		}
		rows[i] = []string{c.Serial, c.State, moment(c.IssuedAt), moment(c.NotAfter), used, note}
	}
	printTable(w, []string{"serial number", "state", "issued", "until", "first used", ""}, rows)
}
