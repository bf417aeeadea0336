// This file reads values as people type them: 15, on, 2h, a,b, @file.

package command

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// valueReader reads values for settings of the service; a file that a value names is added to it.
type valueReader struct {
	api           *client.Client
	acceptExpired bool
	said          func(format string, args ...any) // what was read out of a file
}

// read makes a value of text for a shape.
func (r *valueReader) read(
	ctx context.Context,
	what string,
	shape files.ShapeDoc,
	columns []files.ColumnDoc,
	text string,
) (setting.Value, error) {
	wrong := func(expected string) error {
		return usage("%s: found %s, expected %s", what, problem.Quote(text), expected)
	}
	switch setting.Type(shape.Type) {
	case setting.TypeBool:
		switch strings.ToLower(text) {
		case "true", "on", "yes":
			return setting.BoolValue(true), nil
		case "false", "off", "no":
			return setting.BoolValue(false), nil
		}
		return setting.Value{}, wrong("on or off")
	case setting.TypeInteger:
		n, err := readNumber(text, shape.Measure)
		if err != nil {
			return setting.Value{}, wrong(err.Error())
		}
		return setting.IntegerValue(n), nil
	case setting.TypeList:
		if path, isFile := strings.CutPrefix(text, "@"); isFile {
			data, err := os.ReadFile(path)
			if err != nil {
				return setting.Value{}, err
			}
			return setting.ListValue(linesOf(string(data))), nil
		}
		return setting.ListValue(linesOf(strings.ReplaceAll(text, ",", "\n"))), nil
	case setting.TypeFile:
		return r.file(ctx, what, shape.Content, text)
	case setting.TypeTable:
		return r.table(ctx, what, columns, text)
	}
	return setting.TextValue(text), nil
}

// linesOf gives the lines of a text without blanks around them, empty ones and repeats.
func linesOf(text string) []string {
	out := []string{}
	seen := map[string]bool{}
	for line := range strings.SplitSeq(text, "\n") {
		if line = strings.TrimSpace(line); line != "" && !seen[line] {
			seen[line] = true
			out = append(out, line)
		}
	}
	return out
}

var numberWithUnit = regexp.MustCompile(`^(-?[0-9]+)\s*([A-Za-z]*)$`)

// unitsOf says how many of a measure a unit is.
var unitsOf = map[string]map[string]int64{
	"seconds": {"": 1, "s": 1, "seconds": 1, "m": 60, "min": 60, "minutes": 60, "h": 3600},
	"minutes": {"": 1, "m": 1, "min": 1, "minutes": 1, "h": 60, "hours": 60, "d": 1440, "days": 1440},
	"hours":   {"": 1, "h": 1, "hours": 1, "d": 24, "days": 24, "w": 168},
	"days":    {"": 1, "d": 1, "days": 1, "w": 7, "weeks": 7, "y": 365, "years": 365},
	"MB":      {"": 1, "mb": 1, "gb": 1000},
	"GB":      {"": 1, "gb": 1, "tb": 1000},
}

func readNumber(text, measure string) (int64, error) {
	parts := numberWithUnit.FindStringSubmatch(strings.TrimSpace(text))
	expected := "a whole number"
	if measure != "" {
		expected += " of " + measure
	}
	if parts == nil {
		return 0, fmt.Errorf("%s", expected)
	}
	factor, known := unitsOf[measure][strings.ToLower(parts[2])]
	if !known && (parts[2] == "" || strings.EqualFold(parts[2], measure)) {
		factor, known = 1, true
	}
	n, err := strconv.ParseInt(parts[1], 10, 64)
	if !known || err != nil || n > (1<<62)/factor || n < -(1<<62)/factor {
		return 0, fmt.Errorf("%s", expected)
	}
	return n * factor, nil
}

// upload adds a file to the service, and says what was read out of it.
func (r *valueReader) upload(ctx context.Context, what, content, path string) (wire.File, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return wire.File{}, fmt.Errorf("%s: %w", what, err)
	}
	f, err := r.api.AddFile(ctx, filepath.Base(path), content, data, r.acceptExpired, false)
	if err == nil {
		r.said("%s", describeFile(f))
	}
	return f, err
}

// file gives a file as a value; @ before its path may be left out, and one that is kept already may
// be named by its SHA-256.
func (r *valueReader) file(ctx context.Context, what, content, path string) (setting.Value, error) {
	path = strings.TrimPrefix(path, "@")
	if setting.IsSHA256(path) {
		return setting.FileValue(setting.File{SHA256: path}), nil
	}
	f, err := r.upload(ctx, what, content, path)
	if err != nil {
		return setting.Value{}, err
	}
	return setting.FileValue(setting.File{SHA256: f.SHA256, Name: f.Name, Size: f.Size}), nil
}

// table reads rows: JSON, a CSV file with the columns' names in its header, a certificate to put
// into a row of its own, or an application's file with the other columns behind it:
// @helpline.exe,permission=camera,decision=allow.
func (r *valueReader) table(ctx context.Context, what string, columns []files.ColumnDoc, text string) (setting.Value, error) {
	path, isFile := strings.CutPrefix(text, "@")
	switch {
	case strings.HasPrefix(text, "["):
		var v setting.Value
		if err := json.Unmarshal([]byte(text), &v); err != nil || v.Kind() != setting.Table && len(v.Items()) > 0 {
			return setting.Value{}, usage("%s: found %s, expected JSON: a list of objects", what, problem.Quote(text))
		}
		return v, nil
	case isFile && strings.HasSuffix(path, ".csv"):
		return r.tableFile(ctx, what, columns, path)
	}
	row := setting.Row{}
	for i, part := range strings.Split(text, ",") {
		name, cell, named := strings.Cut(part, "=")
		if i == 0 && isFile {
			if rows, err := r.chain(ctx, what, columns, part); rows != nil || err != nil {
				return setting.TableValue(rows), err
			}
			if err := r.fromFile(ctx, what, columns, part, row); err != nil {
				return setting.Value{}, err
			}
			continue
		}
		column := columnOf(columns, strings.TrimSpace(name))
		if !named || column == nil {
			return setting.Value{}, usage(
				"%s: found %s, expected COLUMN=VALUE with one of %s, a CSV file as @FILE.csv, or JSON",
				what,
				problem.Quote(part),
				columnNames(columns),
			)
		}
		v, err := r.read(ctx, what+"/"+column.Name, column.ShapeDoc, nil, strings.TrimSpace(cell))
		if err != nil {
			return setting.Value{}, err
		}
		row[column.Name] = v
	}
	return setting.TableValue([]setting.Row{row}), nil
}

// chain splits a file with several certificates, for a column that holds authorities: each that the
// column takes gets a row, and of the others it is said where they belong. It gives no rows where
// there is nothing to split.
func (r *valueReader) chain(ctx context.Context, what string, columns []files.ColumnDoc, part string) ([]setting.Row, error) {
	at := slices.IndexFunc(columns, func(c files.ColumnDoc) bool { return c.Store != "" })
	if at < 0 {
		return nil, nil
	}
	path := strings.TrimPrefix(part, "@")
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	parts := contents.SplitChain(data)
	var rows []setting.Row
	for i, one := range parts {
		name := fmt.Sprintf("%s-%d.pem", strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), i+1)
		f, err := r.api.AddFile(ctx, name, columns[at].Content, one, r.acceptExpired, false)
		if err != nil {
			return nil, err
		}
		c := &f.Reading.Certificates[0]
		if root := columns[at].Store == string(setting.StoreRoots); !c.Authority || c.SelfSigned != root {
			r.said("left out of the chain: %s is %s", c.Subject, c.Rank())
			continue
		}
		r.said("%s", describeFile(f))
		rows = append(rows, setting.Row{columns[at].Name: setting.FileValue(setting.File{SHA256: f.SHA256, Name: f.Name, Size: f.Size})})
	}
	if len(parts) > 0 && len(rows) == 0 {
		return nil, usage("%s: none of the %d certificates in %s belongs there", what, len(parts), path)
	}
	return rows, nil
}

// fromFile fills the columns of a row that a file's contents say: the file itself, or the facts of
// an application.
func (r *valueReader) fromFile(ctx context.Context, what string, columns []files.ColumnDoc, part string, row setting.Row) error {
	for i := range columns {
		c := &columns[i]
		if c.Type == setting.TypeFile && c.Required {
			v, err := r.file(ctx, what, c.Content, part)
			row[c.Name] = v
			return err
		}
	}
	f, err := r.upload(ctx, what, string(setting.ApplicationFile), strings.TrimPrefix(part, "@"))
	if err != nil {
		return err
	}
	a := f.Reading.Application
	facts := map[string]string{"name": a.Name, "identifier": a.Identifier, "version": a.Version, "signer": a.Signer}
	filled := false
	for i := range columns {
		if fact := facts[columns[i].Reads]; fact != "" {
			row[columns[i].Name] = setting.TextValue(fact)
			filled = true
		}
	}
	if !filled {
		return usage("%s: found a file, expected COLUMN=VALUE: no column of this table is read from files", what)
	}
	return nil
}

func (r *valueReader) tableFile(ctx context.Context, what string, columns []files.ColumnDoc, path string) (setting.Value, error) {
	f, err := os.Open(path)
	if err != nil {
		return setting.Value{}, err
	}
	defer f.Close()
	records, err := csv.NewReader(f).ReadAll()
	if err != nil || len(records) == 0 {
		return setting.Value{}, usage("%s: %s can't be read as CSV with a header: %v", what, path, err)
	}
	var rows []setting.Row
	for i, record := range records[1:] {
		row := setting.Row{}
		for j, cell := range record {
			column := columnOf(columns, records[0][j])
			if column == nil {
				return setting.Value{}, usage(
					"%s: %s has the column %s, expected one of %s",
					what,
					path,
					problem.Quote(records[0][j]),
					columnNames(columns),
				)
			}
			if cell == "" {
				continue
			}
			v, err := r.read(ctx, fmt.Sprintf("%s: row %d/%s", what, i+1, column.Name), column.ShapeDoc, nil, cell)
			if err != nil {
				return setting.Value{}, err
			}
			row[column.Name] = v
		}
		rows = append(rows, row)
	}
	return setting.TableValue(rows), nil
}

func columnOf(columns []files.ColumnDoc, name string) *files.ColumnDoc {
	for i := range columns {
		if columns[i].Name == name {
			return &columns[i]
		}
	}
	return nil
}

func columnNames(columns []files.ColumnDoc) string {
	names := make([]string, len(columns))
	for i := range columns {
		names[i] = columns[i].Name
	}
	return strings.Join(names, ", ")
}

// describeFile says what was read out of a file, in lines.
func describeFile(f wire.File) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %d bytes  sha256 %s", f.Name, f.Size, f.SHA256)
	for _, c := range f.Reading.Certificates {
		kind := "certificate"
		if c.Authority {
			kind = "authority"
		}
		if c.SelfSigned {
			kind += ", self-signed"
		}
		fmt.Fprintf(
			&b,
			"\n  %s: %s\n    issued by %s, serial %s, %s\n    valid %s to %s, fingerprint %s",
			kind,
			c.Subject,
			c.Issuer,
			c.Serial,
			c.Key,
			c.NotBefore.Format("2006-01-02"),
			c.NotAfter.Format("2006-01-02"),
			c.SHA256,
		)
	}
	if r := f.Reading.Rules; r != nil {
		fmt.Fprintf(&b, "\n  rule set %s %s: %s, otherwise %s", r.ID, r.Title, counted(len(r.Rules), "rule"), r.Otherwise)
	}
	if a := f.Reading.Application; a != nil {
		fmt.Fprintf(
			&b,
			"\n  application %s %s\n    identifier %s, signed by %s (%s), for %s, read from %s",
			a.Name,
			a.Version,
			a.Identifier,
			orDefault(a.Signer, "nobody named"),
			a.Signed,
			a.Platform,
			a.Source,
		)
	}
	for _, w := range f.Reading.Warnings {
		fmt.Fprintf(&b, "\n  note: %s", w)
	}
	return b.String()
}
