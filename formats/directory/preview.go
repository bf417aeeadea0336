// This file looks at a table before it is set up: what its columns hold, and what they would be
// called.

package directory

import (
	"io"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// TablePreview is the beginning of a table, with a mapping that may fit.
type TablePreview struct {
	Encoding  string     `json:"encoding"`
	Separator string     `json:"separator"`
	Header    []string   `json:"header"`
	Rows      [][]string `json:"rows" doc:"The first twenty"`
	Table     Table      `json:"table" doc:"A mapping that may fit"`
}

// Look reads the beginning of a table and suggests a mapping. The error is a problem.Faults.
func Look(of estate.Kind, name string, in io.Reader, encoding string) (*TablePreview, error) {
	stream, encoding, err := text(in, encoding)
	if err != nil {
		return nil, problem.Faults{
			{
				Code:     problem.NotOneOf,
				Path:     "/query/encoding",
				Found:    problem.Quote(encoding),
				Expected: "a character set as IANA names it, such as utf-8 or iso-8859-1",
			},
		}
	}
	rows, separator := rowsOf(stream, "")
	p := &TablePreview{
		Encoding:  encoding,
		Separator: string(separator),
		Header:    []string{},
		Rows:      [][]string{},
		Table:     Table{Of: of, Columns: map[string]string{}, Whole: true},
	}
	if separator == '\t' {
		p.Separator = "tab"
	}
	if encoding != "utf-8" {
		p.Table.Encoding = encoding
	}
	for len(p.Rows) < previewRows {
		cells, err := rows.Read()
		if err != nil {
			if len(p.Header) > 0 { // cut off where the beginning ends
				break
			}
			return nil, problem.Faults{unreadable(name, err)}
		}
		if f, bad := notText(name, rows, cells); bad {
			return nil, problem.Faults{f}
		}
		if len(p.Header) == 0 {
			p.Header = append(p.Header, cells...)
			continue
		}
		p.Rows = append(p.Rows, slices.Clone(cells))
	}
	p.suggest()
	return p, nil
}

func (p *TablePreview) suggest() {
	taken := map[string]bool{}
	for _, column := range p.Header {
		plain := strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, strings.ToLower(column))
		for _, field := range p.Table.Fields() {
			if !taken[field] && slices.Contains(words[field], plain) && p.Table.Columns[column] == "" {
				p.Table.Columns[column] = field
				taken[field] = true
			}
		}
		if slug := factName(column); p.Table.Columns[column] == "" && slug != "" && !slices.Contains(estate.DeviceNames, slug) &&
			!slices.Contains(estate.PersonNames, slug) {
			p.Table.Columns[column] = p.Table.prefix() + slug
		}
	}
	switch {
	case p.Table.Of == estate.KindDevice && taken["serial"]:
		p.Table.Key = "serial"
	case p.Table.Of == estate.KindPerson && taken["mail"] && !taken["id"]:
		p.Table.Key = "mail"
	default:
		p.Table.Key = "id"
	}
}

// factName makes a name that rules can use of a column's.
func factName(column string) string {
	out := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(strings.TrimSpace(column))), "_")
	for strings.Contains(out, "__") {
		out = strings.ReplaceAll(out, "__", "_")
	}
	if out == "" || out[0] >= '0' && out[0] <= '9' {
		return ""
	}
	return out
}
