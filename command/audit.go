// This file implements `zridge audit`: who did what, when, and through what.

package command

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
)

func auditCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "who did what, when, and through what",
		Commands: []*cli.Command{
			{
				Name:  "list",
				Usage: "list what was done, the newest first",
				Description: "Examples:\n  zridge audit list --by ines.okafor --since 2026-11-01\n" +
					"  zridge audit list --object policies/house-rules --format json",
				Flags: append(
					auditFilters(),
					formatFlag("text", "json", "jsonl"),
					&cli.IntFlag{Name: "limit", Value: 50, Usage: "`NUMBER` of records: 1 to 500"},
				),
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					query, err := auditQuery(c)
					if err != nil {
						return err
					}
					query.Set("limit", fmt.Sprint(c.Int("limit")))
					list, err := client.Get[[]wire.AuditRecord](ctx, api, "/audit", query)
					if err != nil {
						return err
					}
					if c.String("format") == "jsonl" {
						for _, r := range list {
							if err := printJSON(s.Out, r); err != nil {
								return err
							}
						}
						return nil
					}
					return printed(s, c, list, func() { printAudit(s, list) })
				}),
			},
			auditExportCommand(s),
			auditVerifyCommand(s),
			auditCheckpointsCommand(s),
		},
	}
}

// auditFilters are the flags that say which records are meant.
func auditFilters() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "by", Usage: "what `ACCOUNT` did"},
		&cli.StringFlag{Name: "action", Usage: "a part of what was done, such as publish or sign-in: `WORD`"},
		&cli.StringFlag{Name: "object", Usage: "what was done to an object: `KIND/ID`"},
		&cli.StringFlag{Name: "change", Usage: "what was done in `CHANGE`"},
		&cli.StringFlag{Name: "since", Usage: "from this `DAY` or moment on, such as 2026-11-01 or 2026-11-01T08:00:00Z"},
		&cli.StringFlag{Name: "until", Usage: "to before this `DAY` or moment"},
	}
}

// auditQuery gives the parameters that the flags stand for.
func auditQuery(c *cli.Command) (url.Values, error) {
	query := url.Values{}
	for _, name := range []string{"by", "action", "change"} {
		if text := c.String(name); text != "" {
			query.Set(name, text)
		}
	}
	if text := c.String("object"); text != "" {
		kind, id, err := kindAndID(text)
		if err != nil {
			return nil, err
		}
		query.Set("kind", kind)
		query.Set("object", id)
	}
	for _, name := range []string{"since", "until"} {
		text := c.String(name)
		if text == "" {
			continue
		}
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			if at, err = time.ParseInLocation(time.DateOnly, text, time.Local); err != nil {
				return nil, usage(
					"--%s takes a day or a moment, such as 2026-11-01 or 2026-11-01T08:00:00Z, and was given %s.",
					name,
					problem.Quote(text),
				)
			}
		}
		query.Set(name, at.UTC().Format(time.RFC3339))
	}
	return query, nil
}

func printAudit(s Streams, list []wire.AuditRecord) {
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "No records.")
		return
	}
	rows := make([][]string, len(list))
	for i, r := range list {
		on := r.Change
		if r.ID != "" {
			on = strings.TrimSpace(r.Kind + "/" + r.ID + " " + r.Change)
		}
		if on == "" {
			on = firstLine(r.After)
		}
		rows[i] = []string{r.At.Local().Format("2006-01-02 15:04:05"), r.By, r.Via, r.Action, on}
	}
	printTable(s.Out, []string{"when", "who", "through", "what", "on"}, rows)
}

// firstLine gives the first line of a text, shortened to 60 characters.
func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	if runes := []rune(line); len(runes) > 60 {
		return string(runes[:59]) + "…"
	}
	return line
}
