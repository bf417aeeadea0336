// This file implements `zridge key`: finding a laptop, the history of its keys, asking for new ones.

package command

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/wire"
)

func keyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "recovery keys: find, show, history, rotate, requests, refuse, coverage, findings, recipient",
		Commands: []*cli.Command{
			keyFindCommand(s),
			keyShowCommand(s),
			keyHistoryCommand(s),
			keyRotateCommand(s),
			listing(s, "requests", "requests to see a key that wait for you as the second person", "/key-requests",
				[]string{"request", "laptop", "for", "asked by", "at", "until", "reason"},
				func(r wire.KeyRequest) []string {
					return []string{r.ID, r.Device, r.Person, r.By, moment(r.At), moment(r.ExpiresAt), r.Reason}
				},
			),
			keyRefuseCommand(s),
			keyCoverageCommand(s),
			keyFindingsCommand(s),
			recipientCommand(s),
		},
	}
}

func keyFindCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "find", Usage: "find the laptop that somebody calls about; no key is shown", ArgsUsage: "[SERIAL]",
		Description: "SERIAL is the number on the label; similar ones are listed, too. A question mark stands for a character that " +
			"nobody can read.\n\n" +
			"Examples:\n  zridge key find ZX4-8?91\n  zridge key find --owner okafor\n  zridge key find --identifier \"4821 0937 5512\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "owner", Usage: "a part of the `NAME` of who owns or uses it"},
			&cli.StringFlag{Name: "identifier", Usage: "the 12 `DIGITS` that the locked screen shows; at most two may be question marks"},
			&cli.StringFlag{Name: "device", Usage: "the `ID` of the laptop"},
			formatFlag("text", "json"),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			q := url.Values{}
			for _, name := range []string{"owner", "identifier", "device"} {
				if v := c.String(name); v != "" {
					q.Set(name, v)
				}
			}
			if c.NArg() > 1 || c.NArg()+len(q) == 0 {
				return usage("%s takes a serial number, or one of --owner, --identifier and --device.", c.FullName())
			}
			if c.NArg() == 1 {
				q.Set("serial", c.Args().First())
			}
			api, err := signedIn()
			if err != nil {
				return err
			}
			found, err := client.Get[[]wire.FoundLaptop](ctx, api, "/recovery-laptops", q)
			if err != nil {
				return err
			}
			return printed(s, c, found, func() { printFound(s.Out, found) })
		},
	}
}

func printFound(w io.Writer, found []wire.FoundLaptop) {
	if len(found) == 0 {
		fmt.Fprintln(w, "No laptop of your units is like it. Read the number again, or search by owner.")
		return
	}
	rows := make([][]string, len(found))
	for i, f := range found {
		rows[i] = []string{markedSerial(f.Serial, f.Differs), f.Device, f.Model, peopleOf(&f), unitOf(&f), stateOfVolumes(f.Volumes),
			since(f.KeySince), usedText(f.KeyUsedAt)}
	}
	printTable(w, []string{"serial", "laptop", "model", "owner, others who use it", "unit", "disk", "key since", ""}, rows)
	if slices.ContainsFunc(found, func(f wire.FoundLaptop) bool { return len(f.Differs) > 0 }) {
		fmt.Fprintln(w, "In brackets: what is otherwise than what you asked for. Compare it with the label.")
	}
}

// markedSerial puts what is otherwise in brackets.
func markedSerial(serial string, differs []int) string {
	var b strings.Builder
	for i := 0; i < len(serial); i++ {
		if slices.Contains(differs, i) {
			b.WriteString("[" + serial[i:i+1] + "]")
		} else {
			b.WriteByte(serial[i])
		}
	}
	return strings.ReplaceAll(b.String(), "][", "")
}

// unitOf names the unit of a laptop; one that was retired is in none.
func unitOf(f *wire.FoundLaptop) string {
	if f.Retired {
		return "retired"
	}
	return f.Unit.Title
}

func peopleOf(f *wire.FoundLaptop) string {
	var names []string
	if f.Owner != nil {
		names = append(names, titleOr(*f.Owner))
	}
	for _, u := range f.Users {
		names = append(names, titleOr(u))
	}
	if len(names) == 0 {
		return "nobody: shared"
	}
	return strings.Join(names, ", ")
}

func titleOr(n wire.Named) string {
	if n.Title != "" {
		return n.Title + " (" + n.ID + ")"
	}
	return n.ID
}

func stateOfVolumes(list []wire.Volume) string {
	if len(list) == 0 {
		return "not reported"
	}
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = v.State
		if len(list) > 1 {
			texts[i] = v.Name + ": " + v.State
		}
	}
	return strings.Join(texts, ", ")
}

func since(t *time.Time) string {
	if t == nil {
		return "no key"
	}
	return moment(*t)
}

func usedText(t *time.Time) string {
	if t == nil {
		return ""
	}
	return "shown " + moment(*t) + ", not replaced yet"
}

func keyHistoryCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "the keys of a laptop with the time in which each was valid, and who asked for them; no key is shown",
		ArgsUsage: "DEVICE",
		Flags:     []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			h, err := historyOf(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			return printed(s, c, h, func() { printHistory(s.Out, &h) })
		}),
	}
}

// historyOf gives the keys of a laptop that is named by its id or its serial number.
func historyOf(ctx context.Context, api *client.Client, named string) (h wire.KeyHistory, err error) {
	id, err := deviceID(ctx, api, named)
	if err != nil {
		return h, err
	}
	return client.Get[wire.KeyHistory](ctx, api, client.Path("devices", id, "recovery-keys"), nil)
}

func printHistory(w io.Writer, h *wire.KeyHistory) {
	if h.ReportedAt == nil {
		fmt.Fprintf(w, "%s has not reported its volumes.\n", h.Device)
	}
	volumes := make([][]string, len(h.Volumes))
	for i, v := range h.Volumes {
		volumes[i] = []string{v.Name, v.State, v.Method, strings.Join(v.Startup, ", "), strings.TrimSpace(v.Reason + " " + v.Weak)}
	}
	if len(volumes) > 0 {
		printTable(w, []string{"volume", "state", "method", "opens also with", ""}, volumes)
	}
	if len(h.Keys) == 0 {
		fmt.Fprintln(w, "\nNo recovery key of it is stored.")
		return
	}
	keys := make([][]string, len(h.Keys))
	for i, k := range h.Keys {
		identifier := recovery.Identifier(k.Identifier).Spaced()
		if identifier == "" {
			identifier = "read it at the laptop"
		}
		until, note := "", ""
		if k.Until != nil {
			until = moment(*k.Until)
		}
		if k.UsedAt != nil {
			note = "shown to " + k.UsedBy + " " + moment(*k.UsedAt)
		}
		if k.RenewalAt != nil {
			note += "; another one is asked for"
		}
		keys[i] = []string{identifier, k.Name, k.State, since(k.Since), until, strings.TrimPrefix(note, "; ")}
	}
	fmt.Fprintln(w)
	printTable(w, []string{"key", "volume", "state", "since", "until", ""}, keys)
	if len(h.Requests) == 0 {
		return
	}
	requests := make([][]string, len(h.Requests))
	for i, r := range h.Requests {
		requests[i] = []string{moment(r.At), r.By, r.Person, r.State, r.ConsentBy, r.Reason}
	}
	fmt.Fprintln(w)
	printTable(w, []string{"asked at", "by", "for", "state", "second person", "reason"}, requests)
}

func keyRotateCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "rotate", Usage: "ask a laptop to put another key in the place of the one in force, at its " +
			"next check-in", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do it; without it, only what would happen is said"},
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			h, err := historyOf(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			id, n := h.Device, 0
			for _, k := range h.Keys {
				if k.State == string(recovery.Current) {
					n++
				}
			}
			if !c.Bool("yes") {
				fmt.Fprintf(s.Out, "%s of %s would be replaced at its next check-in. What is in force works until the new key is "+
					"stored. Do it with --yes\n", counted(n, "key"), id)
				return nil
			}
			is, err := client.Post[wire.RenewalsAsked](ctx, api, client.Path("devices", id, "recovery-keys", "renewal"), wire.KeyRenewal{})
			if err == nil {
				fmt.Fprintf(s.Out, "%s is asked to replace %s.\n", id, counted(is.Keys, "key"))
			}
			return err
		}),
	}
}

func keyRefuseCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "refuse", Usage: "refuse a request to see a key, as the second person; consent is given in the console, where " +
			"you sign in", ArgsUsage: "REQUEST",
		Action: asked(s, 1, "REQUEST", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			r, err := client.Post[wire.KeyRequest](ctx, api, client.Path("key-requests", c.Args().First(), "decision"), wire.KeyDecision{})
			if err == nil {
				fmt.Fprintf(s.Out, "Refused. %s is not shown the key of %s.\n", r.By, r.Device)
			}
			return err
		}),
	}
}
