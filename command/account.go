// This file signs the command line in, and keeps how.

package command

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// signInFile is where the address and token of the service are saved: ZRIDGE_CONFIG, else a file in
// the user's configuration folder.
func signInFile() (string, error) {
	if path := os.Getenv("ZRIDGE_CONFIG"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "zridge", "sign-in.json"), nil
}

type savedSignIn struct {
	Base  string `json:"service"`
	Token string `json:"token"`
	Name  string `json:"name"`
	// CA is the certificate that the service's certificate is signed by, in PEM; empty: those that
	// the machine trusts.
	CA string `json:"ca,omitempty"`
	// Change is the one that commands which write put their edits into, unless told otherwise.
	Change string `json:"change,omitempty"`
}

// signedIn gives a client of the service that was signed in to.
func signedIn() (*client.Client, error) {
	k, err := readSignIn()
	if err != nil {
		return nil, err
	}
	caller, err := callerTrusting(k.CA)
	return &client.Client{Base: k.Base, Token: k.Token, HTTP: caller}, err
}

// trustedRoots gives the certificates by which the service is trusted; nil: those of the machine.
func trustedRoots() (*x509.CertPool, error) {
	k, err := readSignIn()
	if err != nil || k.CA == "" {
		return nil, err
	}
	return poolOf(k.CA)
}

func poolOf(pem string) (*x509.CertPool, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(pem)) {
		return nil, usage("the file that --ca names has no certificate in PEM")
	}
	return pool, nil
}

// callerTrusting gives what calls a service whose certificate is signed by one in PEM; empty: by
// one that the machine trusts.
func callerTrusting(pem string) (*http.Client, error) {
	if pem == "" {
		return http.DefaultClient, nil
	}
	pool, err := poolOf(pem)
	if err != nil {
		return nil, err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}
	return &http.Client{Transport: transport}, nil
}

// stranger gives a client that has not signed in, with the certificate that the file of --ca has;
// empty without it.
func stranger(c *cli.Command, base string) (api *client.Client, ca string, err error) {
	if c.IsSet("ca") {
		pem, err := os.ReadFile(c.String("ca"))
		if err != nil {
			return nil, "", err
		}
		ca = string(pem)
	}
	caller, err := callerTrusting(ca)
	return &client.Client{Base: base, HTTP: caller}, ca, err
}

func caFlag() cli.Flag {
	return &cli.StringFlag{
		Name:      "ca",
		Usage:     "`FILE` with the certificate that the service's certificate is signed by, in PEM",
		TakesFile: true,
	}
}

func readSignIn() (*savedSignIn, error) {
	path, err := signInFile()
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &exitError{exitUsage, "You are not signed in. Run: zridge sign-in ADDRESS --name NAME, or name a folder with --estate"}
	}
	var k savedSignIn
	if err == nil {
		err = json.Unmarshal(data, &k)
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	return &k, nil
}

func saveSignIn(k savedSignIn) error {
	path, err := signInFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o600)
}

// readPassword asks on a terminal without showing what is typed, and reads a line otherwise.
func readPassword(s Streams, prompt string) (string, error) {
	if f, ok := s.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(s.Err, prompt)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(s.Err)
		return string(text), err
	}
	// One byte at a time: what follows the line is for whoever reads next.
	var line []byte
	for one := make([]byte, 1); len(line) < 4096; {
		n, err := s.In.Read(one)
		if n == 1 && one[0] == '\n' {
			break
		}
		line = append(line, one[:n]...)
		if err != nil {
			if len(line) == 0 {
				return "", usage("found nothing on the input, expected one line: %s", strings.TrimRight(prompt, ": "))
			}
			break
		}
	}
	return strings.TrimRight(string(line), "\r"), nil
}

func address(c *cli.Command) (string, error) {
	if c.NArg() != 1 {
		return "", wrongArguments(c, "ADDRESS")
	}
	u, err := url.Parse(c.Args().First())
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return "", usage("%s: found %q, expected an address such as http://127.0.0.1:8470", c.Name, c.Args().First())
	}
	return u.Scheme + "://" + u.Host, nil
}

func nameFlag() cli.Flag {
	return &cli.StringFlag{Name: "name", Usage: "`NAME` of the account", Required: true}
}

func signInCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "sign-in",
		Usage:     "sign in to a service, once",
		ArgsUsage: "ADDRESS",
		Description: "Asks for the password (or reads one line from the input) and keeps a token, readable by you alone, in your\n" +
			"configuration folder or the file that ZRIDGE_CONFIG names.\n\nExample:\n" +
			"  zridge sign-in http://127.0.0.1:8470 --name ines.okafor",
		Flags: []cli.Flag{nameFlag(), caFlag(), &cli.IntFlag{Name: "days", Value: 30, Usage: "how many `DAYS` the token is good for"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			base, err := address(c)
			if err != nil {
				return err
			}
			password, err := readPassword(s, "Password: ")
			if err != nil {
				return err
			}
			api, ca, err := stranger(c, base)
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			as, purpose := wire.Credentials{Name: c.String("name"), Password: password}, "command line on "+host
			token, err := api.SignInWith(ctx, as, purpose, c.Int("days"))
			var refused *wire.Problem
			if errors.As(err, &refused) && refused.Code == "second-factor" {
				if as.Code, err = readPassword(s, "Code of your app, or a recovery code: "); err != nil {
					return err
				}
				token, err = api.SignInWith(ctx, as, purpose, c.Int("days"))
			}
			if errors.As(err, &refused) && refused.Code == "password-due" {
				fmt.Fprintln(s.Err, "Somebody else chose your password. Choose one that only you know.")
				if as.Password, err = choosePassword(ctx, s, api, as); err != nil {
					return err
				}
				token, err = api.SignInWith(ctx, as, purpose, c.Int("days"))
			}
			if err != nil {
				return err
			}
			if err := saveSignIn(savedSignIn{Base: base, Token: token.Secret, Name: c.String("name"), CA: ca}); err != nil {
				return err
			}
			api.Token = token.Secret
			who, err := client.Get[wire.Who](ctx, api, "/session", nil)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "Signed in to %s as %s (%s) until %s\n", base, who.Name, who.Role, token.ExpiresAt.Format("2006-01-02"))
			if who.FactorNeeded {
				fmt.Fprintf(s.Out, "Your role demands a second factor. Set it up in the console, at %s/access, before "+
					"anything else.\n", base)
			}
			return nil
		},
	}
}

// choosePassword asks for a new password and gives the account it in the place of the one in as.
func choosePassword(ctx context.Context, s Streams, api *client.Client, as wire.Credentials) (string, error) {
	password, err := readPassword(s, "New password: ")
	if err != nil {
		return "", err
	}
	return password, api.ChoosePassword(ctx, as, password)
}

func setUpCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "set-up", Usage: "make the first administrator with the one-time code of the first start", ArgsUsage: "ADDRESS",
		Description: "Example:\n  zridge set-up http://127.0.0.1:8470 --code abcdefg-… --name ines.okafor",
		Flags:       []cli.Flag{nameFlag(), caFlag(), &cli.StringFlag{Name: "code", Usage: "the one-time `CODE`", Required: true}},
		Action: func(ctx context.Context, c *cli.Command) error {
			base, err := address(c)
			if err != nil {
				return err
			}
			password, err := readPassword(s, "New password: ")
			if err != nil {
				return err
			}
			api, _, err := stranger(c, base)
			if err != nil {
				return err
			}
			if _, err := api.Call(
				ctx,
				http.MethodPost,
				"/setup",
				nil,
				wire.SetUp{Code: c.String("code"), Name: c.String("name"), Password: password},
				nil,
			); err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "%s is administrator now; sign in with `zridge sign-in %s "+
				"--name %s`\n", c.String("name"), base, c.String("name"))
			return nil
		},
	}
}
