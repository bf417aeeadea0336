// This file has the wire types: the estate format as Go structs, in the order in which it is
// written.

package files

import (
	"bytes"
	"encoding/json"
	"fmt"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

type (
	// UnitDoc is a unit as the estate format writes it.
	UnitDoc struct {
		ID     string      `json:"id"`
		Title  string      `json:"title,omitempty"`
		Parent string      `json:"parent,omitempty"`
		Detach []DetachDoc `json:"detach,omitempty" doc:"What does not arrive from outer levels: kinds of policy and dictionary areas"`
	}
	// PersonDoc is a person.
	PersonDoc struct {
		ID         string                   `json:"id"`
		Name       string                   `json:"name,omitempty"`
		Mail       string                   `json:"mail,omitempty"`
		Unit       string                   `json:"unit,omitempty"`
		Attributes map[string]setting.Value `json:"attributes,omitempty"`
	}
	// DeviceDoc is a device.
	DeviceDoc struct {
		ID        string                   `json:"id"`
		Serial    string                   `json:"serial,omitempty"`
		Owner     string                   `json:"owner,omitempty"`
		Users     []string                 `json:"users,omitempty"`
		Unit      string                   `json:"unit,omitempty"`
		OS        string                   `json:"os" enum:"linux,windows,macos"`
		OSVersion string                   `json:"os_version"`
		Edition   string                   `json:"edition,omitempty"`
		Model     string                   `json:"model,omitempty"`
		Tags      []string                 `json:"tags,omitempty"`
		Taken     []string                 `json:"taken,omitempty" doc:"Offered policies that a person took on it"`
		Facts     map[string]setting.Value `json:"facts,omitempty"`
	}
	// GroupDoc is a group.
	GroupDoc struct {
		ID      string      `json:"id"`
		Of      string      `json:"of" enum:"people,devices"`
		Title   string      `json:"title,omitempty"`
		Members []string    `json:"members,omitempty"`
		Groups  []string    `json:"groups,omitempty"`
		Rule    string      `json:"rule,omitempty" doc:"CEL over device or person"`
		Detach  []DetachDoc `json:"detach,omitempty" doc:"What does not arrive from outer levels: kinds of policy and dictionary areas"`
	}
	// DetachDoc is a detachment: what is detached alone where nothing else is to be said.
	DetachDoc struct {
		What     string `json:"what" doc:"configuration, security, encryption or area:NAME"`
		Reason   string `json:"reason,omitempty"`
		ReviewOn string `json:"review_on,omitempty" doc:"The day on which somebody looks at it again, such as 2027-03-01"`
	}
	// AudienceDoc says who gets a policy.
	AudienceDoc struct {
		Include []string `json:"include,omitempty" doc:"everyone, unit:ID, group:ID, device:ID or person:ID"`
		Exclude []string `json:"exclude,omitempty"`
		When    string   `json:"when,omitempty" doc:"CEL over device and person"`
	}
	// EntryDoc is an entry: the value alone where nothing else is to be said.
	EntryDoc struct {
		Value setting.Value `json:"value"`
		Lock  bool          `json:"lock,omitempty"`
		Note  string        `json:"note,omitempty"`
	}
	// PolicyDoc is a policy.
	PolicyDoc struct {
		ID        string              `json:"id"`
		Title     string              `json:"title,omitempty"`
		Kind      string              `json:"kind" enum:"configuration,security,encryption"`
		State     string              `json:"state,omitempty" enum:"active,draft,retired"`
		Priority  int64               `json:"priority,omitempty"`
		Platforms []string            `json:"platforms,omitempty" enum:"linux,windows,macos"`
		Offered   bool                `json:"offered,omitempty" doc:"It counts only on laptops on which a person took it, and never against a policy that is not offered"`
		Within    string              `json:"within,omitempty" doc:"A unit: the policy never reaches a laptop outside it"`
		OnDrift   string              `json:"on_drift,omitempty" enum:"repair,report" doc:"What is done where a value was altered on a laptop: put right, which it is when nothing is said, or only shown"`
		Owner     string              `json:"owner,omitempty"`
		Why       string              `json:"why,omitempty"`
		Labels    []string            `json:"labels,omitempty"`
		Settings  map[string]EntryDoc `json:"settings"`
		Audience  AudienceDoc         `json:"audience"`
	}
	// ExceptionDoc is an exception.
	ExceptionDoc struct {
		ID         string         `json:"id"`
		Setting    string         `json:"setting"`
		Target     string         `json:"target"`
		Value      *setting.Value `json:"value,omitempty"`
		Unset      bool           `json:"unset,omitempty"`
		From       string         `json:"from,omitempty" doc:"2026-05-01"`
		Until      string         `json:"until" doc:"2026-06-15"`
		Reason     string         `json:"reason"`
		ApprovedBy string         `json:"approved_by,omitempty" doc:"Of a request that nobody approved yet, nothing"`
		ApprovedOn string         `json:"approved_on,omitempty"`
	}
	// RulingDoc is a ruling.
	RulingDoc struct {
		ID      string `json:"id"`
		Setting string `json:"setting"`
		Prefer  string `json:"prefer"`
		Over    string `json:"over"`
		Reason  string `json:"reason,omitempty"`
	}
	// SupportDoc is a row of supports.
	SupportDoc struct {
		Platform string   `json:"platform" enum:"linux,windows,macos"`
		From     string   `json:"from,omitempty"`
		Editions []string `json:"editions,omitempty"`
		When     string   `json:"when,omitempty" doc:"CEL over device: what the laptop must be able to do"`
		Needs    string   `json:"needs,omitempty" doc:"What when asks for, in words"`
	}
	// ForcedDoc is a forced value.
	ForcedDoc struct {
		When  string        `json:"when"`
		Value setting.Value `json:"value"`
	}
	// ColumnDoc is a column of a table.
	ColumnDoc struct {
		Name     string `json:"name"`
		Title    string `json:"title,omitempty"`
		Help     string `json:"help,omitempty"`
		Required bool   `json:"required,omitempty"`
		Reads    string `json:"reads,omitempty" enum:"name,identifier,version,signer" doc:"Filled from an application's file"`
		Store    string `json:"store,omitempty" enum:"roots,intermediates" doc:"What the laptop takes the certificates of the column for"`
		ShapeDoc
	}
	// ShapeDoc is a type with its bounds.
	ShapeDoc struct {
		Type        setting.Type `json:"type"`
		Min         *int64       `json:"min,omitempty"`
		Max         *int64       `json:"max,omitempty"`
		Measure     string       `json:"measure,omitempty"`
		Pattern     string       `json:"pattern,omitempty"`
		MaxLength   *int64       `json:"max_length,omitempty"`
		Format      string       `json:"format,omitempty" enum:"node-path"`
		Options     []string     `json:"options,omitempty"`
		ItemPattern string       `json:"item_pattern,omitempty"`
		MaxItems    *int64       `json:"max_items,omitempty"`
		Content     string       `json:"content,omitempty" enum:"any,certificate,application-rules,application"`
	}
	// SettingDoc is a definition of the dictionary.
	SettingDoc struct {
		ID       string          `json:"id"`
		Title    string          `json:"title,omitempty"`
		Help     string          `json:"help,omitempty"`
		Kind     string          `json:"kind" enum:"configuration,security,encryption"`
		Area     string          `json:"area,omitempty"`
		Keywords []string        `json:"keywords,omitempty"`
		Side     string          `json:"side,omitempty" enum:"device,user"`
		Combine  setting.Combine `json:"combine,omitempty"`
		Stricter string          `json:"stricter,omitempty" enum:"lower,higher,true,false,later"`
		Default  *setting.Value  `json:"default,omitempty"`
		Supports []SupportDoc    `json:"supports,omitempty"`
		Effects  []string        `json:"effects,omitempty" enum:"restart,prompt,irreversible,lockout"`
		ShapeDoc
		Columns []ColumnDoc `json:"columns,omitempty"`
		Key     []string    `json:"key,omitempty"`
		Forced  []ForcedDoc `json:"forced,omitempty"`
	}
	// CheckDoc is a check.
	CheckDoc struct {
		ID       string   `json:"id"`
		Message  string   `json:"message"`
		Settings []string `json:"settings"`
		When     string   `json:"when"`
		Warning  bool     `json:"warning,omitempty" doc:"Worth a look rather than wrong"`
	}
)

// MarshalJSON writes the short form where there is neither lock nor note.
func (e EntryDoc) MarshalJSON() ([]byte, error) {
	if !e.Lock && e.Note == "" {
		return json.Marshal(e.Value)
	}
	type long EntryDoc
	return PlainJSON(long(e))
}

// UnmarshalJSON reads both forms: a map with `value` in it is the long one.
func (e *EntryDoc) UnmarshalJSON(data []byte) error {
	var fields map[string]json.RawMessage
	if json.Unmarshal(data, &fields) == nil && fields["value"] != nil {
		type long EntryDoc
		return json.Unmarshal(data, (*long)(e))
	}
	*e = EntryDoc{}
	return json.Unmarshal(data, &e.Value)
}

// MarshalJSON writes the text alone where there is neither a reason nor a day.
func (d DetachDoc) MarshalJSON() ([]byte, error) {
	if d.Reason == "" && d.ReviewOn == "" {
		return PlainJSON(d.What)
	}
	type long DetachDoc
	return PlainJSON(long(d))
}

// UnmarshalJSON reads both forms.
func (d *DetachDoc) UnmarshalJSON(data []byte) error {
	*d = DetachDoc{}
	if len(data) > 0 && data[0] == '"' {
		return json.Unmarshal(data, &d.What)
	}
	type long DetachDoc
	return json.Unmarshal(data, (*long)(d))
}

// DetachDocs gives detachments in the estate format.
func DetachDocs(list []estate.Detachment) []DetachDoc {
	if list == nil {
		return nil
	}
	out := make([]DetachDoc, len(list))
	for i, d := range list {
		out[i] = DetachDoc{d.String(), d.Reason, string(d.ReviewOn)}
	}
	return out
}

// Doc gives an object of the estate as its wire type.
func Doc(object any) any {
	switch o := object.(type) {
	case estate.Unit:
		return UnitDoc{string(o.ID), o.Title, string(o.Parent), DetachDocs(o.Detach)}
	case estate.Person:
		return PersonDoc{string(o.ID), o.Name, o.Mail, string(o.Unit), o.Attributes}
	case estate.Device:
		return DeviceDoc{
			string(o.ID),
			o.Serial,
			string(o.Owner),
			texts(o.Users),
			string(o.Unit),
			string(o.OS),
			o.OSVersion,
			o.Edition,
			o.Model,
			o.Tags,
			texts(o.Taken),
			o.Facts,
		}
	case estate.Group:
		return GroupDoc{string(o.ID), string(o.Of), o.Title, o.Members, texts(o.Groups), o.Rule.Source(), DetachDocs(o.Detach)}
	case estate.Policy:
		return policyDoc(&o)
	case estate.Exception:
		return ExceptionDoc{
			string(o.ID),
			string(o.Setting),
			o.Target.String(),
			valueOrNot(o.Value),
			o.Unset,
			string(o.From),
			string(o.Until),
			o.Reason,
			o.ApprovedBy,
			string(o.ApprovedOn),
		}
	case estate.Ruling:
		return RulingDoc{string(o.ID), string(o.Setting), string(o.Prefer), string(o.Over), o.Reason}
	case setting.Definition:
		return settingDoc(&o)
	case estate.Check:
		return CheckDoc{string(o.ID), o.Message, append([]string{}, texts(o.Settings)...), o.When.Source(), o.Warning}
	case estate.RolloutPlan:
		return rolloutPlanDoc(&o)
	case estate.ApprovalRule:
		return ApprovalRuleDoc{string(o.ID), o.Title, o.When.Source(), int64(o.Approvals), o.From, o.Reason}
	case estate.Baseline:
		return baselineDoc(&o)
	}
	panic(fmt.Sprintf("files: %T is no object of an estate", object))
}

// AudienceOf gives a policy's audience in the estate format.
func AudienceOf(p *estate.Policy) AudienceDoc {
	return audienceDoc(&p.Audience)
}

func audienceDoc(a *estate.Audience) AudienceDoc {
	return AudienceDoc{targetTexts(a.Include), targetTexts(a.Exclude), a.When.Source()}
}

func policyDoc(p *estate.Policy) PolicyDoc {
	doc := PolicyDoc{
		ID: string(
			p.ID,
		), Title: p.Title, Kind: string(p.Kind), Priority: p.Priority, Platforms: texts(p.Platforms), Offered: p.Offered,
		Within: string(p.Within), OnDrift: string(p.OnDrift),
		Owner: p.Owner, Why: p.Why, Labels: p.Labels, Settings: make(map[string]EntryDoc, len(p.Entries)),
		Audience: AudienceOf(p),
	}
	if p.State != estate.Active {
		doc.State = string(p.State)
	}
	for _, e := range p.Entries {
		doc.Settings[string(e.Setting)] = EntryDoc{e.Value, e.Lock, e.Note}
	}
	return doc
}

func settingDoc(d *setting.Definition) SettingDoc {
	doc := SettingDoc{
		ID: string(d.ID), Title: d.Title, Help: d.Help, Kind: string(d.Kind), Area: d.Area, Keywords: d.Keywords,
		Stricter: string(d.Stricter), Default: valueOrNot(d.Default), Effects: texts(d.Effects), ShapeDoc: shapeDoc(&d.Shape), Key: d.Key,
	}
	for i := range d.Columns {
		c := &d.Columns[i]
		doc.Columns = append(
			doc.Columns,
			ColumnDoc{c.Name, c.Title, c.Help, c.Required, string(c.Reads), string(c.Store), shapeDoc(&c.Shape)},
		)
	}
	if d.Side != setting.DeviceSide {
		doc.Side = string(d.Side)
	}
	if d.Combine != setting.Closest {
		doc.Combine = d.Combine
	}
	for _, row := range d.Supports {
		doc.Supports = append(doc.Supports, SupportDoc{string(row.Platform), row.From, row.Editions, row.When.Source(), row.Needs})
	}
	for _, f := range d.Forced {
		doc.Forced = append(doc.Forced, ForcedDoc{f.When.Source(), f.Value})
	}
	return doc
}

func shapeDoc(s *setting.Shape) ShapeDoc {
	doc := ShapeDoc{
		Type:      s.Type,
		Min:       s.Min,
		Max:       s.Max,
		Measure:   s.Measure,
		MaxLength: s.MaxLength,
		Format:    string(s.Format),
		Options:   s.Options,
		MaxItems:  s.MaxItems,
		Content:   string(s.Content),
	}
	if s.Pattern != nil {
		doc.Pattern = s.Pattern.String()
	}
	if s.ItemPattern != nil {
		doc.ItemPattern = s.ItemPattern.String()
	}
	return doc
}

func texts[T ~string](from []T) []string {
	if from == nil {
		return nil
	}
	out := make([]string, len(from))
	for i, s := range from {
		out[i] = string(s)
	}
	return out
}

func targetTexts(from []estate.Target) []string {
	out := make([]string, len(from))
	for i, t := range from {
		out[i] = t.String()
	}
	return out
}

func valueOrNot(v setting.Value) *setting.Value {
	if v.IsNothing() {
		return nil
	}
	return &v
}

// EncodeJSON gives an object of the estate as JSON in the estate format, on one line.
func EncodeJSON(object any) ([]byte, error) { return PlainJSON(Doc(object)) }

// PlainJSON writes JSON on one line and leaves <, > and & as they are.
func PlainJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSpace(b.Bytes()), nil
}
