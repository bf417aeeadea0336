// This file implements the commands that export the audit log and verify that it is as it was
// written.

package command

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

func auditExportCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write records into a file, the newest first",
		Description: "Without filters these are all records.\n\n" +
			"Example:\n  zridge audit export --since 2026-10-01 --until 2026-11-01 --format csv --to october.csv",
		Flags: append(
			auditFilters(),
			formatFlag("jsonl", "csv"),
			&cli.StringFlag{Name: "to", Usage: "`FILE` that is written, which must not be there yet; without " +
				"it the output", TakesFile: true},
		),
		Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			query, err := auditQuery(c)
			if err != nil {
				return err
			}
			to := s.Out
			if name := c.String("to"); name != "" {
				file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if err != nil {
					return err
				}
				defer file.Close() // a second time, after an error
				if err := exportAudit(ctx, api, query, c.String("format"), file); err != nil {
					return err
				}
				return file.Close()
			}
			return exportAudit(ctx, api, query, c.String("format"), to)
		}),
	}
}

// exportAudit writes records page by page: a log may be longer than what is held in memory.
func exportAudit(ctx context.Context, api *client.Client, query map[string][]string, format string, to io.Writer) error {
	const page = 500
	table := csv.NewWriter(to)
	if format == "csv" {
		header := []string{"number", "at", "by", "through", "action", "kind", "id", "change", "request", "before", "after", "hash"}
		if err := table.Write(header); err != nil {
			return err
		}
	}
	query["limit"] = []string{fmt.Sprint(page)}
	for {
		list, err := client.Get[[]wire.AuditRecord](ctx, api, "/audit", query)
		if err != nil {
			return err
		}
		for _, r := range list {
			if format == "csv" {
				err = table.Write([]string{
					fmt.Sprint(r.Seq), r.At.Format(time.RFC3339Nano), report.Cell(r.By), r.Via, r.Action, r.Kind, report.Cell(r.ID), r.Change, r.Request,
					report.Cell(r.Before), report.Cell(r.After), r.Hash,
				})
			} else {
				err = printJSON(to, r)
			}
			if err != nil {
				return err
			}
		}
		if len(list) < page {
			table.Flush()
			return table.Error()
		}
		query["below"] = []string{fmt.Sprint(list[len(list)-1].Seq)}
	}
}

func auditVerifyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "say whether the audit log is as it was written",
		Description: "Every record carries a hash over itself and the record before, and checkpoints sign these hashes. Without " +
			"--database\n" +
			"the service verifies its own log. With --database a file is read here, which may be a copy; --key is needed then.\n" +
			"Checkpoints that were kept elsewhere protect against whoever has the database and the signing key.\n" +
			"Exit status: 0 the log is intact, 1 it is not.\n\n" +
			"Examples:\n  zridge audit verify\n  zridge audit verify --copies checkpoints.jsonl\n" +
			"  zridge audit verify --database zridge.db --key audit.pub --copies checkpoints.jsonl",
		Flags: []cli.Flag{
			formatFlag("text", "json"),
			&cli.StringFlag{Name: "database", Usage: "`FILE` of the database, or of a copy", TakesFile: true},
			&cli.StringFlag{Name: "key", Usage: "`FILE` with the public keys by which the log was signed, in PEM", TakesFile: true},
			&cli.StringFlag{Name: "copies", Usage: "`FILE` of checkpoints that were kept elsewhere, a JSON object " +
				"on each line", TakesFile: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return usage("audit verify: found %s, expected no arguments", problem.Quote(c.Args().First()))
			}
			copies, err := readCheckpoints(c.String("copies"))
			if err != nil {
				return err
			}
			var found audit.Verification
			if c.String("database") != "" {
				found, err = verifyFile(c, copies)
			} else {
				err = asked(s, 0, "no arguments", func(ctx context.Context, _ *cli.Command, api *client.Client) (err error) {
					found, err = client.Post[audit.Verification](ctx, api, "/audit/verification", wire.AuditCopies{Checkpoints: copies})
					return err
				})(ctx, c)
			}
			if err != nil {
				return err
			}
			if err := printed(s, c, found, func() { printVerification(s, found) }); err != nil || found.Intact() {
				return err
			}
			return &exitError{exitFault, ""}
		},
	}
}

// verifyFile verifies the log in a database file.
func verifyFile(c *cli.Command, copies []audit.Checkpoint) (v audit.Verification, err error) {
	if c.String("key") == "" {
		return v, usage("audit verify: --database needs --key FILE, which is audit.pub beside the service's database")
	}
	text, err := os.ReadFile(c.String("key"))
	if err != nil {
		return v, err
	}
	keys, err := service.ReadPublicKeys(text)
	if err != nil {
		return v, fmt.Errorf("%s: %w", c.String("key"), err)
	}
	return service.VerifyAudit(c.String("database"), keys, copies)
}

// maxCheckpointLine is the number of bytes of the longest line that is read: a checkpoint has about
// 300.
const maxCheckpointLine = 64 << 10

// readCheckpoints reads a file of checkpoints, a JSON object on each line; none without a name.
func readCheckpoints(name string) (list []audit.Checkpoint, err error) {
	list = []audit.Checkpoint{}
	if name == "" {
		return list, nil
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, maxCheckpointLine)
	for n := 1; lines.Scan(); n++ {
		if strings.TrimSpace(lines.Text()) == "" {
			continue
		}
		var c audit.Checkpoint
		if err := json.Unmarshal(lines.Bytes(), &c); err != nil || c.Number < 1 {
			return nil, fmt.Errorf("%s:%d: found no checkpoint, expected a JSON object with number, hash, at, key and signature", name, n)
		}
		list = append(list, c)
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return nil, fmt.Errorf("%s: a line is longer than %d bytes, expected a checkpoint on each line", name, maxCheckpointLine)
	}
	return list, lines.Err()
}

func printVerification(s Streams, v audit.Verification) {
	if !v.Intact() {
		what := map[audit.Fault]string{
			audit.Altered: "was altered", audit.Missing: "does not follow the record before: records " +
				"are missing", audit.Inserted: "was inserted",
			audit.BadCheckpoint: "has a checkpoint that is not good", audit.Shortened: "is missing at the end of the log",
		}
		fmt.Fprintf(s.Out, "The audit log is not as it was written. Record %d %s: %s.\n", v.At, what[v.Fault], v.Detail)
		return
	}
	if v.Records == 0 {
		fmt.Fprintln(s.Out, "The audit log is empty.")
		return
	}
	fmt.Fprintf(s.Out, "The audit log is as it was written: %s, %d to %d.\n", counted(v.Records, "record"), v.First, v.Last)
	if v.Unchained > 0 {
		fmt.Fprintf(s.Out, "The first %s were written before records had hashes and cannot be verified.\n", counted(v.Unchained, "record"))
	}
	if v.Covered == 0 {
		fmt.Fprintln(s.Out, "No checkpoint signs it yet. The service signs it every hour and when it stops.")
		return
	}
	fmt.Fprintf(s.Out, "%s compared. The last one signs record %d, on %s.\n", counted(v.Checkpoints, "checkpoint"), v.Covered,
		v.CoveredAt.Local().Format("2006-01-02 15:04:05"))
}

func auditCheckpointsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "checkpoints", Usage: "print the signed hashes of the audit log, a JSON object on each line, to keep them elsewhere",
		Description: "Example:\n  zridge audit checkpoints > checkpoints.jsonl",
		Action: asked(s, 0, "no arguments", func(ctx context.Context, _ *cli.Command, api *client.Client) error {
			list, err := client.Get[[]audit.Checkpoint](ctx, api, "/audit/checkpoints", nil)
			for _, c := range list {
				if err := printJSON(s.Out, c); err != nil {
					return err
				}
			}
			return err
		}),
	}
}
