// Command zridge-agent runs on a laptop: it enrols it, puts the company's settings into force, and shows the
// laptop's person what is managed.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/agent"
	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/endpoint"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command(os.Stdout, os.Stderr).Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "zridge-agent:", err)
		os.Exit(1)
	}
}

func command(out, log io.Writer) *cli.Command {
	of := func(c *cli.Command) *agent.Agent {
		folder := agent.Folder(c.String("state"))
		host := &adapter.Host{Root: c.String("root"), Keep: folder.Kept(), Files: folder.Files(), Identity: string(folder)}
		if host.Root == "" { // programs act on the machine itself
			host.Command = adapter.Run
		}
		a := &agent.Agent{Folder: folder, Host: host, Log: slog.New(slog.NewTextHandler(log, nil)), Interval: c.Duration("interval")}
		if _, err := exec.LookPath("cryptsetup"); err == nil {
			a.Encryption = &agent.Encryption{Folder: folder, Tool: &volume.Tool{Chip: c.String("chip")}, Log: a.Log}
			if host.Root == "" {
				a.Encryption.Discovers = agent.SystemVolumes
			}
		}
		return a
	}
	return &cli.Command{
		Name: "zridge-agent", Usage: "the company's settings on this laptop", HideVersion: true,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "state", Value: "/var/lib/zridge-agent", Usage: "`FOLDER` in which the agent keeps what it knows",
				TakesFile: true},
			&cli.StringFlag{Name: "chip", Usage: "the security `CHIP` as systemd-cryptenroll names it; without it the machine's own"},
			&cli.StringFlag{Name: "root", Usage: "work on the system below this `FOLDER`, and run none of its programs; volumes are " +
				"those that you name", TakesFile: true},
		},
		Commands: []*cli.Command{
			enrolCommand(out, of),
			{
				Name: "run", Usage: "check in again and again, and when the service says so",
				Flags: []cli.Flag{&cli.DurationFlag{
					Name: "interval", Value: 30 * time.Minute, Usage: "`TIME` between two check-ins: 1s to 24h",
					Validator: func(d time.Duration) error {
						if d < time.Second || d > 24*time.Hour {
							return fmt.Errorf("found %s, expected 1s to 24h", d)
						}
						return nil
					},
				}, &cli.StringFlag{Name: "page", Value: "127.0.0.1:8461",
					Usage: "`ADDRESS` of this laptop at which people see what is managed; empty: nowhere"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					a := of(c)
					a.Page = c.String("page")
					return a.Run(ctx)
				},
			},
			{
				Name: "check-in", Usage: "check in once, now",
				Action: func(ctx context.Context, c *cli.Command) error {
					is, err := of(c).CheckIn(ctx, false)
					if err == nil {
						fmt.Fprintf(out, "Checked in: %s\n", is)
					}
					return err
				},
			},
			{
				Name: "show", Usage: "what is managed on this laptop, and what is in force",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "as JSON"}},
				Action: func(_ context.Context, c *cli.Command) error {
					r, err := of(c).Report()
					if err != nil {
						return err
					}
					if c.Bool("json") {
						e := json.NewEncoder(out)
						e.SetIndent("", "  ")
						return e.Encode(r)
					}
					show(out, r)
					return nil
				},
			},
			encryptCommand(out, of),
			adoptCommand(out, of),
			pinCommand(out, of),
			choiceCommand(out, of, "take", "take a policy that is offered on this laptop", true),
			choiceCommand(out, of, "leave", "leave a policy that you took", false),
			{
				Name: "remove", Usage: "withdraw all settings and forget the service: the laptop is as it was before",
				Action: func(_ context.Context, c *cli.Command) error {
					err := of(c).Leave()
					if err == nil {
						fmt.Fprintln(out, "All settings are withdrawn.")
					}
					return err
				},
			},
		},
	}
}

func enrolCommand(out io.Writer, of func(*cli.Command) *agent.Agent) *cli.Command {
	return &cli.Command{
		Name: "enrol", Usage: "get a certificate with an invitation code", ArgsUsage: "ADDRESS",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "code", Required: true, Usage: "the invitation `CODE`"},
			&cli.StringFlag{Name: "device", Usage: "the laptop's `ID`; without it the service knows it by its serial number"},
			&cli.StringFlag{Name: "ca", Usage: "`FILE` with the certificate that the service's certificate is " +
				"signed by, in PEM", TakesFile: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return errors.New("enrol: expected the address of the service, such as https://ridge.larkfell.example")
			}
			id := agent.Identity{Base: c.Args().First(), Code: c.String("code"), Device: c.String("device")}
			if file := c.String("ca"); file != "" {
				data, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				id.Roots = string(data)
			}
			device, err := of(c).Enrol(ctx, id)
			var waits *endpoint.WaitError
			if errors.As(err, &waits) {
				return fmt.Errorf("somebody has to approve this laptop first; run the same command again after %s", waits.After)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(out, "Enrolled as %s.\n", device)
			if c.String("root") != "" {
				return nil
			}
			if _, err := adapter.Run("systemctl", "start", "zridge-agent.service"); !errors.Is(err, exec.ErrNotFound) {
				return err
			}
			return nil
		},
	}
}

func choiceCommand(out io.Writer, of func(*cli.Command) *agent.Agent, name, usage string, take bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "POLICY",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return errors.New(name + ": expected a policy, as `zridge-agent show` names it")
			}
			a := of(c)
			if err := a.Choose(c.Args().First(), take); err != nil {
				return err
			}
			is, err := a.CheckIn(ctx, false)
			if err != nil {
				return fmt.Errorf("noted; the service hears of it at the next check-in: %w", err)
			}
			fmt.Fprintf(out, "Done: %s\n", is)
			return nil
		},
	}
}

// show prints in plain words what is managed.
func show(w io.Writer, r agent.Report) {
	fmt.Fprintf(w, "This laptop is %s. Its settings come from %s.\n", r.Device, r.Service)
	if r.Last.IsZero() {
		fmt.Fprintln(w, "It has not checked in yet.")
	} else {
		fmt.Fprintf(w, "It last checked in at %s.\n", r.Last.Local().Format("2006-01-02 15:04"))
	}
	if len(r.Settings) == 0 {
		fmt.Fprintln(w, "Nothing is managed.")
	}
	for _, s := range r.Settings {
		state := "in force"
		switch {
		case s.InForce:
		case s.Observed.IsNothing():
			state = "NOT in force"
		default:
			state = "the laptop has " + s.Observed.String()
		}
		fmt.Fprintf(w, "  %-34s %s  (%s)\n", s.ID, s.Wanted, state)
		for _, policy := range s.Why.Policies {
			because := policy.Title
			if policy.Reason != "" {
				because += ": " + policy.Reason
			}
			fmt.Fprintf(w, "  %-34s by %s\n", "", because)
			if policy.Owner != "" {
				fmt.Fprintf(w, "  %-34s ask %s\n", "", policy.Owner)
			}
		}
		if s.Failed != "" {
			fmt.Fprintf(w, "  %-34s %s\n", "", s.Failed)
		}
	}
	for _, v := range r.Volumes {
		fmt.Fprintf(w, "Disk %s: %s", v.Name, v.State)
		if v.Identifier != "" {
			fmt.Fprintf(w, ", recovery key %s", v.Identifier.Spaced())
		}
		if why := strings.TrimSpace(v.Reason + " " + v.Weak); why != "" {
			fmt.Fprintf(w, ". %s", why)
		}
		fmt.Fprintln(w)
	}
	var offers []string
	for policy := range r.Offers {
		offers = append(offers, policy)
	}
	slices.Sort(offers)
	for _, policy := range offers {
		o := r.Offers[policy]
		state := "take it with: zridge-agent take " + policy
		if slices.Contains(r.Taken, policy) {
			state = "taken"
		}
		fmt.Fprintf(w, "Offered: %s (%s)\n", o.Title, state)
		if o.Description != "" {
			fmt.Fprintf(w, "  %s\n", o.Description)
		}
	}
}
