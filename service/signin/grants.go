// This file has roles and grants: what everybody may do, and why.

package signin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/seal"
	"zenithridge.example/zridge/service/store"
)

// Config is what access depends on besides the store. The zero Config knows nobody and the day of
// the clock, and has no second factors.
type Config struct {
	Leaked   *LeakedPasswords             // passwords that nobody may choose; nil: none
	Seal     *seal.Key                    // with which secrets of second factors are kept
	Demand   []string                     // roles that demand a second factor; EveryRole for all
	Idle     time.Duration                // after which a session that nobody uses ends; 0: 30 minutes
	GroupsOf func(person string) []string // groups of people that a person is in; an account is of the person with its name as id
	Today    func() string                // the day on which grants are judged, as 2026-11-30
	Unit     func(id string) bool         // whether there is such a unit
	Group    func(id string) bool         // whether there is such a group of people
}

// today gives the day on which grants are judged.
func (d *Service) today() string {
	if d.config.Today != nil {
		return d.config.Today()
	}
	return d.now().Format(time.DateOnly)
}

// EveryRole stands for all roles in Config.Demand, those that are defined here included.
const EveryRole = "every"

// demanded tells whether one of some grants is of a role that demands a second factor.
func (d *Service) demanded(grants []access.Grant) bool {
	return slices.ContainsFunc(grants, func(g access.Grant) bool {
		return slices.Contains(d.config.Demand, EveryRole) || slices.Contains(d.config.Demand, g.Role)
	})
}

// ErrInUse says that a role is granted to somebody.
var ErrInUse = errors.New("in use")

// Roles lists the roles that the service ships with, and then those that were defined here.
func (d *Service) Roles(ctx context.Context) ([]access.Role, error) {
	rows, err := d.store.In(ctx).Roles()
	list := slices.Clone(access.Roles)
	for _, r := range rows {
		list = append(list, roleOf(r))
	}
	return list, err
}

func roleOf(r store.Role) access.Role {
	is := access.Role{ID: r.ID, Title: r.Title}
	for _, name := range strings.Fields(r.Rights) {
		if slices.Contains(access.All, access.Right(name)) { // one that a later version has is not known here
			is.Rights |= access.Of(access.Right(name))
		}
	}
	return is
}

// roles gives a lookup of roles by id.
func (d *Service) roles(ctx context.Context) (func(id string) (access.Role, bool), error) {
	list, err := d.Roles(ctx)
	return func(id string) (access.Role, bool) {
		at := slices.IndexFunc(list, func(r access.Role) bool { return r.ID == id })
		if at < 0 {
			return access.Role{}, false
		}
		return list[at], true
	}, err
}

var roleID = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// SaveRole defines a role, or alters one that was defined here. It can have no right that the
// caller does not hold everywhere, and nobody alters a role that they hold: that would be their own
// rights.
func (d *Service) SaveRole(ctx context.Context, by Caller, role access.Role) error {
	switch n := utf8.RuneCountInString(role.Title); {
	case !roleID.MatchString(role.ID):
		return &InvalidError{"id", "1 to 40 lower-case letters, digits and '-', with a letter first"}
	case n < 1 || n > 80:
		return &InvalidError{"title", "1 to 80 characters"}
	case role.Rights == 0:
		return &InvalidError{"rights", "one right or more"}
	case !by.Held.Everywhere.Covers(role.Rights):
		return &InvalidError{"rights", "rights that you have yourself, everywhere"}
	}
	if _, shipped := access.RoleOf(role.ID); shipped {
		return &InvalidError{"id", "another id than those of the roles that the service ships with"}
	}
	if slices.ContainsFunc(by.Grants, func(g access.Grant) bool { return g.Role == role.ID }) {
		return ErrOwn
	}
	var rights []string
	for _, r := range role.Rights.List() {
		rights = append(rights, string(r))
	}
	return d.store.In(ctx).SaveRole(store.Role{
		ID: role.ID, Title: role.Title, Rights: strings.Join(rights, " "), By: by.Name, At: d.now(),
	})
}

// DropRole removes a role that was defined here and that nobody has.
func (d *Service) DropRole(ctx context.Context, id string) error {
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		grants, err := tx.Grants()
		if err != nil {
			return err
		}
		if slices.ContainsFunc(grants, func(g store.Grant) bool { return g.Role == id }) {
			return ErrInUse
		}
		there, err := tx.DropRole(id)
		if err == nil && !there {
			err = store.ErrNotFound
		}
		return err
	})
}

// GrantOf gives a grant as package access judges it.
func GrantOf(g store.Grant) access.Grant {
	return access.Grant{ID: g.ID, Account: g.Account, Group: g.Group, Role: g.Role, Unit: g.Unit, From: g.From, Until: g.Until}
}

// grantsOf lists the grants that an account has, its own and those of its groups, whatever the day.
func (d *Service) grantsOf(ctx context.Context, account string) ([]access.Grant, error) {
	rows, err := d.store.In(ctx).GrantsFor(account)
	var groups []string
	asked := false
	var list []access.Grant
	for _, g := range rows {
		if g.Account != account {
			if d.config.GroupsOf == nil {
				continue
			}
			if !asked {
				asked, groups = true, d.config.GroupsOf(account)
			}
			if !slices.Contains(groups, g.Group) {
				continue
			}
		}
		list = append(list, GrantOf(g))
	}
	return list, err
}

// held gives what an account may do today, with the grants that count.
func (d *Service) held(ctx context.Context, account string) (access.Held, []access.Grant, error) {
	grants, err := d.grantsOf(ctx, account)
	if err != nil {
		return access.Held{}, nil, err
	}
	role, err := d.roles(ctx)
	if err != nil {
		return access.Held{}, nil, err
	}
	day := d.today()
	grants = slices.DeleteFunc(grants, func(g access.Grant) bool { return !g.CountsOn(day) })
	return access.HeldBy(grants, role, day), grants, nil
}

// Rights says what an account may do today, and by which of its grants. A disabled account may do
// nothing.
func (d *Service) Rights(ctx context.Context, account string) (access.Held, []access.Grant, error) {
	a, err := d.store.In(ctx).Account(account)
	if err != nil {
		return access.Held{}, nil, err
	}
	held, grants, err := d.held(ctx, account)
	if a.Disabled {
		held = access.Held{}
	}
	return held, grants, err
}

// Grants lists all grants.
func (d *Service) Grants(ctx context.Context) ([]store.Grant, error) { return d.store.In(ctx).Grants() }

// GrantsAt lists the grants that there were at a moment.
func (d *Service) GrantsAt(ctx context.Context, at time.Time) ([]store.Grant, error) {
	return d.store.In(ctx).GrantsAt(at)
}

// mayGrant refuses to give, or to take away, what the caller may not: to themselves or to a group
// that they are in, for units for which they do not manage access, and roles that manage access
// with rights that the caller lacks.
func (d *Service) mayGrant(by Caller, g access.Grant, role access.Role) error {
	if g.Account == by.Name {
		return ErrOwn
	}
	if g.Group != "" && d.config.GroupsOf != nil && slices.Contains(d.config.GroupsOf(by.Name), g.Group) {
		return ErrOwn
	}
	if !by.Held.Everywhere.Has(access.Accounts) && !by.Held.Units[g.Unit].Has(access.Accounts) {
		return &access.OutsideError{Right: access.Accounts, Units: by.Held.UnitsWith(access.Accounts), What: "the grant"}
	}
	mine := by.Held.Everywhere
	if g.Unit != "" {
		mine |= by.Held.Units[g.Unit]
	}
	if role.Rights.Has(access.Accounts) && !mine.Covers(role.Rights) {
		return &InvalidError{"role", "a role that you may give"}
	}
	return nil
}

// newGrantID names a grant.
func newGrantID() string { return "G-" + HashOf(Secret())[:10] }

// AddGrant gives a role to an account or to a group. The sessions of the account end, so that it
// signs in with its new rights.
func (d *Service) AddGrant(ctx context.Context, by Caller, g access.Grant) (access.Grant, error) {
	find, err := d.roles(ctx)
	if err != nil {
		return g, err
	}
	role, known := find(g.Role)
	switch {
	case !known:
		return g, &InvalidError{"role", "one of the roles that there are"}
	case (g.Account == "") == (g.Group == ""):
		return g, &InvalidError{"account", "an account or a group, one of both"}
	case g.Group != "" && (d.config.Group == nil || !d.config.Group(g.Group)):
		return g, &InvalidError{"group", "the id of a group of people"}
	case g.Unit != "" && (d.config.Unit == nil || !d.config.Unit(g.Unit)):
		return g, &InvalidError{"unit", "the id of a unit"}
	}
	for field, day := range map[string]string{"from": g.From, "until": g.Until} {
		if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
			return g, &InvalidError{field, "a day, such as 2026-11-30"}
		}
	}
	if g.Until != "" && (g.Until < g.From || g.Until < d.today()) {
		return g, &InvalidError{"until", "a day that is not over, and not before the first day"}
	}
	if err := d.mayGrant(by, g, role); err != nil {
		return g, err
	}
	g.ID = newGrantID()
	return g, d.store.Transaction(ctx, func(tx *store.Store) error {
		if g.Account != "" {
			if _, err := tx.Account(g.Account); errors.Is(err, store.ErrNotFound) {
				return &InvalidError{"account", "the name of an account"}
			} else if err != nil {
				return err
			}
		}
		row := store.Grant{
			ID: g.ID, Account: g.Account, Group: g.Group, Role: g.Role, Unit: g.Unit, From: g.From, Until: g.Until, By: by.Name, At: d.now(),
		}
		return errors.Join(tx.AddGrant(row), tx.DropSessionsOf(cmp.Or(g.Account, "-"), ""))
	})
}

// DropGrant takes a role away again. The last grant of the administrator's role that counts
// everywhere and for good cannot be taken away.
func (d *Service) DropGrant(ctx context.Context, by Caller, id string) (access.Grant, error) {
	find, err := d.roles(ctx)
	if err != nil {
		return access.Grant{}, err
	}
	var g access.Grant
	return g, d.store.Transaction(ctx, func(tx *store.Store) error {
		row, err := tx.Grant(id)
		if err != nil {
			return err
		}
		g = GrantOf(row)
		role, _ := find(g.Role)
		if err := d.mayGrant(by, g, role); err != nil {
			return err
		}
		if err := tx.DropGrant(id, d.now()); err != nil {
			return err
		}
		if err := d.administered(tx); err != nil {
			return err
		}
		return tx.DropSessionsOf(cmp.Or(g.Account, "-"), "")
	})
}

// administered gives ErrLast unless some account that is not disabled administers the service,
// everywhere and for good, from today on.
func (d *Service) administered(tx *store.Store) error {
	accounts, err := tx.Accounts()
	if err != nil {
		return err
	}
	grants, err := tx.Grants()
	if err != nil {
		return err
	}
	day := d.today()
	for _, g := range grants {
		is := GrantOf(g)
		lasts := is.Role == access.Administrator && is.Unit == "" && is.Until == "" && is.CountsOn(day)
		if lasts && slices.ContainsFunc(accounts, func(a store.Account) bool { return a.Name == is.Account && !a.Disabled }) {
			return nil
		}
	}
	return ErrLast
}

// Describe names the roles that an account has today.
func (d *Service) Describe(ctx context.Context, account string) string {
	_, grants, err := d.held(ctx, account)
	if err != nil {
		return "unknown"
	}
	return describe(grants)
}

// describe names the roles that grants give, each once: "administrator", or "reader, author
// (slipway)".
func describe(grants []access.Grant) string {
	var names []string
	for _, g := range grants {
		name := g.Role
		if g.Unit != "" {
			name = fmt.Sprintf("%s (%s)", g.Role, g.Unit)
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "no role"
	}
	return strings.Join(names, ", ")
}
