// This file implements `zridge serve` and `zridge demo`.

package command

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // zones on machines that have none

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/ca"
	"zenithridge.example/zridge/service/httpapi"
	"zenithridge.example/zridge/service/store"
)

// collectAt makes the service collect garbage earlier than Go does by itself: what-if resolutions
// are big and short-lived, and a small service should stay small beside others.
const collectAt = 40

func serveCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "serve",
		Usage:     "run the service",
		ArgsUsage: " ",
		Description: "Listens on loopback unless told otherwise. At the first start it prints a one-time code with which the\n" +
			"first administrator is made, in the console or with `zridge set-up`.\n\n" +
			"Examples:\n  zridge serve --database /var/lib/zridge/zridge.db\n" +
			"  zridge serve --listen 0.0.0.0:8470 --tls-cert server.pem --tls-key server.key",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8470", Usage: "`HOST:PORT` to listen on"},
			&cli.IntFlag{
				Name:  "max-file-mb",
				Value: 32,
				Usage: "the largest file that is kept, in `MIB`: 1 to 512",
				Validator: func(n int) error {
					if n < 1 || n > 512 {
						return fmt.Errorf("found %d, expected 1 to 512", n)
					}
					return nil
				},
			},
			&cli.IntFlag{
				Name:  "file-space-mb",
				Value: 4096,
				Usage: "what all files together may take, in `MIB`: 1 to 1000000",
				Validator: func(n int) error {
					if n < 1 || n > 1_000_000 {
						return fmt.Errorf("found %d, expected 1 to 1000000", n)
					}
					return nil
				},
			},
			&cli.StringFlag{Name: "database", Value: "zridge.db", Usage: "`FILE` of the database", TakesFile: true},
			&cli.StringFlag{
				Name:      "secrets",
				Usage:     "`FOLDER` with the passwords that sources need, a file each, and the file destinations: HOST:PORT PASSWORD",
				TakesFile: true,
			},
			&cli.StringFlag{Name: "zone", Usage: "the time `ZONE` by which days turn, such as Europe/Lisbon; without it the machine's"},
			&cli.IntFlag{
				Name:  "keep-runs",
				Value: 400,
				Usage: "`DAYS` that runs of sources and what they did to objects are kept: 1 to 10000",
				Validator: func(n int) error {
					if n < 1 || n > 10_000 {
						return fmt.Errorf("found %d, expected 1 to 10000", n)
					}
					return nil
				},
			},
			dateFlag(),
			&cli.StringFlag{Name: "oidc-issuer", Usage: "`ADDRESS` of an OpenID Connect issuer through which people sign in"},
			&cli.StringFlag{Name: "oidc-title", Usage: "what people know the issuer by: `TITLE`", Value: "your company's sign-in"},
			&cli.StringFlag{Name: "oidc-client", Usage: "`ID` of the service at the issuer"},
			&cli.StringFlag{
				Name:      "oidc-secret",
				Usage:     "`FILE` with the secret of the service at the issuer; without it a public client",
				TakesFile: true,
			},
			&cli.StringFlag{Name: "oidc-groups", Usage: "the `CLAIM` that lists the groups of a person", Value: "groups"},
			&cli.StringSliceFlag{
				Name:  "oidc-grant",
				Usage: "the role that a group of the issuer gets: `GROUP=ROLE`, or GROUP=ROLE@UNIT for a unit",
			},
			&cli.StringSliceFlag{
				Name:  "oidc-acr",
				Usage: "how strongly the issuer must have signed somebody in: a `VALUE` of its claim acr, one of which it must give",
			},
			&cli.StringSliceFlag{
				Name: "second-factor-for",
				Usage: "a `ROLE` that demands a second factor: whoever has it may do nothing before one is set up; " +
					"every for all roles, none for no role. Without it: every off loopback, none on it",
			},
			&cli.StringFlag{
				Name:  "malware-scanner",
				Usage: "`PLACE` of a ClamAV daemon that searches files before they are kept: unix:/path/of/socket, or tcp:127.0.0.1:PORT",
			},
			&cli.StringFlag{
				Name:      "leaked-passwords",
				Usage:     "`FILE` of passwords that became known, which nobody may choose: SHA-1 hashes, a line each, sorted",
				TakesFile: true,
			},
			&cli.DurationFlag{
				Name:  "session-idle",
				Value: 30 * time.Minute,
				Usage: "`TIME` after which a session that nobody uses ends: 10s to 12h",
				Validator: func(d time.Duration) error {
					if d < 10*time.Second || d > 12*time.Hour {
						return fmt.Errorf("found %s, expected 10s to 12h", d)
					}
					return nil
				},
			},
			&cli.StringFlag{
				Name: "seal-key",
				Usage: "`FILE` with the key for secrets in the database; without it seal.key beside the database. It is made if " +
					"it is not there",
				TakesFile: true,
			},
			&cli.StringFlag{
				Name: "seal-passphrase",
				Usage: "`FILE` with a passphrase by which the key for secrets is encrypted; - asks for it. A key that is not " +
					"encrypted yet is encrypted from then on",
				TakesFile: true,
			},
			&cli.StringFlag{
				Name: "escrow-key",
				Usage: "`FILE` with the escrow identities, which open recovery keys; without it escrow.key beside the database. " +
					"It is made when the first identity is",
				TakesFile: true,
			},
			&cli.StringFlag{
				Name:      "escrow-passphrase",
				Usage:     "`FILE` with a passphrase by which the escrow identities are encrypted; - asks for it",
				TakesFile: true,
			},
			&cli.StringFlag{
				Name: "escrow-module",
				Usage: "`LIBRARY` of a security module (PKCS #11) whose key protects the escrow identities, in the place of " +
					"a passphrase",
				TakesFile: true,
			},
			&cli.StringFlag{Name: "escrow-token", Usage: "`LABEL` of the module's token"},
			&cli.StringFlag{Name: "escrow-pin", Usage: "`FILE` with the PIN of the token", TakesFile: true},
			&cli.StringFlag{Name: "escrow-module-key", Value: "zridge escrow", Usage: "`LABEL` of the module's key; it is made if it " +
				"is not there"},
			&cli.StringFlag{
				Name: "audit-key",
				Usage: "`FILE` with the key that signs the audit log; without it audit.key beside the database. It is made if it " +
					"is not there",
				TakesFile: true,
			},
			&cli.StringSliceFlag{
				Name:  "audit-copy",
				Usage: "where checkpoints of the audit log are sent: `PLACE`, one of file:PATH, syslog+tls://HOST:PORT, https://HOST/PATH",
			},
			&cli.StringSliceFlag{
				Name:  "audit-forward",
				Usage: "where records of the audit log are sent as they are written: `PLACE`, in the forms of --audit-copy",
			},
			&cli.IntFlag{
				Name:  "keep-audit",
				Usage: "`DAYS` that records of the audit log are kept: 30 to 10000; without it for ever",
				Validator: func(n int) error {
					if n != 0 && (n < 30 || n > 10_000) {
						return fmt.Errorf("found %d, expected 30 to 10000", n)
					}
					return nil
				},
			},
			&cli.StringFlag{Name: "smtp", Usage: "`HOST:PORT` of the SMTP server through which announcements go as e-mail; it " +
				"must offer TLS"},
			&cli.StringFlag{Name: "smtp-from", Usage: "`MAIL` address that announcements come from"},
			&cli.StringFlag{Name: "smtp-user", Usage: "`NAME` by which the service signs in at the SMTP server"},
			&cli.StringFlag{Name: "smtp-password", Usage: "`FILE` with the password for that", TakesFile: true},
			&cli.BoolFlag{Name: "smtp-plain", Usage: "talk to the SMTP server without TLS, on loopback"},
			&cli.StringSliceFlag{Name: "webhook-host", Usage: "`HOST:PORT` to which people's webhooks may lead; without it they have none"},
			&cli.StringFlag{Name: "link-base", Usage: "`ADDRESS` of the console in what is sent; without it where the service listens"},
			&cli.BoolFlag{
				Name:  "require-message-mac",
				Usage: "refuse laptops that give credentials once a session instead of authenticating each message",
			},
			&cli.StringSliceFlag{Name: "withhold-fact", Usage: "never ask laptops for this `FACT`, though a rule looks at it; * " +
				"means for none"},
			&cli.BoolFlag{Name: "enrol-by-secret", Usage: "let laptops enrol with secrets, too; over plain HTTP they do in any case"},
			&cli.StringFlag{
				Name: "authority-chain", TakesFile: true,
				Usage: "`FILE` with the certificate of an authority of the company that issues certificates to laptops, and those " +
					"above it, in PEM; without it the service makes its own",
			},
			&cli.StringFlag{Name: "authority-key", Usage: "`FILE` with that authority's key, in PEM", TakesFile: true},
			&cli.IntFlag{
				Name: "certificate-days", Value: 90, Usage: "`DAYS` that a laptop's certificate counts: 1 to 825",
				Validator: func(n int) error {
					if n < 1 || n > 825 {
						return fmt.Errorf("found %d, expected 1 to 825", n)
					}
					return nil
				},
			},
			&cli.StringFlag{Name: "tls-cert", Usage: "`FILE` with the certificate and those that signed it, in PEM", TakesFile: true},
			&cli.StringFlag{Name: "tls-key", Usage: "`FILE` with the key of the certificate, in PEM", TakesFile: true},
			&cli.BoolFlag{Name: "tls-self-signed", Usage: "make a certificate for loopback, for trying things"},
			&cli.StringFlag{
				Name: "acme-directory",
				Usage: "`ADDRESS` of a certificate authority that issues the certificate for the names of --host (RFC 8555); its " +
					"conditions are accepted",
			},
			&cli.StringFlag{Name: "acme-contact", Usage: "`MAIL` address that the authority is told"},
			&cli.StringFlag{
				Name:      "acme-ca",
				Usage:     "`FILE` with the certificates by which the authority is known, in PEM; without it those of the machine",
				TakesFile: true,
			},
			&cli.StringSliceFlag{
				Name:  "behind-proxy",
				Usage: "`ADDRESS` or network of a proxy in front, whose X-Forwarded headers are believed",
			},
			&cli.StringSliceFlag{
				Name:  "host",
				Usage: "`NAME` that the service answers to; without it those of the certificate, or of loopback",
			},
			&cli.IntFlag{
				Name:  "connections",
				Value: 512,
				Usage: "`NUMBER` of connections that one address may have at once: 8 to 100000",
				Validator: func(n int) error {
					if n < 8 || n > 100_000 {
						return fmt.Errorf("found %d, expected 8 to 100000", n)
					}
					return nil
				},
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return usage("serve: found %s, expected no arguments", problem.Quote(c.Args().First()))
			}
			config := service.Config{
				Address:  c.String("listen"),
				Database: c.String("database"),
				Secrets:  c.String("secrets"),
				MaxFile:  int64(c.Int("max-file-mb")) << 20,
				Space:    int64(c.Int("file-space-mb")) << 20,
				Keep:     time.Duration(c.Int("keep-runs")) * 24 * time.Hour,
				Log:      slog.New(slog.NewTextHandler(s.Err, nil)),

				TLS: service.TLS{
					Certificate: c.String("tls-cert"),
					Key:         c.String("tls-key"),
					SelfSigned:  c.Bool("tls-self-signed"),
					ACME: service.ACME{
						Directory: c.String("acme-directory"),
						Contact:   c.String("acme-contact"),
						Trust:     c.String("acme-ca"),
					},
				},
				Connections: c.Int("connections"),
				RequireMAC:  c.Bool("require-message-mac"),
				BySecret:    c.Bool("enrol-by-secret"),
				Withheld:    c.StringSlice("withhold-fact"),
				Authority: ca.Config{
					Chain: c.String("authority-chain"),
					Key:   c.String("authority-key"),
					Life:  time.Duration(c.Int("certificate-days")) * 24 * time.Hour,
				},
				SealKey:         c.String("seal-key"),
				SecondFactorFor: factorsDemanded(c.StringSlice("second-factor-for"), c.String("listen"), len(c.StringSlice("behind-proxy")) > 0),
				LeakedPasswords: c.String("leaked-passwords"),
				Scanner:         c.String("malware-scanner"),
				SessionIdle:     c.Duration("session-idle"),
				Audit: service.AuditLog{
					Key:    c.String("audit-key"),
					Copies: c.StringSlice("audit-copy"),
					Places: c.StringSlice("audit-forward"),
					Keep:   time.Duration(c.Int("keep-audit")) * 24 * time.Hour,
				},
			}
			for _, name := range c.StringSlice("host") {
				config.Hosts = append(config.Hosts, strings.ToLower(name))
			}
			for _, text := range c.StringSlice("behind-proxy") {
				proxy, err := networkOf(text)
				if err != nil {
					return usage(
						"serve: found %s, expected the address or network of a proxy, such as 10.0.0.5 or 10.0.0.0/24",
						problem.Quote(text),
					)
				}
				config.Proxies = append(config.Proxies, proxy)
			}
			var err error
			if config.SMTP, err = smtpOf(c); err != nil {
				return err
			}
			config.Webhooks, config.Links = c.StringSlice("webhook-host"), c.String("link-base")
			if config.OIDC, err = oidcOf(c); err != nil {
				return err
			}
			if config.SealPassphrase, err = passphrase(c, s, "seal-passphrase", "the key for secrets"); err != nil {
				return err
			}
			if config.Escrow, err = escrowOf(c, s); err != nil {
				return err
			}
			if c.IsSet("date") {
				day, err := dayOf(c)
				if err != nil {
					return err
				}
				config.Day = day
			}
			if name := c.String("zone"); name != "" {
				zone, err := time.LoadLocation(name)
				if err != nil {
					return usage("serve: unknown time zone %s, expected a name such as Europe/Lisbon or UTC", problem.Quote(name))
				}
				config.Zone = zone
			}
			debug.SetGCPercent(collectAt)
			running, err := service.Start(config)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "Zenith Ridge answers at %s\n", running.Address)
			if config.TLS.SelfSigned {
				fmt.Fprintf(s.Out, "Its certificate is %s; sign in with: --ca %s\n", config.SelfSignedFile(), config.SelfSignedFile())
			}
			if running.SetupCode != "" {
				fmt.Fprintf(s.Out, "No administrator yet. One-time code, good for a day: %s\n", running.SetupCode)
			}
			fmt.Fprintln(s.Out, "Ready")
			reload := make(chan os.Signal, 1)
			signal.Notify(reload, syscall.SIGHUP)
			defer signal.Stop(reload)
			go func() {
				for range reload {
					if err := running.ReloadCertificate(); err != nil {
						config.Log.Error("reading the certificate again", "error", err)
					}
				}
			}()
			return running.Wait(ctx)
		},
	}
}

func apiDocumentCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "api-document", Usage: "print the OpenAPI 3.1 document of the HTTP API", ArgsUsage: " ",
		Action: func(context.Context, *cli.Command) error {
			document, err := httpapi.Document()
			if err != nil {
				return err
			}
			var indented bytes.Buffer
			if err := json.Indent(&indented, document, "", "  "); err != nil {
				return err
			}
			_, err = fmt.Fprintln(s.Out, indented.String())
			return err
		},
	}
}

func checkDatabaseCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "check-database", Usage: "let SQLite check a database from end to end", ArgsUsage: "FILE",
		Description: "Reads the whole file; the service may go on running.\n\nExample:\n  zridge check-database /var/lib/zridge/zridge.db",
		Action: func(_ context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return usage("check-database: found %d arguments, expected one FILE", c.NArg())
			}
			if _, err := os.Stat(c.Args().First()); err != nil { // opening would make a new one
				return err
			}
			records, err := store.Open(c.Args().First())
			if err != nil {
				return err
			}
			if err := errors.Join(records.CheckIntegrity(), records.Close()); err != nil {
				return err
			}
			_, err = fmt.Fprintln(s.Out, "in order")
			return err
		},
	}
}
