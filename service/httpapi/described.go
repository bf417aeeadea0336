// This file describes, in the API document, what is answered in other forms than JSON, and the
// operations whose bodies are passed on as they come, which are handled outside of huma.

package httpapi

import (
	"net/http"
	"reflect"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
)

// answers says in which media types an operation answers instead of JSON alone.
func answers(media ...string) func(*huma.Operation) {
	return func(op *huma.Operation) {
		content := map[string]*huma.MediaType{}
		for _, kind := range media {
			schema := &huma.Schema{Type: huma.TypeString}
			switch kind {
			case "application/octet-stream":
				schema.Format = "binary"
			case "application/json":
				schema = &huma.Schema{} // any
			}
			content[kind] = &huma.MediaType{Schema: schema}
		}
		op.Responses = map[string]*huma.Response{strconv.Itoa(http.StatusOK): {Description: http.StatusText(http.StatusOK), Content: content}}
	}
}

// describePassedOn adds what Gin hands to its handlers directly: a list that is written as it is
// read, and a table that is read as it comes.
func (s *server) describePassedOn() {
	doc := s.api.OpenAPI()
	text := func(name, in, says string) *huma.Param {
		return &huma.Param{Name: name, In: in, Description: says, Required: in == "path", Schema: &huma.Schema{Type: huma.TypeString}}
	}
	export := operation(
		"exportList",
		http.MethodGet,
		"/exports/{of}",
		"A list of devices or people as CSV (RFC 4180): the rows, the order and the columns that are asked for",
		answers("text/csv"),
	)
	of := text("of", "path", "devices or people")
	export.Parameters = []*huma.Param{
		of, text("columns", "query", "Names of fields, with commas between; without it id"), text("q", "query", "Words"),
		text("where", "query", "A field, an operator and a value; may be repeated"), text("sort", "query", "A field, with - before "+
			"it downwards"),
		text("unit", "query", "Of devices"), text("os", "query", "Of devices"), text("group", "query", "Of devices"),
		text("state", "query", "Of devices"),
	}
	upload := operation(
		"uploadTable",
		http.MethodPost,
		"/sources/{id}/tables",
		"Send a table to a source that takes tables, as CSV of 512 MiB at most",
		needs(access.Sources),
	)
	upload.Parameters = []*huma.Param{
		text("id", "path", "Of the source"), text("name", "query", "Of the file"),
		{Name: "look", In: "query", Description: "Say what taking it would do, and take nothing", Schema: &huma.Schema{Type: huma.TypeBoolean}},
	}
	upload.RequestBody = &huma.RequestBody{
		Required: true,
		Content:  map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}
	run := doc.Components.Schemas.Schema(reflect.TypeFor[wire.SourceRun](), true, "SourceRun")
	upload.Responses = map[string]*huma.Response{strconv.Itoa(http.StatusOK): {
		Description: http.StatusText(http.StatusOK), Content: map[string]*huma.MediaType{"application/json": {Schema: run}},
	}}
	problem := doc.Components.Schemas.Schema(reflect.TypeFor[wire.Problem](), true, "Problem")
	for _, op := range []*huma.Operation{&export, &upload} {
		for _, code := range op.Errors {
			op.Responses[strconv.Itoa(code)] = &huma.Response{
				Description: http.StatusText(code), Content: map[string]*huma.MediaType{"application/problem+json": {Schema: problem}},
			}
		}
		doc.AddOperation(op)
	}
}
