// This file has the resources of policies, groups and the dictionary, and the trial of what is
// being typed.

package httpapi

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

type listQuery struct {
	InChange
	Text   string `query:"q" maxLength:"200"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

type policyPath struct {
	InChange
	ID string `path:"id"`
}

type settingQuery struct {
	InChange
	ID     string `path:"id"`
	Policy string `query:"policy" doc:"That is being written: others are seen beside it"`
}

type searchQuery struct {
	InChange
	Text     string `query:"q" maxLength:"200"`
	Area     string `query:"area" maxLength:"100"`
	Platform string `query:"platform" doc:"Settings of these platforms first, separated by commas"`
	Cursor   string `query:"cursor"`
	Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

type trialInput struct {
	InChange
	Body struct {
		Edits []trialEdit `json:"edits" minItems:"1" maxItems:"50"`
	}
}

type trialEdit struct {
	Kind   string            `json:"kind" enum:"units,people,devices,policies,groups,rulings,exceptions,settings,checks,rollout_plans,approval_rules,baselines"`
	ID     string            `json:"id" maxLength:"128"`
	Body   wire.EstateObject `json:"body,omitempty"`
	Retire bool              `json:"retire,omitempty"`
}

func (s *server) registerPolicies() {
	huma.Register(
		s.api,
		operation("listPolicies", http.MethodGet, "/policies", "Policies, with how many devices each reaches"),
		s.listPolicies,
	)
	huma.Register(
		s.api,
		operation("policyUse", http.MethodGet, "/policies/{id}/use", "Whom a policy reaches, and what else is set there"),
		s.handlePolicyUse,
	)
	s.registerWriting()
	huma.Register(s.api, operation("listGroups", http.MethodGet, "/groups", "Groups, with how many members each has"), s.listGroups)
	huma.Register(
		s.api,
		operation("searchSettings", http.MethodGet, "/settings", "Find settings of the dictionary by plain words"),
		s.searchSettings,
	)
	huma.Register(
		s.api,
		operation(
			"getSetting",
			http.MethodGet,
			"/settings/{id}",
			"A setting, where it is set, and who lacks it, beside a policy where one is named",
		),
		s.getSetting,
	)
	huma.Register(s.api, operation("try", http.MethodPost, "/try", "What edits would do, with nothing stored"), s.try)
}

func (s *server) listPolicies(ctx context.Context, in *listQuery) (*output[wire.Page[wire.Policy]], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	conflicts := map[string]int{}
	for _, c := range v.Resolution.Conflicts() {
		for _, p := range c.Policies {
			conflicts[p]++
		}
	}
	reached := v.Reached()
	text := strings.ToLower(in.Text)
	var list []wire.Policy
	for _, p := range v.Plan.Snapshot().Policies {
		w := wire.Policy{
			ID:        string(p.ID),
			Title:     p.Title,
			Kind:      string(p.Kind),
			State:     string(p.State),
			Priority:  p.Priority,
			Why:       p.Why,
			Settings:  []string{},
			Include:   []string{},
			Exclude:   []string{},
			Devices:   reached[p.ID],
			Conflicts: conflicts[string(p.ID)],
			Version:   v.Live.Version(estate.KindPolicy, string(p.ID)),
		}
		for _, e := range p.Entries {
			w.Settings = append(w.Settings, string(e.Setting))
		}
		for _, t := range p.Audience.Include {
			w.Include = append(w.Include, t.String())
		}
		for _, t := range p.Audience.Exclude {
			w.Exclude = append(w.Exclude, t.String())
		}
		if text == "" || strings.Contains(strings.ToLower(strings.Join(append(w.Settings, w.ID, w.Title, w.Why), " ")), text) {
			list = append(list, w)
		}
	}
	slices.SortFunc(list, func(a, b wire.Policy) int { return cmp.Compare(a.ID, b.ID) })
	page, err := paged(list, in.Cursor, in.Limit, func(p wire.Policy) wire.Policy { return p })
	return out(page, s.fault(ctx, err))
}

func (s *server) listGroups(ctx context.Context, in *listQuery) (*output[wire.Page[wire.Group]], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	text := strings.ToLower(in.Text)
	groups := slices.Clone(v.Plan.Snapshot().Groups)
	groups = slices.DeleteFunc(groups, func(g estate.Group) bool {
		return text != "" && !strings.Contains(strings.ToLower(string(g.ID)+" "+g.Title), text)
	})
	slices.SortFunc(groups, func(a, b estate.Group) int { return cmp.Compare(a.ID, b.ID) })
	page, err := paged(groups, in.Cursor, in.Limit, func(g estate.Group) wire.Group { return groupWire(v, &g) })
	return out(page, s.fault(ctx, err))
}

func (s *server) searchSettings(ctx context.Context, in *searchQuery) (*output[wire.Page[wire.Setting]], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	found := v.Plan.Search(in.Text)
	if in.Area != "" {
		found = slices.DeleteFunc(found, func(d *setting.Definition) bool { return d.Area != in.Area })
	}
	if in.Platform != "" {
		wanted := strings.Split(in.Platform, ",")
		slices.SortStableFunc(found, func(a, b *setting.Definition) int { return cmp.Compare(lacksAll(a, wanted), lacksAll(b, wanted)) })
	}
	page, err := paged(found, in.Cursor, in.Limit, func(d *setting.Definition) wire.Setting { return settingOf(v, d) })
	return out(page, s.fault(ctx, err))
}

// lacksAll is 1 where none of the platforms has a setting, else 0.
func lacksAll(d *setting.Definition, platforms []string) int {
	if len(d.Supports) == 0 ||
		slices.ContainsFunc(d.Supports, func(row setting.Support) bool { return slices.Contains(platforms, string(row.Platform)) }) {
		return 0
	}
	return 1
}

func (s *server) getSetting(ctx context.Context, in *settingQuery) (*output[wire.SettingUse], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	use, err := v.SettingUse(setting.ID(in.ID), estate.PolicyID(in.Policy))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.SettingUse]{
		wire.SettingUse{
			Setting:    settingOf(v, use.Definition),
			Elsewhere:  wire.AlsoSets(use.Elsewhere, v.Plan),
			Devices:    use.Reached,
			Lacking:    wire.Lacking(use.Lacking),
			NotKnown:   use.NotKnown,
			Exceptions: use.Exceptions,
			Combines:   report.Combines(use.Definition),
			Support:    report.Support(use.Definition),
		},
	}, nil
}

func settingOf(v workflow.View, d *setting.Definition) wire.Setting {
	w := wire.Setting{SettingDoc: files.Doc(*d).(files.SettingDoc), Policies: []string{}, Own: !d.Shipped}
	for i := range v.Plan.Snapshot().Policies {
		if p := &v.Plan.Snapshot().Policies[i]; p.State == estate.Active && p.Entry(d.ID) != nil {
			w.Policies = append(w.Policies, string(p.ID))
		}
	}
	slices.Sort(w.Policies)
	return w
}

func (s *server) try(ctx context.Context, in *trialInput) (*output[wire.Trial], error) {
	t, err := s.Flow.Try(ctx, actorOf(ctx), in.Change, inputsOf(in.Body.Edits))
	var faults problem.Faults
	if isFaults(err, &faults) {
		return &output[wire.Trial]{wire.Trial{Faults: faults}}, nil
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Trial]{trialOf(t)}, nil
}

// trialOf gives what edits do: faults, or their impact and what becomes of the policy among them.
func trialOf(t *workflow.Trial) wire.Trial {
	if len(t.Faults) > 0 {
		return wire.Trial{Faults: t.Faults}
	}
	effect := impactOf(t.Report, nil, t.After.Plan)
	w := wire.Trial{Impact: &effect}
	if t.Use != nil {
		w.Use = policyUse(t)
	}
	return w
}

// handlePolicyUse handles the operation policyUse: whom a policy reaches, and what else is set
// there.
func (s *server) handlePolicyUse(ctx context.Context, in *policyPath) (*output[wire.PolicyUse], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	use, err := s.Flow.PolicyUse(ctx, actorOf(ctx), v, estate.PolicyID(in.ID))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.PolicyUse]{*policyUse(use)}, nil
}
