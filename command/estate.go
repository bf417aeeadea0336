// This file implements `zridge import` and `zridge export`.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func importCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "import",
		Usage:     "open a change that makes the live estate like a folder, and show what it does",
		ArgsUsage: "FOLDER",
		Description: "Nothing goes live until the change is published, here with --publish or later.\n\nExamples:\n" +
			"  zridge import estate/\n" +
			"  zridge import --retire-missing --title \"Spring clean\" estate/",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "title", Value: "Import", Usage: "`TITLE` of the change"},
			&cli.BoolFlag{Name: "retire-missing", Usage: "retire what the folder does not have"},
			&cli.BoolFlag{Name: "publish", Usage: "publish at once"}, formatFlag("text", "json"),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return wrongArguments(c, "FOLDER")
			}
			api, err := signedIn()
			if err != nil {
				return err
			}
			result, err := importFolder(ctx, api, c.Args().First(), c.String("title"), c.Bool("retire-missing"))
			if err != nil {
				return err
			}
			if c.String("format") == "json" && !c.Bool("publish") {
				return printJSON(s.Out, result)
			}
			if result.Change == "" {
				fmt.Fprintf(s.Out, "Nothing differs: %s as they are\n", counted(result.Unchanged, "object"))
				return nil
			}
			fmt.Fprintf(
				s.Out,
				"Opened %s: %d created, %d altered, %d retired, %d unchanged\n",
				result.Change,
				result.Created,
				result.Altered,
				result.Retired,
				result.Unchanged,
			)
			if !c.Bool("publish") {
				return showImpact(ctx, api, s.Out, result.Change, "text")
			}
			return publish(ctx, api, s.Out, wire.Change{ID: result.Change, Version: result.Version}, wire.PublishRequest{}, c.String("format"))
		},
	}
}

// importFolder reads a folder here, where its faults have places, and sends it.
func importFolder(ctx context.Context, api *client.Client, folder, title string, retireMissing bool) (wire.ImportResult, error) {
	var result wire.ImportResult
	snapshot, paths, err := files.ReadWithFiles(folder, dictionary.Shipped())
	if err != nil {
		return result, err
	}
	for _, f := range files.FilesOf(snapshot) {
		if _, err := client.Get[wire.File](ctx, api, client.Path("files", f.SHA256), nil); err == nil {
			continue
		}
		data, err := os.ReadFile(paths[f.SHA256])
		if err != nil {
			return result, err
		}
		// A folder is kept for years: what has expired in it was judged when it was put there.
		if _, err := api.AddFile(ctx, f.Name, "", data, true, false); err != nil {
			return result, err
		}
	}
	lists := map[string][]any{}
	for _, kind := range estate.Kinds {
		for _, o := range files.Objects(snapshot, kind) {
			lists[string(kind)] = append(lists[string(kind)], files.Doc(o))
		}
	}
	query := url.Values{"title": {title}}
	if retireMissing {
		query.Set("retire_missing", "true")
	}
	_, err = api.Call(ctx, http.MethodPost, "/imports", query, lists, &result)
	return result, err
}

func exportCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write the live estate into a folder of files", ArgsUsage: "FOLDER",
		Description: "The folder must be new or empty. The same estate gives the same bytes.\n\nExample:\n  zridge export estate-2026-11/",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return wrongArguments(c, "FOLDER")
			}
			api, err := signedIn()
			if err != nil {
				return err
			}
			lists, err := client.Get[json.RawMessage](ctx, api, "/estate", nil)
			if err != nil {
				return err
			}
			snapshot, err := files.ReadJSON(lists, dictionary.Shipped())
			if err != nil {
				return err
			}
			if err := files.Write(c.Args().First(), snapshot, func(sha256 string) ([]byte, error) { return api.FileData(ctx, sha256) }); err != nil {
				return err
			}
			fmt.Fprintf(
				s.Out,
				"Wrote %s, %s and %s to %s\n",
				counted(len(snapshot.Devices), "device"),
				counted(len(snapshot.People), "person"),
				counted(len(snapshot.Policies), "policy"),
				c.Args().First(),
			)
			return nil
		},
	}
}
