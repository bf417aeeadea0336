// This file has the lists of devices and people: filtered by any fact, sorted, in columns that
// people choose, and exported.

package httpapi

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

type personQuery struct {
	Text    string   `query:"q" maxLength:"200" doc:"Words that are all in it"`
	Where   []string `query:"where,explode" doc:"Conditions, all of which must hold: attributes/department=Charts|Survey, devices>=2, unit=slipway" maxItems:"20"`
	Columns []string `query:"columns" doc:"Fields that are given besides" maxItems:"60"`
	Sort    string   `query:"sort" maxLength:"200" doc:"A field; with - in front the other way round" default:"id"`
	Cursor  string   `query:"cursor"`
	Limit   int      `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (s *server) registerLists() {
	huma.Register(s.api, operation("listPeople", http.MethodGet, "/people", "People, with how many devices each owns"), s.listPeople)
	huma.Register(s.api, operation("getPerson", http.MethodGet, "/people/{id}", "All that is known of a person"), s.getPerson)
	huma.Register(
		s.api,
		operation(
			"listFields",
			http.MethodGet,
			"/fields/{of}",
			"Fields by which devices or people are filtered, with their most frequent values",
		),
		s.listFields,
	)
	huma.Register(s.api, operation("listViews", http.MethodGet, "/views", "Lists as you keep them, and those that "+
		"others share"), s.listViews)
	huma.Register(
		s.api,
		operation("saveView", http.MethodPost, "/views", "Keep a list as you look at it", status(http.StatusCreated)),
		s.saveView,
	)
	huma.Register(
		s.api,
		operation("dropView", http.MethodDelete, "/views/{id}", "Take a view of yours away", status(http.StatusNoContent)),
		s.dropView,
	)
}

// table is a list with columns by name.
type table interface {
	Len() int
	ID(i int) string
	Value(i int, field string) setting.Value
	Has(field string) bool
}

// known refuses columns that a list does not have.
func known(list table, columns []string) error {
	var faults problem.Faults
	for i, c := range columns {
		if !list.Has(c) {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.NotOneOf,
					Path:     problem.Join("/query/columns", i),
					Found:    problem.Quote(c),
					Expected: "a field as /fields gives them",
				},
			)
		}
	}
	if faults != nil {
		return faults
	}
	return nil
}

// pagedRows cuts a page out of rows that are made when they are shown.
func pagedRows[W any](n int, cursor string, limit int, item func(i int) W) (wire.Page[W], error) {
	start, end, next, err := pageOf(n, cursor, limit)
	page := wire.Page[W]{Items: make([]W, 0, end-start), Total: n, Next: next}
	for i := start; i < end; i++ {
		page.Items = append(page.Items, item(i))
	}
	return page, err
}

func fieldWire(f listing.Field) wire.Field {
	w := wire.Field{
		Name:     f.Name,
		Kind:     map[setting.ValueKind]string{setting.Integer: "integer", setting.Bool: "bool", setting.List: "list"}[f.Kind],
		Known:    f.Known,
		Distinct: f.Distinct,
		Most:     make([]wire.Tally, len(f.Most)),
	}
	if w.Kind == "" {
		w.Kind = "text"
	}
	for i, m := range f.Most {
		w.Most[i] = wire.Tally{Value: m.Value, Count: m.Rows}
	}
	return w
}

func columnsOf(list table, i int, columns []string) map[string]setting.Value {
	if len(columns) == 0 {
		return nil
	}
	out := make(map[string]setting.Value, len(columns))
	for _, c := range columns {
		if v := list.Value(i, c); !v.IsNothing() {
			out[c] = v
		}
	}
	return out
}

func personWire(list *workflow.PersonList, i int, columns []string) wire.Person {
	p := list.Person(i)
	w := wire.Person{
		ID:         string(p.ID),
		Name:       p.Name,
		Mail:       p.Mail,
		Unit:       string(p.Unit),
		Devices:    int(list.Value(i, "devices").Integer()),
		Attributes: p.Attributes,
		Fields:     columnsOf(list, i, columns),
		Origin:     originWire(list.Origin(i), nil, nil),
	}
	if w.Attributes == nil {
		w.Attributes = map[string]setting.Value{}
	}
	return w
}

func (s *server) personPage(p *workflow.PersonPage) wire.PersonPage {
	w := wire.PersonPage{
		Person: wire.Person{
			ID:         string(p.Person.ID),
			Name:       p.Person.Name,
			Mail:       p.Person.Mail,
			Unit:       string(p.Person.Unit),
			Devices:    len(p.Devices),
			Attributes: p.Person.Attributes,
			Origin:     originWire(p.Origin, p.Brings, p.Local),
		},
		Units: append(
			[]string{},
			p.Units...),
		Groups:  membershipsWire(s.Flow.Live().Plan.Snapshot().Groups, p.Groups),
		Devices: []wire.Device{},
		History: eventsWire(p.History),
	}
	if w.Person.Attributes == nil {
		w.Person.Attributes = map[string]setting.Value{}
	}
	for i := range p.Devices {
		w.Devices = append(w.Devices, deviceOf(&p.Devices[i], s.Flow.Clock()))
	}
	return w
}

func readFields[T any](text string, into *T) {
	if text != "" {
		json.Unmarshal([]byte(text), into) // it was written from the same type
	}
}

// export writes a list as CSV (RFC 4180): exactly the rows, order and columns that are shown.
func (s *server) export(c *gin.Context) {
	if s.signedIn(c); c.IsAborted() {
		return
	}
	if of := c.Param("of"); of != "devices" && of != "people" {
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found "+problem.Quote(of)+", expected devices or people"))
		return
	}
	q := c.Request.URL.Query()
	columns := splitColumns(q.Get("columns"))
	if len(columns) == 0 {
		columns = []string{"id"}
	}
	var list table
	var err error
	if c.Param("of") == "people" {
		list, err = s.Flow.People(
			c.Request.Context(),
			actorOf(c.Request.Context()),
			workflow.PersonFilter{Text: q.Get("q"), Where: q["where"], Sort: q.Get("sort")},
		)
	} else {
		list, err = s.Flow.Devices(c.Request.Context(), actorOf(c.Request.Context()),
			workflow.DeviceFilter{
				Text:  q.Get("q"),
				Where: q["where"],
				Unit:  q.Get("unit"),
				OS:    q.Get("os"),
				Group: q.Get("group"),
				State: q.Get("state"),
				Sort:  q.Get("sort"),
			},
		)
	}
	if err == nil {
		err = known(list, columns)
	}
	if err != nil {
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
		return
	}
	s.recordExport(c.Request.Context(), c.Param("of"))
	c.Header("Content-Type", "text/csv; charset=utf-8; header=present")
	c.Header("Content-Disposition", `attachment; filename="`+c.Param("of")+`.csv"`)
	w := csv.NewWriter(c.Writer)
	w.Write(columns)
	row := make([]string, len(columns))
	for i := range list.Len() {
		for j, column := range columns {
			row[j] = asCell(listing.Plain(list.Value(i, column)))
		}
		if w.Write(row) != nil {
			return // whoever asked has gone
		}
	}
	w.Flush()
}

// recordExport records that somebody took a whole list or the estate. Many exports become one record
// with a count.
func (s *server) recordExport(ctx context.Context, what string) {
	s.Flow.RecordOften(ctx, actorOf(ctx), "export "+what, originOf(ctx).Address)
}

// asCell gives a text, or a number as it is, as a cell of a table.
func asCell(text string) string {
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return report.Cell(text)
}

func splitColumns(text string) (out []string) {
	for _, c := range strings.Split(text, ",") {
		if c = strings.TrimSpace(c); c != "" && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// listPeople handles the operation listPeople: people, with how many devices each owns.
func (s *server) listPeople(ctx context.Context, in *personQuery) (*output[wire.Page[wire.Person]], error) {
	list, err := s.Flow.People(ctx, actorOf(ctx), workflow.PersonFilter{Text: in.Text, Where: in.Where, Sort: in.Sort})
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if err := known(list, in.Columns); err != nil {
		return nil, s.fault(ctx, err)
	}
	page, err := pagedRows(list.Len(), in.Cursor, in.Limit, func(i int) wire.Person { return personWire(list, i, in.Columns) })
	return out(page, s.fault(ctx, err))
}

// getPerson handles the operation getPerson: all that is known of a person.
func (s *server) getPerson(ctx context.Context, in *groupPath) (*output[wire.PersonPage], error) {
	page, err := s.Flow.Person(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.PersonPage]{s.personPage(&page)}, nil
}

// listFields handles the operation listFields: fields by which devices or people are filtered, with
// their most frequent values.
func (s *server) listFields(ctx context.Context, in *struct {
	Of   string   `path:"of" enum:"devices,people"`
	Only []string `query:"only" maxItems:"50"`
	Most int      `query:"most" minimum:"1" maximum:"500" default:"20"`
}) (*output[[]wire.Field], error) {
	fields, err := s.Flow.Fields(ctx, actorOf(ctx), estate.Kind(in.Of), in.Only, in.Most)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	list := make([]wire.Field, len(fields))
	for i, f := range fields {
		list[i] = fieldWire(f)
	}
	return &output[[]wire.Field]{list}, nil
}

// listViews handles the operation listViews: lists as you keep them, and those that others share.
func (s *server) listViews(ctx context.Context, in *struct {
	Page string `query:"page" enum:"devices,people" required:"true"`
}) (*output[[]wire.SavedView], error) {
	rows, err := s.Flow.Views(ctx, actorOf(ctx), in.Page)
	list := make([]wire.SavedView, len(rows))
	for i, v := range rows {
		list[i] = wire.SavedView{ID: v.ID, Page: v.Page, Title: v.Title, Query: v.Query, Owner: v.Owner, Shared: v.Shared}
	}
	return out(list, s.fault(ctx, err))
}

// saveView handles the operation saveView: keep a list as you look at it.
func (s *server) saveView(ctx context.Context, in *struct{ Body wire.NewView }) (*output[wire.SavedView], error) {
	v, err := s.Flow.SaveView(ctx, actorOf(ctx), in.Body.Page, in.Body.Title, in.Body.Query, in.Body.Shared)
	return out(wire.SavedView{ID: v.ID, Page: v.Page, Title: v.Title, Query: v.Query, Owner: v.Owner, Shared: v.Shared}, s.fault(ctx, err))
}

// dropView handles the operation dropView: take a view of yours away.
func (s *server) dropView(ctx context.Context, in *groupPath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.DropView(ctx, actorOf(ctx), in.ID))
}
