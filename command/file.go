// This file implements `zridge file`.

package command

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func fileCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "file", Usage: "files that values name: add, list, show, fetch",
		Commands: []*cli.Command{
			{
				Name:      "add",
				Usage:     "read a file, say what is in it, and keep it",
				ArgsUsage: "FILE",
				Description: "Certificates, rule sets of application control, and applications are recognised by what is in them. A " +
					"private key, " +
					"an expired\ncertificate or something else than --content names is refused.\n\nExamples:\n" +
					"  zridge file add harbour-root.pem\n  " +
					"zridge file add --look helpline.exe",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "content", Usage: "what it must be: `KIND` is certificate, application-rules, " +
						"application or any"},
					&cli.BoolFlag{
						Name:  "accept-expired",
						Usage: "take a certificate that has expired",
					},
					&cli.BoolFlag{Name: "look", Usage: "say what is in it, and do not keep it"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "FILE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					path := c.Args().First()
					data, err := os.ReadFile(path)
					if err != nil {
						return err
					}
					f, err := api.AddFile(ctx, filepath.Base(path), c.String("content"), data, c.Bool("accept-expired"), c.Bool("look"))
					if err != nil {
						return err
					}
					return printed(s, c, f, func() {
						fmt.Fprintln(s.Out, describeFile(f))
						if !f.New {
							fmt.Fprintln(s.Out, "It is kept here already.")
						}
					})
				}),
			},
			listing(s, "list", "files", "/files", []string{"file", "content", "size", "added by", "sha256"}, func(f wire.File) []string {
				return []string{f.Name, string(f.Reading.Content), fmt.Sprint(f.Size), f.By, f.SHA256}
			}, &cli.StringFlag{Name: "content", Usage: "only those of this `KIND`"}),
			{
				Name: "show", Usage: "what is in a file that is kept", ArgsUsage: "SHA256", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "SHA256", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					f, err := client.Get[wire.File](ctx, api, client.Path("files", c.Args().First()), nil)
					if err != nil {
						return err
					}
					return printed(s, c, f, func() { fmt.Fprintln(s.Out, describeFile(f)) })
				}),
			},
			{
				Name: "fetch", Usage: "write a file's bytes to a new file", ArgsUsage: "SHA256 PATH",
				Action: asked(s, 2, "SHA256 PATH", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					data, err := api.FileData(ctx, c.Args().First())
					if err != nil {
						return err
					}
					f, err := os.OpenFile(c.Args().Get(1), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
					if err != nil {
						return err
					}
					if _, err := f.Write(data); err != nil {
						f.Close()
						return err
					}
					return f.Close()
				}),
			},
		},
	}
}
