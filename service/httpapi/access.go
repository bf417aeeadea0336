// This file has the resources of access: roles, grants, what somebody may do and why, and who may
// do something to an object.

package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// RolePath names a role or a grant.
type RolePath struct {
	ID string `path:"id" maxLength:"40"`
}

func (s *server) registerAccess() {
	huma.Register(s.api, operation("listRoles", http.MethodGet, "/roles", "Roles: named sets of rights", ownAccount), s.listRoles)
	huma.Register(
		s.api,
		operation("saveRole", http.MethodPut, "/roles/{id}", "Define a role, or alter one that was defined here",
			recently, needs(access.Accounts), status(http.StatusNoContent)),
		s.saveRole,
	)
	huma.Register(
		s.api,
		operation("dropRole", http.MethodDelete, "/roles/{id}", "Remove a role that was defined here and that nobody has",
			needs(access.Accounts), status(http.StatusNoContent)),
		s.dropRole,
	)
	huma.Register(s.api, operation("listGrants", http.MethodGet, "/grants", "Who has which role where", needs(access.Accounts)), s.listGrants)
	huma.Register(
		s.api,
		operation("addGrant", http.MethodPost, "/grants", "Give a role to an account or to a group of people",
			recently, needs(access.Accounts), status(http.StatusCreated)),
		s.addGrant,
	)
	huma.Register(
		s.api,
		operation("dropGrant", http.MethodDelete, "/grants/{id}", "Take a role away again",
			recently, needs(access.Accounts), status(http.StatusNoContent)),
		s.dropGrant,
	)
	huma.Register(
		s.api,
		operation("accountRights", http.MethodGet, "/accounts/{name}/rights", "What an account may do "+
			"today, and why", needs(access.Accounts)),
		s.accountRights,
	)
	huma.Register(
		s.api,
		operation("whoMay", http.MethodGet, "/access", "Who may do something to an object, and why", needs(access.Accounts)),
		s.whoMay,
	)
}

// listRoles handles the operation listRoles.
func (s *server) listRoles(ctx context.Context, _ *struct{}) (*output[[]wire.Role], error) {
	roles, err := s.SignIn.Roles(ctx)
	list := make([]wire.Role, len(roles))
	for i, r := range roles {
		_, shipped := access.RoleOf(r.ID)
		list[i] = wire.Role{ID: r.ID, Title: r.Title, Rights: r.Rights.List(), Shipped: shipped}
	}
	return out(list, s.fault(ctx, err))
}

// saveRole handles the operation saveRole.
func (s *server) saveRole(ctx context.Context, in *struct {
	RolePath
	Body wire.NewRole
}) (*struct{}, error) {
	role := access.Role{ID: in.ID, Title: in.Body.Title}
	for i, r := range in.Body.Rights {
		if !slices.Contains(access.All, r) {
			return nil, huma.Error422UnprocessableEntity("", &huma.ErrorDetail{
				Location: fmt.Sprintf("body.rights[%d]", i), Message: "expected a right, one of " + access.Of(access.All...).String(), Value: string(r),
			})
		}
		role.Rights |= access.Of(r)
	}
	err := s.SignIn.SaveRole(ctx, callerOf(ctx), role)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "define role", role.ID+": "+role.Rights.String())
	}
	return nil, s.fault(ctx, err)
}

// dropRole handles the operation dropRole.
func (s *server) dropRole(ctx context.Context, in *RolePath) (*struct{}, error) {
	err := s.SignIn.DropRole(ctx, in.ID)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "remove role", in.ID)
	}
	return nil, s.fault(ctx, err)
}

// grantOf gives a grant, and whether it counts today.
func (s *server) grantOf(g access.Grant, by string) wire.Grant {
	return grantWire(g, by, g.CountsOn(string(s.Flow.Today())))
}

func grantWire(g access.Grant, by string, counts bool) wire.Grant {
	return wire.Grant{ID: g.ID, Account: g.Account, Group: g.Group, Role: g.Role, Unit: g.Unit, From: g.From, Until: g.Until, By: by,
		Counts: counts}
}

// listGrants handles the operation listGrants.
func (s *server) listGrants(ctx context.Context, in *struct {
	At string `query:"at" doc:"As they were at a moment, such as 2026-10-03T14:00; a day alone is its end"`
}) (*output[[]wire.Grant], error) {
	read, day := s.SignIn.Grants, string(s.Flow.Today())
	if in.At != "" {
		at, err := s.Flow.ParseMoment(ctx, actorOf(ctx), in.At)
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		read = func(ctx context.Context) ([]store.Grant, error) { return s.SignIn.GrantsAt(ctx, at) }
		day = string(s.Flow.DayOf(at))
	}
	rows, err := read(ctx)
	list := make([]wire.Grant, len(rows))
	for i, g := range rows {
		is := signin.GrantOf(g)
		list[i] = grantWire(is, g.By, is.CountsOn(day))
	}
	return out(list, s.fault(ctx, err))
}

// grantText says what a grant gives, for the audit log.
func grantText(g access.Grant) string {
	text := g.ID + ": " + g.Role + " to "
	if g.Group != "" {
		text += "the group " + g.Group
	} else {
		text += g.Account
	}
	if g.Unit != "" {
		text += " for the unit " + g.Unit
	}
	if g.From != "" {
		text += " from " + g.From
	}
	if g.Until != "" {
		text += " until " + g.Until
	}
	return text
}

// addGrant handles the operation addGrant.
func (s *server) addGrant(ctx context.Context, in *struct{ Body wire.NewGrant }) (*output[wire.Grant], error) {
	by := callerOf(ctx)
	g, err := s.SignIn.AddGrant(ctx, by, access.Grant{
		Account: in.Body.Account, Group: in.Body.Group, Role: in.Body.Role, Unit: in.Body.Unit, From: in.Body.From, Until: in.Body.Until,
	})
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "grant", grantText(g))
	}
	return out(s.grantOf(g, by.Name), s.fault(ctx, err))
}

// dropGrant handles the operation dropGrant.
func (s *server) dropGrant(ctx context.Context, in *RolePath) (*struct{}, error) {
	g, err := s.SignIn.DropGrant(ctx, callerOf(ctx), in.ID)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "take grant away", grantText(g))
	}
	return nil, s.fault(ctx, err)
}

// giving lists the grants whose role has a right.
func giving(grants []access.Grant, roles []access.Role, right access.Right) (list []access.Grant) {
	for _, g := range grants {
		if slices.ContainsFunc(roles, func(role access.Role) bool { return role.ID == g.Role && role.Rights.Has(right) }) {
			list = append(list, g)
		}
	}
	return list
}

// accountRights handles the operation accountRights.
func (s *server) accountRights(ctx context.Context, in *AccountPath) (*output[wire.AccountRights], error) {
	held, grants, err := s.SignIn.Rights(ctx, in.Name)
	w := wire.AccountRights{Account: in.Name, Rights: []wire.HeldRight{}, Grants: []wire.Grant{}}
	if err != nil {
		return out(w, s.fault(ctx, err))
	}
	roles, err := s.SignIn.Roles(ctx)
	for _, r := range held.Anywhere().List() {
		is := wire.HeldRight{Right: r, Everywhere: held.Everywhere.Has(r), Units: held.UnitsWith(r), Through: []string{}}
		for _, g := range giving(grants, roles, r) {
			is.Through = append(is.Through, g.ID)
		}
		w.Rights = append(w.Rights, is)
	}
	for _, g := range grants {
		w.Grants = append(w.Grants, s.grantOf(g, ""))
	}
	return out(w, s.fault(ctx, err))
}

// whoMay handles the operation whoMay.
func (s *server) whoMay(ctx context.Context, in *struct {
	Right access.Right `query:"right" required:"true" enum:"read,write,approve,publish,publish-urgent,operate-rollouts,devices,exceptions-approve,recovery-keys"`
	Kind  string       `query:"kind" required:"true" enum:"units,people,devices,groups,policies,exceptions,settings,checks,rollout_plans,approval_rules,baselines"`
	ID    string       `query:"id" required:"true" maxLength:"128"`
}) (*output[[]wire.Permitted], error) {
	accounts, err := s.Flow.Accounts(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	roles, err := s.SignIn.Roles(ctx)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	list := []wire.Permitted{}
	for _, a := range accounts {
		held, grants, err := s.SignIn.Rights(ctx, a.Name)
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		may, err := s.Flow.Permits(ctx, actorOf(ctx), held, in.Right, estate.Kind(in.Kind), in.ID)
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		if !may {
			continue
		}
		p := wire.Permitted{Account: a.Name, Through: []string{}, Roles: []string{}}
		for _, g := range giving(grants, roles, in.Right) {
			p.Through = append(p.Through, g.ID)
			p.Roles = append(p.Roles, strings.TrimSpace(g.Role+" "+g.Unit))
		}
		list = append(list, p)
	}
	return out(list, nil)
}
