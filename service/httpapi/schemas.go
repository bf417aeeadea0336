// This file describes values and objects of the estate in the OpenAPI document.
//
// Package files reads them from requests and says what is wrong and where. The document describes
// them for whoever generates a client, and does not check them a second time: descriptions that
// must not be checked are given as extensions.

package httpapi

import (
	"encoding/json"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// describeEstate registers how types of the estate format are described.
func describeEstate(r huma.Registry) {
	r.RegisterTypeAlias(reflect.TypeFor[setting.Value](), reflect.TypeFor[valueSchema]())
	r.RegisterTypeAlias(reflect.TypeFor[wire.EstateObject](), reflect.TypeFor[objectSchema]())
	r.RegisterTypeAlias(reflect.TypeFor[wire.PolicyObject](), reflect.TypeFor[policySchema]())
	r.RegisterTypeAlias(reflect.TypeFor[files.EntryDoc](), reflect.TypeFor[entrySchema]())
	r.RegisterTypeAlias(reflect.TypeFor[setting.Combine](), reflect.TypeFor[combineSchema]())
	r.RegisterTypeAlias(reflect.TypeFor[setting.Type](), reflect.TypeFor[typeSchema]())
	r.RegisterTypeAlias(reflect.TypeFor[outcome.How](), reflect.TypeFor[howSchema]())
	r.RegisterTypeAlias(reflect.TypeFor[json.Number](), reflect.TypeFor[float64]())
}

// component registers a schema under a name, once, and gives a reference to it.
func component(r huma.Registry, name string, made func() *huma.Schema) *huma.Schema {
	if r.Map()[name] == nil {
		r.Map()[name] = &huma.Schema{} // in the meantime, for schemas that lead back to themselves
		r.Map()[name] = made()
	}
	return &huma.Schema{Ref: "#/components/schemas/" + name}
}

// unchecked describes something as one of several schemas, for the document alone.
func unchecked(description string, oneOf ...*huma.Schema) *huma.Schema {
	return &huma.Schema{Description: description, Extensions: map[string]any{"oneOf": oneOf}}
}

// The words of closed sets that grow, as the core lists them.
type (
	combineSchema struct{} // describes setting.Combine
	typeSchema    struct{} // describes setting.Type
	howSchema     struct{} // describes outcome.How
)

// Schema implements huma.SchemaProvider.
func (combineSchema) Schema(huma.Registry) *huma.Schema { return oneWordOf(setting.Combines()) }

// Schema implements huma.SchemaProvider.
func (typeSchema) Schema(huma.Registry) *huma.Schema { return oneWordOf(setting.Types) }

// Schema implements huma.SchemaProvider.
func (howSchema) Schema(huma.Registry) *huma.Schema { return oneWordOf(outcome.Hows()) }

// oneWordOf describes a text that is one of a list of words.
func oneWordOf[T ~string](words []T) *huma.Schema {
	enum := make([]any, len(words))
	for i, w := range words {
		enum[i] = string(w)
	}
	return &huma.Schema{Type: huma.TypeString, Enum: enum}
}

// valueSchema describes setting.Value.
type valueSchema struct{}

// Schema implements huma.SchemaProvider.
func (valueSchema) Schema(r huma.Registry) *huma.Schema {
	file := component(r, "FileValue", func() *huma.Schema {
		return &huma.Schema{
			Type:                 huma.TypeObject,
			Description:          "A file that is kept",
			Required:             []string{"file"},
			AdditionalProperties: false,
			Properties: map[string]*huma.Schema{
				"file": {Type: huma.TypeString, Description: "Its SHA-256"}, "name": {Type: huma.TypeString}, "size": {Type: huma.TypeInteger},
			},
		}
	})
	plain := func() []*huma.Schema {
		return []*huma.Schema{
			{Type: huma.TypeBoolean},
			{Type: huma.TypeInteger},
			{Type: huma.TypeString},
			{Type: huma.TypeArray, Items: &huma.Schema{Type: huma.TypeString}},
			file,
		}
	}
	cell := component(r, "Cell", func() *huma.Schema { return &huma.Schema{Description: "A cell of a table", OneOf: plain()} })
	row := component(r, "TableRow", func() *huma.Schema {
		return &huma.Schema{Type: huma.TypeObject, Description: "Cells by the name of their column", AdditionalProperties: cell}
	})
	return component(r, "Value", func() *huma.Schema {
		return &huma.Schema{
			Description: "A bool, a whole number, text, a list of texts, a table or a file",
			OneOf:       append(plain(), &huma.Schema{Type: huma.TypeArray, Description: "A table", Items: row}),
		}
	})
}

// entrySchema describes an entry of a policy, which is written in one of two forms.
type entrySchema struct{}

// Schema implements huma.SchemaProvider.
func (entrySchema) Schema(r huma.Registry) *huma.Schema {
	return component(r, "EntryDoc", func() *huma.Schema {
		value := valueSchema{}.Schema(r)
		long := component(r, "LongEntry", func() *huma.Schema {
			return &huma.Schema{
				Type:       huma.TypeObject,
				Required:   []string{"value"},
				Properties: map[string]*huma.Schema{"value": value, "lock": {Type: huma.TypeBoolean}, "note": {Type: huma.TypeString}},
			}
		})
		return unchecked("A value, or a value that is locked or has a note", value, long)
	})
}

// policySchema describes a policy in the estate format.
type policySchema struct{}

// Schema implements huma.SchemaProvider.
func (policySchema) Schema(r huma.Registry) *huma.Schema {
	return component(r, "PolicyObject", func() *huma.Schema {
		return unchecked("A policy in the estate format", r.Schema(reflect.TypeFor[files.PolicyDoc](), true, "PolicyDoc"))
	})
}

// objectSchema describes an object of any kind in the estate format.
type objectSchema struct{}

// Schema implements huma.SchemaProvider.
func (objectSchema) Schema(r huma.Registry) *huma.Schema {
	return component(r, "EstateObject", func() *huma.Schema {
		var kinds []*huma.Schema
		for _, doc := range []reflect.Type{
			reflect.TypeFor[files.UnitDoc](), reflect.TypeFor[files.PersonDoc](), reflect.TypeFor[files.DeviceDoc](),
			reflect.TypeFor[files.GroupDoc](), reflect.TypeFor[files.PolicyDoc](), reflect.TypeFor[files.ExceptionDoc](),
			reflect.TypeFor[files.RulingDoc](), reflect.TypeFor[files.SettingDoc](), reflect.TypeFor[files.CheckDoc](),
			reflect.TypeFor[files.RolloutPlanDoc](), reflect.TypeFor[files.ApprovalRuleDoc](), reflect.TypeFor[files.BaselineDoc](),
		} {
			kinds = append(kinds, r.Schema(doc, true, doc.Name()))
		}
		return unchecked("An object in the estate format, by kind", kinds...)
	})
}
