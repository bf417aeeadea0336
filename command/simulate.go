// This file implements `zridge device simulate`.

package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

func simulateCommand(s Streams) *cli.Command {
	share := func(name, of string) cli.Flag {
		return &cli.IntFlag{Name: name, Usage: "`PERCENT` of " + of, Validator: func(v int) error {
			if v < 0 || v > 100 {
				return fmt.Errorf("--%s: found %d, expected 0 to 100", name, v)
			}
			return nil
		}}
	}
	return &cli.Command{
		Name:      "simulate",
		Usage:     "let simulated laptops of the estate check in over the real protocol",
		ArgsUsage: " ",
		Description: "Enrols the first laptops of the estate with one-time codes and lets them check in until Ctrl-C. Who they " +
			"are is kept\n" +
			"in --state, so that a second run enrols nobody again.\n\nExample:\n" +
			"  zridge device simulate --count 50 --refuse 10 --offline 5",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "count", Value: 20, Usage: "`NUMBER` of laptops"},
			&cli.DurationFlag{Name: "interval", Value: 10 * time.Second, Usage: "`TIME` between two check-ins of a laptop"},
			&cli.StringFlag{Name: "state", Value: "laptops.json", Usage: "`FILE` with the laptops' enrolments (secret)", TakesFile: true},
			share("slow", "the laptops that check in at a fifth of the pace"),
			share("offline", "the laptops that check in once and never again"),
			share("refuse", "the laptops that refuse a setting"),
			share("wrong", "the laptops that report wrong values"),
			share("taking", "the people, who take a policy that is offered to them"),
			&cli.BoolFlag{Name: "once", Usage: "one check-in each, then end"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return wrongArguments(c, "no arguments")
			}
			shares := endpoint.Shares{Slow: c.Int("slow"), Offline: c.Int("offline"), Refusing: c.Int("refuse"), Wrong: c.Int("wrong"),
				Taking: c.Int("taking")}
			if shares.Slow+shares.Offline+shares.Refusing+shares.Wrong > 100 {
				return usage("device simulate: the shares add up to more than 100 percent")
			}
			if c.Int("count") < 1 || c.Duration("interval") < 100*time.Millisecond {
				return usage("device simulate: expected a count of at least 1 and an interval of at least 100ms")
			}
			api, err := signedIn()
			if err != nil {
				return err
			}
			ids, err := enrolled(ctx, api, c.String("state"), c.Int("count"))
			if err != nil {
				return err
			}
			var mu sync.Mutex
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			done := map[string]bool{}
			roots, err := trustedRoots()
			if err != nil {
				return err
			}
			fleet := &endpoint.Fleet{
				Base:     api.Base,
				Roots:    roots,
				Interval: c.Duration("interval"),
				Shares:   shares,
				Report: func(device string, o endpoint.Outcome, err error) {
					mu.Lock()
					defer mu.Unlock()
					if err != nil {
						fmt.Fprintf(s.Out, "%s: %v\n", device, err)
					} else if o.Applied+o.Refused > 0 {
						fmt.Fprintf(s.Out, "%s: %s\n", device, o)
					}
					if done[device] = true; c.Bool("once") && len(done) == len(ids) {
						cancel()
					}
				},
			}
			fmt.Fprintf(s.Out, "%s check in at %s\n", counted(len(ids), "laptop"), api.Base)
			fleet.Run(ctx, ids)
			return nil
		},
	}
}

// enrolled gives the identities of the first laptops of the estate: those of the state file, and
// for the others new ones.
func enrolled(ctx context.Context, api *client.Client, state string, count int) ([]endpoint.Identity, error) {
	known := map[string]endpoint.Identity{}
	data, err := os.ReadFile(state)
	if err == nil {
		err = json.Unmarshal(data, &known)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading %s: %w", state, err)
	}
	devices, err := client.All[wire.Device](ctx, api, "/devices", nil)
	if err != nil {
		return nil, err
	}
	devices = devices[:min(len(devices), count)]
	var missing []wire.Device
	for _, d := range devices {
		if _, there := known[d.ID]; !there || !d.Enrolled {
			missing = append(missing, d)
		}
	}
	if len(missing) > 0 {
		if err := enrol(ctx, api, missing, known); err != nil {
			return nil, err
		}
		text, err := json.Marshal(known)
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(state, text, 0o600); err != nil {
			return nil, err
		}
	}
	ids := make([]endpoint.Identity, len(devices))
	for i, d := range devices {
		ids[i] = known[d.ID]
	}
	return ids, nil
}

// enrol enrols laptops and adds what they are to keep: by certificate, or by secret where the service takes no
// certificates.
func enrol(ctx context.Context, api *client.Client, devices []wire.Device, into map[string]endpoint.Identity) error {
	authority, err := client.Get[wire.Authority](ctx, api, "/authority", nil)
	if err != nil {
		return err
	}
	if authority.On && strings.HasPrefix(api.Base, "https://") {
		for _, d := range devices {
			if into[d.ID], err = enrolByCertificate(ctx, api, d); err != nil {
				return err
			}
		}
		return nil
	}
	ids, serials := make([]string, len(devices)), map[string]string{}
	for i, d := range devices {
		ids[i], serials[d.ID] = d.ID, d.Serial
	}
	codes, err := client.Post[[]wire.EnrolmentCode](ctx, api, "/enrolment-codes", map[string]any{"devices": ids})
	if err != nil {
		return err
	}
	caller := endpoint.Client(8)
	for _, code := range codes {
		if into[code.Device], err = endpoint.Enrol(ctx, caller, api.Base, code.Code, code.Device, serials[code.Device]); err != nil {
			return err
		}
	}
	return nil
}

// enrolByCertificate invites a laptop, and enrols it with the code.
func enrolByCertificate(ctx context.Context, api *client.Client, d wire.Device) (endpoint.Identity, error) {
	made, err := client.Post[wire.Invitation](ctx, api, "/invitations", wire.NewInvitation{Device: d.ID, Days: 1})
	if err != nil {
		return endpoint.Identity{}, err
	}
	request, err := endpoint.NewRequest(d.Serial, "")
	if err != nil {
		return endpoint.Identity{}, err
	}
	certified, err := endpoint.EnrolByCertificate(ctx, api.HTTP, api.Base, d.ID, made.Codes[0], request)
	return endpoint.Identity{Device: d.ID, Certified: certified}, err
}
