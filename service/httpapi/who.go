// This file has the resources of who gets a policy: audiences, groups, units, detaching, comparing, exceptions.

package httpapi

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

type groupPath struct {
	ID string `path:"id"`
}

func (s *server) registerWho() {
	huma.Register(
		s.api,
		operation("audience", http.MethodPost, "/audience", "Who would get a policy with this audience, and who not", readsOnly),
		s.audience,
	)
	huma.Register(
		s.api,
		operation("paste", http.MethodPost, "/audience/paste", "Which devices a list of serial numbers or ids names", readsOnly),
		s.paste,
	)
	huma.Register(
		s.api,
		operation(
			"spread",
			http.MethodPost,
			"/audience/spread",
			"A few laptops of every platform, unit and release among those of an audience: a test group to start with",
			readsOnly,
		),
		s.spread,
	)
	s.registerGroups()
	s.registerUnits()
	s.registerCompare()
	s.registerExceptions()
}

// readsOnly marks an operation that is a POST for its body's sake and stores nothing.
func readsOnly(*huma.Operation) {}

// policyOf makes a policy of what an audience is tried with.
func policyOf(in *wire.AudienceTrial) (*estate.Policy, error) {
	settings := map[string]files.EntryDoc{}
	doc := files.PolicyDoc{
		ID:        "tried",
		Kind:      cmp.Or(in.Kind, string(setting.PolicyKinds[0])),
		Platforms: in.Platforms,
		Within:    in.Within,
		Audience:  in.Audience,
		Settings:  settings,
	}
	data, err := files.PlainJSON(doc)
	if err != nil {
		return nil, err
	}
	object, _, err := files.DecodeJSON(estate.KindPolicy, data)
	if err != nil {
		return nil, err
	}
	p := object.(estate.Policy)
	for _, id := range in.Settings { // support is judged by the setting alone
		p.Entries = append(p.Entries, estate.Entry{Setting: setting.ID(id)})
	}
	return &p, nil
}

func (s *server) audience(ctx context.Context, in *struct {
	InChange
	Body wire.AudienceTrial
}) (*output[wire.AudienceAnswer], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	policy, err := policyOf(&in.Body)
	var faults problem.Faults
	if isFaults(err, &faults) {
		return &output[wire.AudienceAnswer]{wire.AudienceAnswer{Faults: faults}}, nil
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	a := v.Audience(policy)
	most := sampleSize
	if in.Body.Whole {
		most = 1 << 30
	}
	w := reachWire(v, a, most)
	if in.Body.Beside != "" {
		other, err := v.Policy(estate.PolicyID(in.Body.Beside))
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		shares := review.Share(a.Gets, v.Plan.ReachOf(other).Gets)
		w.Beside = &wire.Shared{
			Policy: in.Body.Beside,
			Here:   devicesNamed(shares.OnlyA, most),
			Both:   devicesNamed(shares.Both, most),
			There:  devicesNamed(shares.OnlyB, most),
		}
	}
	return &output[wire.AudienceAnswer]{wire.AudienceAnswer{Reach: &w}}, nil
}

func named[T ~string](list []T, most int) wire.NameList {
	return wire.NameList{Count: len(list), First: wire.Sample(list, most)}
}

func devicesNamed(of resolve.Devices, most int) wire.NameList {
	return wire.NameList{Count: of.Len(), First: wire.Devices(of, most)}
}

func reachWire(v workflow.View, a *review.Audience, most int) wire.AudienceReach {
	titles := map[string]string{}
	snapshot := v.Plan.Snapshot()
	for i := range snapshot.Units {
		titles["unit:"+string(snapshot.Units[i].ID)] = snapshot.Units[i].Title
	}
	for i := range snapshot.Groups {
		titles["group:"+string(snapshot.Groups[i].ID)] = snapshot.Groups[i].Title
	}
	slices1 := func(list []review.Slice, kind string) []wire.Slice {
		out := make([]wire.Slice, len(list))
		for i, x := range list {
			out[i] = wire.Slice{Name: x.Name, Within: x.Within, Title: titles[kind+x.Name], Devices: x.Devices, Of: x.Of}
		}
		return out
	}
	counts := func(list []resolve.TargetCount) []wire.TargetCount {
		out := make([]wire.TargetCount, len(list))
		for i, c := range list {
			out[i] = wire.TargetCount{Target: c.Target.String(), Title: titles[c.Target.String()], Devices: c.Devices}
		}
		return out
	}
	w := wire.AudienceReach{
		Estate:      a.Estate,
		Gets:        devicesNamed(a.Gets, most),
		Excluded:    devicesNamed(a.Excluded, most),
		Condition:   devicesNamed(a.Condition, most),
		Platform:    devicesNamed(a.Platform, most),
		Outside:     devicesNamed(a.Outside, most),
		Unknown:     devicesNamed(a.Unknown, most),
		NotIncluded: devicesNamed(a.NotIncluded, most),
		Unsupported: devicesNamed(
			a.Unsupported,
			most,
		),
		People:     named(a.Gets.Owners(), most),
		Units:      len(a.ByUnit),
		ByPlatform: slices1(a.ByPlatform, ""),
		ByRelease:  slices1(a.ByRelease, ""),
		ByUnit:     slices1(a.ByUnit, "unit:"),
		ByInclude: counts(
			a.ByInclude,
		),
		ByExclude: counts(a.ByExclude),
		Lacking:   map[string]map[string]int{},
		NotKnown:  wire.ByID(a.NotKnown),
		Alarm:     string(a.Alarm),
		Share:     workflow.WideShare,
	}
	for _, t := range a.Missing {
		w.Missing = append(w.Missing, t.String())
	}
	for _, text := range slices.Sorted(maps.Keys(a.Errors)) {
		w.Errors = append(w.Errors, wire.Tally{Value: setting.TextValue(text), Count: a.Errors[text]})
	}
	for id, l := range a.Lacking {
		w.Lacking[string(id)] = wire.Lacking(l)
	}
	return w
}

func (s *server) registerGroups() {
	huma.Register(
		s.api,
		operation("getGroup", http.MethodGet, "/groups/{id}", "A group: who is in it, what it is made of, where it is used"),
		s.getGroup,
	)
	huma.Register(
		s.api,
		operation("tryGroup", http.MethodPost, "/groups/try", "Who a group would have as it is written, compared with what is live", readsOnly),
		s.handleTryGroup,
	)
	huma.Register(
		s.api,
		operation(
			"retireGroup",
			http.MethodPost,
			"/changes/{id}/retired-groups/{group}",
			"Take a group away together with all that names it, as edits of a change",
			needs(access.Write),
		),
		s.retireGroup,
	)
}

// tryGroup says who a group would have, as it is written.
func tryGroup(v workflow.View, body []byte) (*wire.GroupTrial, error) {
	object, _, err := files.DecodeJSON(estate.KindGroup, body)
	if err != nil {
		return nil, err
	}
	g := object.(estate.Group)
	if !slices.Contains(estate.GroupKinds, g.Of) {
		return nil, problem.Faults{{Code: problem.NotOneOf, Path: "/of", Found: problem.Quote(string(g.Of)), Expected: "people or devices"}}
	}
	t, err := v.TryGroup(&g)
	if err != nil {
		return nil, err
	}
	w := trialWire(v, &g, t)
	return &w, nil
}

const trialShown = 100

func trialWire(v workflow.View, g *estate.Group, t *workflow.GroupTrial) wire.GroupTrial {
	snapshot := v.Plan.Snapshot()
	of := len(snapshot.Devices)
	title := func(id string) string {
		if d := v.Plan.Device(estate.DeviceID(id)); d != nil {
			return string(d.OS) + " " + d.OSVersion
		}
		return ""
	}
	if g.Of == estate.OfPeople {
		of = len(snapshot.People)
		title = func(id string) string {
			if p := v.Plan.Person(estate.PersonID(id)); p != nil {
				return p.Name
			}
			return ""
		}
	}
	members := func(ids []string) []wire.Member {
		out := make([]wire.Member, min(len(ids), trialShown))
		for i := range out {
			out[i] = wire.Member{ID: ids[i], Title: title(ids[i])}
		}
		return out
	}
	w := wire.GroupTrial{
		Members: members(
			t.Members,
		),
		Count:       len(t.Members),
		Of:          of,
		Listed:      t.Listed,
		Nested:      t.Nested,
		ByRule:      t.ByRule,
		Joins:       members(t.Joins),
		JoinCount:   len(t.Joins),
		Leaves:      members(t.Leaves),
		LeaveCount:  len(t.Leaves),
		Failures:    []wire.RuleFailure{},
		FailedCount: len(t.Failures),
	}
	for _, f := range t.Failures[:min(len(t.Failures), trialShown)] {
		w.Failures = append(w.Failures, wire.RuleFailure{ID: f.ID, Error: f.Error})
	}
	return w
}

func groupWire(v workflow.View, g *estate.Group) wire.Group {
	return wire.Group{
		ID: string(
			g.ID,
		),
		Title:   g.Title,
		Of:      string(g.Of),
		Rule:    g.Rule.Source(),
		Members: v.Plan.GroupSize(g.ID),
		Listed:  len(g.Members),
		Nested:  len(g.Groups),
		Failures: v.Plan.GroupFailures(
			g.ID,
		),
		Detach:  wire.Detachments(g.Detach),
		Version: v.Live.Version(estate.KindGroup, string(g.ID)),
		Source:  v.Live.SourceOf(estate.KindGroup, string(g.ID)),
	}
}

func useWire(u workflow.GroupUse) wire.GroupUse {
	return wire.GroupUse{
		Includes:   wire.Names(u.Includes),
		Excludes:   wire.Names(u.Excludes),
		Exceptions: wire.Names(u.Exceptions),
		Groups:     wire.Names(u.Groups),
	}
}

func (s *server) groupPage(ctx context.Context, v workflow.View, id string) (*output[wire.GroupPage], error) {
	groups := v.Plan.Snapshot().Groups
	at := slices.IndexFunc(groups, func(g estate.Group) bool { return string(g.ID) == id })
	if at < 0 {
		return nil, s.fault(ctx, &workflow.NotFoundError{Kind: "group", ID: id})
	}
	g := &groups[at]
	t, err := v.TryGroup(g)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page := wire.GroupPage{
		Group:   groupWire(v, g),
		Doc:     files.Doc(*g).(files.GroupDoc),
		Trial:   trialWire(v, g, t),
		Use:     useWire(v.UseOf(estate.Target{Kind: estate.ToGroup, ID: id})),
		Nesting: []wire.NestedGroup{},
		Origin:  originWire(s.Flow.OriginOf(estate.KindGroup, id), nil, nil),
	}
	var nest func(g *estate.Group, depth int)
	nest = func(g *estate.Group, depth int) {
		for _, inner := range g.Groups {
			if i := slices.IndexFunc(groups, func(k estate.Group) bool { return k.ID == inner }); i >= 0 {
				page.Nesting = append(
					page.Nesting,
					wire.NestedGroup{ID: string(inner), Title: groups[i].Title, Depth: depth, Members: v.Plan.GroupSize(inner)},
				)
				nest(&groups[i], depth+1)
			}
		}
	}
	nest(g, 0)
	return &output[wire.GroupPage]{page}, nil
}

func (s *server) registerCompare() {
	huma.Register(
		s.api,
		operation("compareDevices", http.MethodGet, "/devices/{id}/beside/{other}", "Two laptops side by side: what differs, and why"),
		s.compareDevices,
	)
	huma.Register(
		s.api,
		operation(
			"supposeDevice",
			http.MethodPost,
			"/devices/{id}/suppose",
			"A laptop as it is, beside what it would be elsewhere, in other groups, with another owner or another person signed in",
			readsOnly,
		),
		s.supposeDevice,
	)
}

func comparisonWire(v workflow.View, pair review.Pair) wire.Comparison {
	t := titlesOf(v.Side)
	a, b := files.Explained(pair.A), files.Explained(pair.B)
	at := func(list []files.SettingAnswer, id setting.ID) *files.SettingAnswer {
		if i, found := slices.BinarySearchFunc(
			list,
			string(id),
			func(s files.SettingAnswer, id string) int { return cmp.Compare(s.Setting, id) },
		); found {
			return &list[i]
		}
		return nil
	}
	w := wire.Comparison{
		A:       a,
		B:       b,
		Rows:    []wire.ComparedSetting{},
		OnlyA:   wire.Names(pair.OnlyA),
		OnlyB:   wire.Names(pair.OnlyB),
		GroupsA: wire.Names(pair.GroupsA),
		GroupsB: wire.Names(pair.GroupsB),
	}
	for _, p := range pair.Settings {
		w.Rows = append(
			w.Rows,
			wire.ComparedSetting{
				Setting: string(p.Setting),
				Title:   t.setting(p.Setting),
				Same:    p.Same,
				A:       at(a.Settings, p.Setting),
				B:       at(b.Settings, p.Setting),
			},
		)
		if !p.Same {
			w.Differ++
		}
	}
	w.A.Settings, w.B.Settings = []files.SettingAnswer{}, []files.SettingAnswer{} // they are in the rows
	return w
}

// factsApart lists the facts in which two devices differ.
func factsApart(a, b *estate.Device) []wire.ComparedFact {
	all := func(d *estate.Device) map[string]setting.Value {
		out := map[string]setting.Value{"os": setting.TextValue(string(d.OS)), "os_version": setting.TextValue(d.OSVersion)}
		for name, text := range map[string]string{"edition": d.Edition, "model": d.Model, "owner": string(d.Owner)} {
			if text != "" {
				out[name] = setting.TextValue(text)
			}
		}
		if len(d.Tags) > 0 {
			out["tags"] = setting.ListValue(d.Tags)
		}
		for name, v := range d.Facts {
			out["facts/"+name] = v
		}
		return out
	}
	x, y := all(a), all(b)
	names := map[string]bool{}
	for name := range x {
		names[name] = true
	}
	for name := range y {
		names[name] = true
	}
	out := []wire.ComparedFact{}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !x[name].Equal(y[name]) {
			out = append(out, wire.ComparedFact{Name: name, A: value(x[name]), B: value(y[name])})
		}
	}
	return out
}

func (s *server) registerExceptions() {
	huma.Register(
		s.api,
		operation("listExceptions", http.MethodGet, "/exceptions", "Exceptions by the day on which they lapse, those that are over last"),
		s.listExceptions,
	)
	huma.Register(
		s.api,
		operation("listExceptionRequests", http.MethodGet, "/exception-requests", "Exceptions that were asked for, the newest first"),
		s.listExceptionRequests,
	)
	huma.Register(
		s.api,
		operation("askException", http.MethodPost, "/exception-requests", "Ask for an exception", status(http.StatusCreated)),
		s.askException,
	)
	huma.Register(
		s.api,
		operation("exceptionImpact", http.MethodGet, "/exception-requests/{id}/impact", "What an exception that is asked for would do"),
		s.exceptionImpact,
	)
	huma.Register(
		s.api,
		operation(
			"decideException",
			http.MethodPost,
			"/exception-requests/{id}/decision",
			"Approve a request, which publishes the exception, or refuse it; not for who asked",
			needs(access.ApproveExceptions),
		),
		s.decideException,
	)
	huma.Register(
		s.api,
		operation(
			"withdrawException",
			http.MethodDelete,
			"/exception-requests/{id}",
			"Take a request of one's own back",
			status(http.StatusNoContent),
		),
		s.withdrawException,
	)
}

func requestWire(t titled, r workflow.Request) wire.ExceptionRequest {
	return wire.ExceptionRequest{
		Exception: r.Exception,
		Title:     t.setting(setting.ID(r.Exception.Setting)),
		State:     r.State,
		AskedBy:   r.AskedBy,
		AskedAt:   r.AskedAt,
		DecidedBy: r.DecidedBy,
		DecidedAt: r.DecidedAt,
		Note:      r.Note,
		Revision:  r.Revision,
	}
}

// noticeOf is the word by which an exception's end is announced.
func noticeOf(days int) string {
	switch {
	case days < 0:
		return "over"
	case days <= workflow.LapseNow:
		return "now"
	case days <= workflow.LapseSoon:
		return "soon"
	}
	return ""
}

func exceptionsWire(v workflow.View, list []workflow.Exceptional) []wire.Exception {
	t := titlesOf(v.Side)
	out := make([]wire.Exception, len(list))
	for i, x := range list {
		out[i] = wire.Exception{
			ExceptionDoc: files.Doc(x.Exception).(files.ExceptionDoc),
			Title:        t.setting(x.Setting),
			Days:         x.Days,
			Devices:      x.Devices,
			Notice:       noticeOf(x.Days),
			Version:      v.Live.Version(estate.KindException, string(x.ID)),
		}
	}
	return out
}

func originWire(o *workflow.Origin, brings, local []string) *wire.Origin {
	if o == nil {
		return nil
	}
	return &wire.Origin{Source: o.Source, Left: o.Left, Brings: brings, Local: local}
}

func membershipsWire(groups []estate.Group, list []resolve.Membership) []wire.Membership {
	titles := make(map[estate.GroupID]string, len(groups))
	for i := range groups {
		titles[groups[i].ID] = groups[i].Title
	}
	out := make([]wire.Membership, len(list))
	for i, m := range list {
		out[i] = wire.Membership{Group: string(m.Group), Title: titles[m.Group], Owner: m.Owner, Listed: m.Listed, Via: wire.Names(m.Via)}
		for _, p := range m.Rule {
			out[i].Rule = append(out[i].Rule, partWire(p))
		}
	}
	return out
}

func partWire(p rule.Part) wire.RulePart {
	return wire.RulePart{Source: p.Source, Depth: p.Depth, Joined: p.Joined, Holds: p.Holds, Error: p.Error}
}

func eventsWire(list []store.SourceEvent) []wire.SourceEvent {
	out := make([]wire.SourceEvent, len(list))
	for i, e := range list {
		out[i] = wire.SourceEvent{At: e.At, Source: e.Source, What: e.What}
		readFields(e.Fields, &out[i].Fields)
	}
	return out
}

// paste handles the operation paste: which devices a list of serial numbers or ids names.
func (s *server) paste(ctx context.Context, in *struct {
	InChange
	Body wire.PasteList
}) (*output[wire.Pasted], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	p := v.Paste(in.Body.Words)
	return &output[wire.Pasted]{
		wire.Pasted{Devices: wire.Names(p.Devices), Unknown: wire.Names(p.Unknown), Doubled: wire.Names(p.Doubled)},
	}, nil
}

// spread handles the operation spread: a few laptops of every platform, unit and release among those of an audience: a test group to
// start with.
func (s *server) spread(ctx context.Context, in *struct {
	InChange
	Count int `query:"count" minimum:"1" maximum:"500" default:"10"`
	Body  wire.AudienceTrial
}) (*output[wire.SpreadList], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	policy, err := policyOf(&in.Body)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.SpreadList]{
		wire.SpreadList{Devices: wire.Names(review.Spread(v.Plan, v.Plan.ReachOf(policy).Gets.IDs(), in.Count))},
	}, nil
}

// getGroup handles the operation getGroup: a group: who is in it, what it is made of, where it is used.
func (s *server) getGroup(ctx context.Context, in *struct {
	InChange
	ID string `path:"id"`
}) (*output[wire.GroupPage], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.groupPage(ctx, v, in.ID)
}

// handleTryGroup handles the operation tryGroup: who a group would have as it is written, compared with what is live.
func (s *server) handleTryGroup(ctx context.Context, in *struct {
	InChange
	Body rawObject
}) (*output[wire.GroupAnswer], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w, err := tryGroup(v, in.Body)
	var faults problem.Faults
	if isFaults(err, &faults) {
		return &output[wire.GroupAnswer]{wire.GroupAnswer{Faults: faults}}, nil
	}
	return out(wire.GroupAnswer{Trial: w}, s.fault(ctx, err))
}

// retireGroup handles the operation retireGroup: take a group away together with all that names it, as edits of a change.
func (s *server) retireGroup(ctx context.Context, in *struct {
	ID    string `path:"id"`
	Group string `path:"group"`
}) (*output[wire.Edited], error) {
	n, err := s.Flow.RetireGroup(ctx, actorOf(ctx), in.ID, in.Group)
	return out(wire.Edited{Edits: n}, s.fault(ctx, err))
}

// compareDevices handles the operation compareDevices: two laptops side by side: what differs, and why.
func (s *server) compareDevices(ctx context.Context, in *struct {
	InChange
	ID    string `path:"id"`
	Other string `path:"other"`
}) (*output[wire.Comparison], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	pair, err := v.Beside(in.ID, in.Other)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := comparisonWire(v, pair)
	w.Facts = factsApart(v.Plan.Device(estate.DeviceID(in.ID)), v.Plan.Device(estate.DeviceID(in.Other)))
	return &output[wire.Comparison]{w}, nil
}

// supposeDevice handles the operation supposeDevice: a laptop as it is, beside what it would be elsewhere, in other groups, with another
// owner or another person signed in.
func (s *server) supposeDevice(ctx context.Context, in *struct {
	InChange
	ID   string `path:"id"`
	Body wire.Supposed
}) (*output[wire.Comparison], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := review.WhatIf{Unit: estate.UnitID(in.Body.Unit), Person: estate.PersonID(in.Body.Person)}
	for _, g := range in.Body.Join {
		w.Join = append(w.Join, estate.GroupID(g))
	}
	for _, g := range in.Body.Leave {
		w.Leave = append(w.Leave, estate.GroupID(g))
	}
	if in.Body.Owner != nil {
		owner := estate.PersonID(*in.Body.Owner)
		w.Owner = &owner
	}
	pair, err := review.Suppose(v.Plan.Snapshot(), estate.DeviceID(in.ID), w)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Comparison]{comparisonWire(v, pair)}, nil
}

// listExceptions handles the operation listExceptions: exceptions by the day on which they lapse, those that are over last.
func (s *server) listExceptions(ctx context.Context, in *InChange) (*output[[]wire.Exception], error) {
	v, err := s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[[]wire.Exception]{exceptionsWire(v, v.Exceptions())}, nil
}

// listExceptionRequests handles the operation listExceptionRequests: exceptions that were asked for, the newest first.
func (s *server) listExceptionRequests(ctx context.Context, in *struct {
	State string `query:"state" enum:"asked,approved,refused,withdrawn"`
}) (*output[[]wire.ExceptionRequest], error) {
	rows, err := s.Flow.Requests(ctx, actorOf(ctx), in.State)
	list := make([]wire.ExceptionRequest, len(rows))
	t := titlesOf(s.Flow.Live().Side)
	for i, r := range rows {
		list[i] = requestWire(t, r)
	}
	return out(list, s.fault(ctx, err))
}

// askException handles the operation askException: ask for an exception.
func (s *server) askException(ctx context.Context, in *struct{ Body wire.AskException }) (*output[wire.ExceptionRequest], error) {
	b := in.Body
	r, err := s.Flow.AskException(ctx, actorOf(ctx), files.ExceptionDoc{
		ID:      b.ID,
		Setting: b.Setting,
		Target:  b.Target,
		Value:   b.Value,
		Unset:   b.Unset,
		From:    b.From,
		Until:   b.Until,
		Reason:  b.Reason,
	},
	)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.ExceptionRequest]{requestWire(titlesOf(s.Flow.Live().Side), r)}, nil
}

// exceptionImpact handles the operation exceptionImpact: what an exception that is asked for would do.
func (s *server) exceptionImpact(ctx context.Context, in *groupPath) (*output[wire.Impact], error) {
	t, err := s.Flow.RequestTrial(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if len(t.Faults) > 0 {
		return nil, s.fault(ctx, t.Faults)
	}
	return &output[wire.Impact]{impactOf(t.Report, nil, t.After.Plan)}, nil
}

// decideException handles the operation decideException: approve a request, which publishes the exception, or refuse it; not for who asked.
func (s *server) decideException(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Decision
}) (*output[wire.ExceptionRequest], error) {
	r, err := s.Flow.DecideException(ctx, actorOf(ctx), in.ID, in.Body.Approve, in.Body.Note)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.ExceptionRequest]{requestWire(titlesOf(s.Flow.Live().Side), r)}, nil
}

// withdrawException handles the operation withdrawException: take a request of one's own back.
func (s *server) withdrawException(ctx context.Context, in *groupPath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.WithdrawException(ctx, actorOf(ctx), in.ID))
}
