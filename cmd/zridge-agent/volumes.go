// This file has the commands by which somebody at the laptop says what only they can say about its volumes.

package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"zenithridge.example/zridge/agent"
)

// encryptionOf gives what encrypts the laptop's volumes.
func encryptionOf(a *agent.Agent) (*agent.Encryption, error) {
	if a.Encryption == nil {
		return nil, errors.New("this laptop has no cryptsetup; install the package cryptsetup-bin")
	}
	return a.Encryption, nil
}

func encryptCommand(out io.Writer, of func(*cli.Command) *agent.Agent) *cli.Command {
	return &cli.Command{
		Name: "encrypt", Usage: "let the agent encrypt a volume where policies demand it; it must not be mounted", ArgsUsage: "VOLUME",
		Description: "A blank volume is formatted. One with an ext file system on it is encrypted in place, which takes as long as " +
			"writing all of it: have a\n" +
			"backup. Nothing begins before the recovery key is stored where policies demand that.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "`NAME` by which people know it; without it the last part of its path"}},
		Action: func(_ context.Context, c *cli.Command) error {
			path, encryption, err := volumeOf(c, of(c))
			if err != nil {
				return err
			}
			name := c.String("name")
			if name == "" {
				name = filepath.Base(path)
			}
			if err := encryption.Name(path, name); err != nil {
				return err
			}
			fmt.Fprintln(out, "Noted. It is encrypted after the next check-in, where policies demand it.")
			return nil
		},
	}
}

func adoptCommand(out io.Writer, of func(*cli.Command) *agent.Agent) *cli.Command {
	return &cli.Command{
		Name: "adopt", Usage: "let the agent manage the recovery key of a volume that is encrypted already; asks for a passphrase " +
			"that opens it", ArgsUsage: "VOLUME",
		Action: func(ctx context.Context, c *cli.Command) error {
			path, encryption, err := volumeOf(c, of(c))
			if err != nil {
				return err
			}
			passphrase, err := secret("Passphrase of the volume: ")
			if err != nil {
				return err
			}
			if err := encryption.Adopt(ctx, path, []byte(passphrase)); err != nil {
				return err
			}
			fmt.Fprintln(out, "The agent has a key of its own now. It makes a recovery key after the next check-in.")
			return nil
		},
	}
}

func pinCommand(out io.Writer, of func(*cli.Command) *agent.Agent) *cli.Command {
	return &cli.Command{
		Name: "pin", Usage: "choose the PIN that is asked at the start of the laptop", ArgsUsage: " ",
		Action: func(ctx context.Context, c *cli.Command) error {
			encryption, err := encryptionOf(of(c))
			if err != nil {
				return err
			}
			pin, err := secret("New PIN, digits: ")
			if err != nil {
				return err
			}
			again, err := secret("Again: ")
			if err != nil {
				return err
			}
			if pin != again {
				return errors.New("the two are not the same; nothing was altered")
			}
			if err := encryption.SetPIN(ctx, pin); err != nil {
				return err
			}
			fmt.Fprintln(out, "The PIN is asked at the next start.")
			return nil
		},
	}
}

// volumeOf gives the volume that a command names, and what encrypts it.
func volumeOf(c *cli.Command, a *agent.Agent) (path string, encryption *agent.Encryption, err error) {
	if path, err = volumePath(c); err != nil {
		return "", nil, err
	}
	encryption, err = encryptionOf(a)
	return path, encryption, err
}

func volumePath(c *cli.Command) (string, error) {
	if c.NArg() != 1 {
		return "", fmt.Errorf("%s: expected a volume: a device such as /dev/sdb1, or a file", c.Name)
	}
	path, err := filepath.Abs(c.Args().First())
	if err != nil {
		return "", err
	}
	_, err = os.Stat(path)
	return path, err
}

var input = bufio.NewReader(os.Stdin)

// secret reads a line that is not shown.
func secret(prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(os.Stderr, prompt)
		text, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := input.ReadString('\n')
	if errors.Is(err, io.EOF) && line != "" {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}
