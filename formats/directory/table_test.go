package directory_test

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	. "zenithridge.example/zridge/formats/directory"
)

// inventory is a mapping as somebody sets it up for a table with columns of their own.
func inventory() Table {
	return Table{Of: estate.KindDevice, Key: "serial", Whole: true, Columns: map[string]string{
		"Serial No":   "serial",
		"System":      "os",
		"Release":     "os_version",
		"Assigned to": "owner",
		"Site":        "unit",
		"Model":       "model",
		"RAM":         "facts/ram_gb",
		"Chip":        "facts/chip",
		"Tags":        "tags",
		"Bought for":  "",
	}}
}

const header = "Serial No,System,Release,Assigned to,Site,Model,RAM,Chip,Tags,Bought for\n"

func read(t *testing.T, table Table, text string) (*Reading, problem.Faults) {
	t.Helper()
	r, err := table.Read("laptops.csv", strings.NewReader(text))
	var faults problem.Faults
	if err != nil && !errors.As(err, &faults) {
		t.Fatalf("%v", err)
	}
	return r, faults
}

func TestRowsBecomeRecords(t *testing.T) {
	r, faults := read(t, inventory(), header+
		"S-1,Linux,12.4,ines@larkfell.example,Slipway,Halyard 14,16,true,\"field, bench\",secret\n"+
		"\n"+
		"\"S-\"\"2\",macos, 14.1 ,,,,007,,,\n")
	if faults != nil || len(r.Faults) > 0 || len(r.Records) != 2 || !r.Full {
		t.Fatalf("%v %v %+v", faults, r.Faults, r)
	}
	a, b := r.Records[0], r.Records[1]
	facts := a.Fields["facts"].(map[string]any)
	if a.Key != "s-1" || a.Wants != "S-1" || a.Fields["os"] != "linux" || a.Owner.Name != "ines@larkfell.example" ||
		a.Unit.Name != "Slipway" ||
		facts["ram_gb"] != int64(16) ||
		facts["chip"] != true ||
		!slices.Equal(a.Fields["tags"].([]string), []string{"field", "bench"}) ||
		a.Line != 2 {
		t.Errorf("the first: %+v", a)
	}
	if b.Fields["serial"] != `S-"2` || b.Wants != "S-2" || b.Fields["os_version"] != "14.1" ||
		b.Fields["facts"].(map[string]any)["ram_gb"] != "007" ||
		b.Line != 4 {
		t.Errorf("the second: %+v", b)
	}
	if fmt.Sprint(r.Records) != fmt.Sprint(func() []Record {
		again, _ := read(
			t,
			inventory(),
			strings.ReplaceAll(
				header+"S-1,Linux,12.4,ines@larkfell.example,Slipway,Halyard 14,16,true,\"field, bench\",secret\n\n"+
					"\"S-\"\"2\",macos, 14.1 "+
					",,,,007,,,\n",
				"\n",
				"\r\n",
			),
		)
		return again.Records
	}()) {
		t.Error("other ends of lines give other records")
	}
}

// TestFaultsOfRowsSayWhere holds each fault to its line and column; the other rows are read all the
// same.
func TestFaultsOfRowsSayWhere(t *testing.T) {
	r, faults := read(t, inventory(), header+
		"S-1,linux,12,,,,,,,\n"+
		"S-2,toaster,12,,,,,,,\n"+
		"S-3,linux,,,,,,,,\n"+
		"S-4,linux,12\n"+
		",linux,12,,,,,,,\n"+
		"s-1,linux,12,,,,,,,\n"+
		"S-5,linux,12,,,"+strings.Repeat("x", MaxCell+1)+",,,,\n"+
		"S-6,linux,12,,,,,,,\n")
	if faults != nil {
		t.Fatal(faults)
	}
	var got []string
	for _, f := range r.Faults {
		got = append(got, fmt.Sprintf("%d:%d %s", f.Place.Line, f.Place.Column, f.Code))
	}
	want := []string{"3:5 not-one-of", "4:11 missing-field", "5:1 cell-count", "6:1 missing-field", "7:1 doubled-id", "8:16 out-of-range"}
	if !slices.Equal(got, want) {
		t.Errorf("faults are %q, expected %q", got, want)
	}
	var good []string
	for _, rec := range r.Records {
		if !rec.Faulty {
			good = append(good, rec.Key)
		}
	}
	if !slices.Equal(good, []string{"s-1", "s-6"}) || r.Full {
		t.Errorf("taken: %v; with a row that nobody can tell, everything else counts as gone: %v", good, r.Full)
	}
}

// TestTablesThatCantBeRead are refused as a whole, with the place.
func TestTablesThatCantBeRead(t *testing.T) {
	row := "S-1,linux,12,,,,,,,\n"
	endless := header + "\"" + strings.Repeat("never closed, ", 200_000)
	for name, c := range map[string]struct{ text, want string }{
		"nothing":                        {"", "syntax 1:1"},
		"a column that is not there":     {strings.Replace(header, "Serial No", "Serial", 1) + row, "missing-field 1:1"},
		"a header doubled":               {strings.Replace(header, "Model", "Site", 1) + row, "doubled-field 1:43"},
		"a bare quote":                   {header + "S\"1,linux,12,,,,,,,\n", "syntax 2:2"},
		"a quote that is never closed":   {endless, "too-large 1:1"},
		"another encoding":               {header + "S-1,linux,12,,Sl\xeepway,,,,,\n", "encoding 2:17"},
		"UTF-16 without its mark":        {"S\x00e\x00r\x00i\x00a\x00l\x00", "encoding 1:2"},
		"another encoding in the header": {"S\xe9rial,b\n", "encoding 1:2"},
	} {
		_, faults := read(t, inventory(), c.text)
		if len(faults) == 0 {
			t.Errorf("%s: it was read", name)
			continue
		}
		if got := fmt.Sprintf("%s %d:%d", faults[0].Code, faults[0].Place.Line, faults[0].Place.Column); got != c.want ||
			faults[0].Expected == "" {
			t.Errorf("%s: %s %v, expected %s", name, got, faults[0], c.want)
		}
	}
	many := inventory()
	_, err := many.Read("x.csv", io.MultiReader(strings.NewReader(header), &rows{n: MaxRows + 1}))
	if err == nil || !strings.Contains(err.Error(), "250000 rows") {
		t.Errorf("too many rows: %v", err)
	}
}

// rows is a table of any length.
type rows struct{ n, at int }

func (r *rows) Read(p []byte) (int, error) {
	if r.at == r.n {
		return 0, io.EOF
	}
	r.at++
	return copy(p, fmt.Sprintf("S-%d,linux,12,,,,,,,\n", r.at)), nil
}

func TestEncodingsAndSeparators(t *testing.T) {
	text := header + "S-1,linux,12,,Crèche,,,,,\n"
	wide := func(big bool) string {
		var b strings.Builder
		for _, u := range utf16.Encode([]rune("\ufeff" + text)) {
			if big {
				b.WriteString(string([]byte{byte(u >> 8), byte(u)}))
			} else {
				b.WriteString(string([]byte{byte(u), byte(u >> 8)}))
			}
		}
		return b.String()
	}
	latin := strings.ReplaceAll(text, "è", "\xe8")
	for name, c := range map[string]struct {
		text   string
		adjust func(*Table)
	}{
		"UTF-8 with a mark":    {"\ufeff" + text, func(*Table) {}},
		"UTF-16":               {wide(false), func(*Table) {}},
		"UTF-16 big end":       {wide(true), func(*Table) {}},
		"Latin, named":         {latin, func(table *Table) { table.Encoding = "iso-8859-1" }},
		"semicolons":           {strings.ReplaceAll(text, ",", ";"), func(*Table) {}},
		"tabs":                 {strings.ReplaceAll(text, ",", "\t"), func(*Table) {}},
		"bars, named":          {strings.ReplaceAll(text, ",", "|"), func(table *Table) { table.Separator = "|" }},
		"commas within quotes": {strings.Replace(strings.ReplaceAll(text, ",", ";"), "Model", `"Model"`, 1), func(*Table) {}},
	} {
		table := inventory()
		c.adjust(&table)
		r, faults := read(t, table, c.text)
		if faults != nil || len(r.Faults) > 0 || r.Records[0].Unit.Name != "Crèche" {
			t.Errorf("%s: %v %v", name, faults, r)
		}
	}
}

func TestMappingsAreChecked(t *testing.T) {
	for name, c := range map[string]struct {
		alter func(*Table)
		code  problem.Code
	}{
		"neither":                     {func(t *Table) { t.Of = "groups" }, problem.NotOneOf},
		"a field that is none":        {func(t *Table) { t.Columns["Model"] = "colour" }, problem.NotOneOf},
		"a field twice":               {func(t *Table) { t.Columns["Model"] = "unit" }, problem.DoubledField},
		"a fact with a field's name":  {func(t *Table) { t.Columns["RAM"] = "facts/serial" }, problem.ReservedName},
		"a fact without a name":       {func(t *Table) { t.Columns["RAM"] = "facts/" }, problem.BadID},
		"no column for the key":       {func(t *Table) { delete(t.Columns, "Serial No") }, problem.MissingField},
		"a key that is none":          {func(t *Table) { t.Key = "mail" }, problem.NotOneOf},
		"no column for the system":    {func(t *Table) { delete(t.Columns, "System") }, problem.MissingField},
		"an encoding that is unknown": {func(t *Table) { t.Encoding = "utf-9" }, problem.NotOneOf},
	} {
		table := inventory()
		c.alter(&table)
		if faults := table.Check(); len(faults) != 1 || faults[0].Code != c.code {
			t.Errorf("%s: %v", name, faults)
		}
	}
}

func TestAPreviewSuggestsAMapping(t *testing.T) {
	p, err := Look(
		estate.KindDevice,
		"x.csv",
		strings.NewReader("Serial Number;Operating System;OS Version;Primary User;Department;RAM (GB);Serial\n"+
			"S-1;linux;12;ines;Slipway;16;x\n"),
		"",
	)
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"Serial Number":    "serial",
		"Operating System": "os",
		"OS Version":       "os_version",
		"Primary User":     "owner",
		"Department":       "unit",
		"RAM (GB)":         "facts/ram_gb",
	}
	for column, field := range want {
		if p.Table.Columns[column] != field {
			t.Errorf("%s became %q, expected %q", column, p.Table.Columns[column], field)
		}
	}
	if p.Separator != ";" || p.Table.Key != "serial" || len(p.Rows) != 1 || p.Rows[0][4] != "Slipway" || len(p.Table.Check()) != 0 {
		t.Errorf("%+v %v", p, p.Table.Check())
	}
	if p, err := Look(
		estate.KindPerson,
		"x.csv",
		strings.NewReader("Name,Email\nInes,ines@larkfell.example\n"),
		"",
	); err != nil || p.Table.Key != "mail" ||
		len(p.Table.Check()) != 0 {
		t.Errorf("people: %+v %v", p, err)
	}
	if _, err := Look(estate.KindPerson, "x.csv", strings.NewReader("Name\nIn\xeas\n"), ""); err == nil ||
		!strings.Contains(err.Error(), "encoding") {
		t.Errorf("another encoding: %v", err)
	}
	if _, err := Look(estate.KindPerson, "x.csv", strings.NewReader("x"), "utf-9"); err == nil {
		t.Error("an unknown encoding was taken")
	}
}

// FuzzTable must never fail otherwise than with faults.
func FuzzTable(f *testing.F) {
	f.Add(header + "S-1,linux,12,,,,,,,\n")
	f.Add("\xff\xfe,\x00")
	f.Fuzz(func(t *testing.T, text string) {
		table := inventory()
		r, err := table.Read("x.csv", strings.NewReader(text))
		var faults problem.Faults
		if err != nil && !errors.As(err, &faults) {
			t.Fatalf("%v", err)
		}
		if err == nil {
			for _, rec := range r.Records {
				if rec.Key == "" {
					t.Error("a record without a key")
				}
			}
		}
	})
}
