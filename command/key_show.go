// This file implements `zridge key show`.

package command

import (
	"bufio"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func keyShowCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "see the key of a locked laptop, once, on a terminal", ArgsUsage: "DEVICE",
		Description: "What is compared is asked for: the identifier that the locked screen shows, the person who stands before it, " +
			"the model that is printed\n" +
			"on it. Then your password. The key stays on the screen for a minute, or until you press Enter, and leaves nothing " +
			"behind. The owner is\n" +
			"told, and the laptop puts another key in its place at its next check-in. Where a second person has to consent, the " +
			"command waits.\n\n" +
			"Example:\n  zridge key show LT-0042 --identifier \"4821 0937 5512\" --person ines.okafor --model \"Halyard 14\" " +
			"--reason \"PIN forgotten after leave\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "identifier", Usage: "the 12 `DIGITS` that the locked screen shows"},
			&cli.StringFlag{Name: "person", Usage: "the `ID` of the person who stands before the laptop"},
			&cli.StringFlag{Name: "model", Usage: "the `MODEL` that is printed on the laptop"},
			&cli.StringFlag{Name: "reason", Usage: "`WHY` the key is needed, which is recorded"},
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			screen, is := terminalOf(s.Out)
			if !is {
				return &exitError{exitFault, "A recovery key is shown on a terminal alone: it must not end in a file or a pipe."}
			}
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			in := wire.KeyAsk{Device: id, Identifier: c.String("identifier"), Person: c.String("person"), Model: c.String("model"),
				Reason: c.String("reason")}
			lines := bufio.NewReader(s.In)
			for _, each := range []struct {
				into   *string
				prompt string
			}{
				{&in.Identifier, "Identifier on the locked screen: "},
				{&in.Person, "Id of the person who stands before it: "},
				{&in.Model, "Model that is printed on it: "},
				{&in.Reason, "Reason: "},
			} {
				if *each.into != "" {
					continue
				}
				fmt.Fprint(s.Err, each.prompt)
				line, err := lines.ReadString('\n')
				if *each.into = strings.TrimSpace(line); err != nil && *each.into == "" {
					return usage("found nothing on the input, expected one line: %s", strings.TrimRight(each.prompt, ": "))
				}
			}
			r, err := client.Post[wire.KeyRequest](ctx, api, "/key-requests", in)
			if err != nil {
				return err
			}
			if r, err = consented(ctx, s, api, r); err != nil {
				return err
			}
			look := wire.KeyLook{}
			if look.Password, err = readPassword(s, "Your password: "); err != nil {
				return err
			}
			key, err := client.Post[wire.ShownKey](ctx, api, client.Path("key-requests", r.ID, "key"), look)
			if err != nil {
				return err
			}
			return showOnce(ctx, screen, lines, &key)
		}),
	}
}

// terminalOf gives the terminal that is printed to.
func terminalOf(w io.Writer) (*os.File, bool) {
	if to, is := w.(*shown); is {
		w = to.w
	}
	f, is := w.(*os.File)
	return f, is && term.IsTerminal(int(f.Fd()))
}

// consented waits until a second person has decided, where one has to.
func consented(ctx context.Context, s Streams, api *client.Client, r wire.KeyRequest) (wire.KeyRequest, error) {
	if r.State == "waiting" {
		fmt.Fprintf(s.Err, "A second person has to consent: request %s, until %s. Waiting; Ctrl-C ends it.\n", r.ID, moment(r.ExpiresAt))
	}
	for r.State == "waiting" {
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(2 * time.Second):
		}
		if time.Now().After(r.ExpiresAt.Add(time.Minute)) {
			return r, &exitError{exitFault, "Nobody consented in time. Ask again."}
		}
		var err error
		if r, err = client.Get[wire.KeyRequest](ctx, api, client.Path("key-requests", r.ID), nil); err != nil {
			return r, err
		}
	}
	if r.State == "refused" {
		return r, &exitError{exitFault, r.ConsentBy + " refused the request."}
	}
	return r, nil
}

// Sequences that steer a terminal (ECMA-48, xterm): what is written to the other screen is not kept when it is left.
const (
	otherScreen = "\x1b[?1049h\x1b[H\x1b[2J"
	firstScreen = "\x1b[2J\x1b[?1049l"
)

// showOnce shows a key on a screen of its own, until Enter is pressed or its time is over. A key that the service cannot
// open is given as it is stored, for whoever has the company's identity.
func showOnce(ctx context.Context, screen *os.File, lines *bufio.Reader, key *wire.ShownKey) error {
	if key.Sealed != "" {
		sealed, err := base64.StdEncoding.DecodeString(key.Sealed)
		if err != nil {
			return err
		}
		file := key.Device + "-" + strings.ReplaceAll(key.Identifier, " ", "") + ".age"
		if err := os.WriteFile(file, sealed, 0o600); err != nil {
			return err
		}
		fmt.Fprintf(screen, "The service cannot open this key: it is sealed to %s.\n"+
			"Written to %s. Who has the private half opens it with: age -d -i IDENTITY %s\n",
			strings.Join(key.Recipients, ", "), file, file)
		return nil
	}
	fmt.Fprintf(screen, "%s\n  %s, %s\n  Identifier  %s\n\n      %s\n\n"+
		"  Typed without the spaces. It disappears in %d seconds, or when you press Enter.\n",
		otherScreen, key.Device, key.Name, key.Identifier, key.Key, key.Seconds)
	defer fmt.Fprint(screen, firstScreen)
	pressed := make(chan struct{})
	go func() {
		lines.ReadString('\n')
		close(pressed)
	}()
	select {
	case <-pressed:
	case <-ctx.Done():
	case <-time.After(time.Duration(key.Seconds) * time.Second):
	}
	return nil
}
