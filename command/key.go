// This file implements `zridge key`: recovery keys, and how far laptops are covered.

package command

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/wire"
)

func keyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "recovery keys: find, show, history, rotate, requests, consent, refuse, coverage, findings, recipient",
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
		Description: "SERIAL is the number on the label; similar ones are listed, too. A question mark stands for a character that nobody can read.\n\n" +
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
		rows[i] = []string{markedSerial(f.Serial, f.Differs), f.Device, f.Model, peopleOf(&f), f.Unit.Title, stateOfVolumes(f.Volumes), since(f.KeySince), usedText(f.KeyUsedAt)}
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
		Name: "history", Usage: "the keys of a laptop with the time in which each was valid, and who asked for them; no key is shown", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			h, err := client.Get[wire.KeyHistory](ctx, api, client.Path("devices", id, "recovery-keys"), nil)
			if err != nil {
				return err
			}
			return printed(s, c, h, func() { printHistory(s.Out, &h) })
		}),
	}
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
		Name: "rotate", Usage: "ask a laptop to put another key in the place of the one in force, at its next check-in", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do it; without it, only what would happen is said"},
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			h, err := client.Get[wire.KeyHistory](ctx, api, client.Path("devices", id, "recovery-keys"), nil)
			if err != nil {
				return err
			}
			n := 0
			for _, k := range h.Keys {
				if k.State == string(recovery.Current) {
					n++
				}
			}
			if !c.Bool("yes") {
				fmt.Fprintf(s.Out, "%s of %s would be replaced at its next check-in. What is in force works until the new key is stored. Do it with --yes\n", counted(n, "key"), id)
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
		Name: "refuse", Usage: "refuse a request to see a key, as the second person; consent is given in the console, where you sign in", ArgsUsage: "REQUEST",
		Action: asked(s, 1, "REQUEST", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			r, err := client.Post[wire.KeyRequest](ctx, api, client.Path("key-requests", c.Args().First(), "decision"), wire.KeyDecision{})
			if err == nil {
				fmt.Fprintf(s.Out, "Refused. %s is not shown the key of %s.\n", r.By, r.Device)
			}
			return err
		}),
	}
}

func keyCoverageCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "coverage", Usage: "how far laptops are encrypted with a key that can be found again, by unit; with --group its laptops", ArgsUsage: " ",
		Description: "Examples:\n  zridge key coverage\n  zridge key coverage --group not-encrypted --unit labs\n  zridge key coverage --report html --output coverage.html",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "this `UNIT` with what is below it"},
			&cli.StringFlag{Name: "group", Usage: "list the laptops of a `GROUP`: " + groupNames(), Validator: func(text string) error {
				if !slices.Contains(recovery.Groups, recovery.Group(text)) {
					return fmt.Errorf("Found %s: expected one of %s", problem.Quote(text), groupNames()) //nolint:staticcheck // a sentence for people
				}
				return nil
			}},
			&cli.StringFlag{Name: "report", Usage: "as a page for auditors, in a `FORMAT`: markdown, html, csv", Validator: func(text string) error {
				if !slices.Contains([]string{"markdown", "html", "csv"}, text) {
					return fmt.Errorf("Found %s: expected one of markdown, html, csv", problem.Quote(text))
				}
				return nil
			}},
			&cli.StringFlag{Name: "output", Usage: "`FILE` for the page; without it, it is printed", TakesFile: true},
			formatFlag("text", "json"),
		},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			q := url.Values{}
			if unit := c.String("unit"); unit != "" {
				q.Set("unit", unit)
			}
			switch {
			case c.String("report") != "":
				return coverageReport(ctx, s, c, api, q)
			case c.String("group") != "":
				return coverageGroup(ctx, s, c, api, q)
			}
			units, err := client.Get[[]wire.UnitCoverage](ctx, api, "/coverage", nil)
			if err != nil {
				return err
			}
			if unit := c.String("unit"); unit != "" {
				if units = below(units, unit); len(units) == 0 {
					return usage("There is no unit %s with laptops that you see. List them with: zridge unit list", problem.Quote(unit))
				}
			}
			return printed(s, c, units, func() { printCoverage(s.Out, units) })
		}),
	}
}

func groupNames() string {
	texts := make([]string, len(recovery.Groups))
	for i, g := range recovery.Groups {
		texts[i] = string(g)
	}
	return strings.Join(texts, ", ")
}

// below gives a unit with those below it, which follow it.
func below(units []wire.UnitCoverage, unit string) []wire.UnitCoverage {
	at := slices.IndexFunc(units, func(u wire.UnitCoverage) bool { return u.Unit == unit })
	if at < 0 {
		return nil
	}
	end := at + 1
	for end < len(units) && units[end].Depth > units[at].Depth {
		end++
	}
	return units[at:end]
}

func printCoverage(w io.Writer, units []wire.UnitCoverage) {
	rows := make([][]string, len(units))
	for i, u := range units {
		c := u.Counts
		numbers := []int{c.All, c.Demanded, c.Encrypted, c.Escrowed, c.NotEscrowed, c.NotEncrypted, c.Cannot, c.NeverReported, c.NotRenewed, c.TooOld, c.NotResealed}
		rows[i] = []string{strings.Repeat("  ", u.Depth) + u.Title}
		for _, n := range numbers {
			rows[i] = append(rows[i], fmt.Sprint(n))
		}
	}
	printTable(w, []string{
		"unit", "laptops", "demanded", "encrypted", "covered", "no key stored", "not encrypted", "cannot", "never reported", "shown", "too old", "other seal",
	}, rows)
}

func coverageGroup(ctx context.Context, s Streams, c *cli.Command, api *client.Client, q url.Values) error {
	q.Set("group", c.String("group"))
	list, err := client.All[wire.CoveredLaptop](ctx, api, "/coverage/laptops", q)
	if err != nil {
		return err
	}
	return printed(s, c, list, func() {
		rows := make([][]string, len(list))
		for i, l := range list {
			owner, why := "shared", []string{}
			if l.Owner != nil {
				owner = titleOr(*l.Owner)
			}
			for _, v := range l.Volumes {
				if text := strings.TrimSpace(v.Reason + " " + v.Weak); text != "" {
					why = append(why, text)
				}
			}
			rows[i] = []string{l.Device, l.Model, owner, l.Unit.Title, stateOfVolumes(l.Volumes), since(l.KeySince), strings.Join(append(why, usedText(l.UsedAt)), " ")}
		}
		printTable(s.Out, []string{"laptop", "model", "owner", "unit", "disk", "key since", ""}, rows)
		fmt.Fprintln(s.Out, counted(len(list), "laptop"))
	})
}

func coverageReport(ctx context.Context, s Streams, c *cli.Command, api *client.Client, q url.Values) error {
	q.Set("format", c.String("report"))
	var page []byte
	if _, err := api.Call(ctx, http.MethodGet, "/coverage/report", q, nil, &page); err != nil {
		return err
	}
	if file := c.String("output"); file != "" {
		return os.WriteFile(file, page, 0o644)
	}
	_, err := s.Out.Write(page)
	return err
}

// findingWords says of each code what was found.
var findingWords = map[string]string{
	"no-recipient":        "have to be encrypted, but no escrow recipient is named: they wait for ever",
	"no-escrow":           "have to be encrypted, but their keys are kept nowhere",
	"unknown-recipient":   "seal their keys to a recipient that nobody registered",
	"destroyed-recipient": "are to seal their keys to a recipient that is destroyed",
	"recipient-due":       "seal their keys to a recipient that is to be replaced",
	"owner-left":          "are encrypted, and their owner is not there any more",
	"not-renewed":         "had a key shown more than a day ago that still opens them",
	"weak-volume":         "have a volume that is weaker than it should be",
}

func keyFindingsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "findings", Usage: "what has to be looked at about recovery keys; exit status 3 says that there is something", ArgsUsage: " ",
		Flags: []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			list, err := client.Get[[]wire.RecoveryFinding](ctx, api, "/coverage/findings", nil)
			if err != nil {
				return err
			}
			if err := printed(s, c, list, func() {
				for _, f := range list {
					what := strings.Join(slices.DeleteFunc([]string{f.What, f.Day}, func(t string) bool { return t == "" }), ", until ")
					if what != "" {
						what = " (" + what + ")"
					}
					fmt.Fprintf(s.Out, "%s %s%s: %s\n", counted(f.Laptops, "laptop"), findingWords[f.Code], what, strings.Join(firstOf(f.Devices, 8, f.Laptops), ", "))
				}
				if len(list) == 0 {
					fmt.Fprintln(s.Out, "Nothing has to be looked at.")
				}
			}); err != nil {
				return err
			}
			if len(list) > 0 {
				return &exitError{exitFindings, ""}
			}
			return nil
		}),
	}
}

// firstOf gives the first of a list, and says how many more there are of all.
func firstOf(list []string, most, all int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("%d more", all-most))
}

func recipientCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "recipient", Usage: "to whom keys are sealed: list, add, replace-by, destroy",
		Commands: []*cli.Command{
			listing(s, "list", "escrow recipients with how far keys are sealed to them", "/escrow-recipients",
				[]string{"recipient", "title", "private half", "named by", "keys", "to it alone", "earlier", "replace by", ""},
				func(r wire.EscrowRecipient) []string {
					state := r.Blocks
					if r.Blocks == "" && r.DestroyedAt == nil {
						state = "It can be destroyed."
					}
					holder := map[string]string{"service": "the service", "company": "the company, offline"}[r.Holder]
					if r.Holder == "service" && !r.Usable && r.DestroyedAt == nil {
						holder = "the service, but it is not there"
					}
					if r.Title == "" {
						r.Title = "(not registered)"
					}
					return []string{
						r.Recipient, r.Title, holder, counted(r.Named, "laptop"), fmt.Sprint(r.Keys), fmt.Sprint(r.Alone), fmt.Sprint(r.Earlier), r.ReplaceOn, state,
					}
				},
			),
			{
				Name: "add", Usage: "register the public half of a company's identity, or make an identity of the service", ArgsUsage: "TITLE",
				Description: "A policy names the recipient afterwards, in disk.recovery.escrow_recipients: until then no key is sealed to it.\n\n" +
					"Examples:\n  zridge key recipient add \"Service 2027\"\n  zridge key recipient add \"Safe in Hull\" --public age1… --replace-by 2028-01-31",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "public", Usage: "the `RECIPIENT` whose private half the company keeps: a text that begins with age1"},
					&cli.StringFlag{Name: "replace-by", Usage: "the `DAY` by which another is to take its place"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "TITLE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					in := wire.NewRecipient{Title: c.Args().First(), Recipient: c.String("public"), ReplaceOn: c.String("replace-by")}
					r, err := client.Post[wire.EscrowRecipient](ctx, api, "/escrow-recipients", in)
					if err != nil {
						return err
					}
					return printed(s, c, r, func() {
						fmt.Fprintln(s.Out, r.Recipient)
						fmt.Fprintln(s.Err, "Name it in a policy, in disk.recovery.escrow_recipients, and laptops seal their keys to it.")
					})
				}),
			},
			{
				Name: "replace-by", Usage: "say by which day another takes its place; without DAY, by none", ArgsUsage: "RECIPIENT [DAY]",
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.NArg() < 1 || c.NArg() > 2 {
						return wrongArguments(c, "RECIPIENT [DAY]")
					}
					api, err := signedIn()
					if err != nil {
						return err
					}
					in := wire.RecipientReplacement{ReplaceOn: c.Args().Get(1)}
					_, err = api.Call(ctx, http.MethodPut, client.Path("escrow-recipients", c.Args().First()), nil, in, nil)
					return err
				},
			},
			recipientDestroyCommand(s),
		},
	}
}

func recipientDestroyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "destroy", Usage: "destroy the private half of a recipient that nothing needs any more", ArgsUsage: "RECIPIENT",
		Description: "It is refused as long as a policy names it, or a key in force is sealed to it. Of a company's identity, it is only noted.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do it; without it, only what would be lost is said"}},
		Action: asked(s, 1, "RECIPIENT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			list, err := client.Get[[]wire.EscrowRecipient](ctx, api, "/escrow-recipients", nil)
			if err != nil {
				return err
			}
			at := slices.IndexFunc(list, func(r wire.EscrowRecipient) bool { return r.Recipient == c.Args().First() })
			if at < 0 {
				return usage("There is no escrow recipient %s. List them with: zridge key recipient list", problem.Quote(c.Args().First()))
			}
			if r := list[at]; r.Blocks != "" {
				return &exitError{exitFault, "It cannot be destroyed. " + r.Blocks}
			}
			if !c.Bool("yes") {
				fmt.Fprintf(s.Out, "%s that were replaced are sealed to it; those that are sealed to nobody else could never be opened again. Do it with --yes\n",
					counted(list[at].Earlier, "key"))
				return nil
			}
			if _, err := api.Call(ctx, http.MethodDelete, client.Path("escrow-recipients", c.Args().First()), nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(s.Out, "Destroyed.")
			return nil
		}),
	}
}
