// This file has roles, grants and rights as the API gives them.

package wire

import "zenithridge.example/zridge/core/access"

type (
	// Role is a named set of rights.
	Role struct {
		ID      string         `json:"id" maxLength:"40"`
		Title   string         `json:"title" maxLength:"80"`
		Rights  []access.Right `json:"rights" maxItems:"40"`
		Shipped bool           `json:"shipped,omitempty" doc:"The service ships with it; it is not altered"`
	}

	// NewRole defines a role, or alters one that was defined here.
	NewRole struct {
		Title  string         `json:"title" maxLength:"80"`
		Rights []access.Right `json:"rights" maxItems:"40"`
	}

	// Grant gives a role to an account, or to the people of a group.
	Grant struct {
		ID      string `json:"id"`
		Account string `json:"account,omitempty"`
		Group   string `json:"group,omitempty" doc:"Of people: whoever is in it"`
		Role    string `json:"role"`
		Unit    string `json:"unit,omitempty" doc:"The grant counts for this unit and those below; everywhere where it is left out"`
		From    string `json:"from,omitempty" doc:"The first day"`
		Until   string `json:"until,omitempty" doc:"The last day"`
		By      string `json:"by,omitempty"`
		Counts  bool   `json:"counts" doc:"Whether it counts today"`
	}

	// NewGrant gives a role to an account or to a group, one of both.
	NewGrant struct {
		Account string `json:"account,omitempty" maxLength:"64"`
		Group   string `json:"group,omitempty" maxLength:"128"`
		Role    string `json:"role" maxLength:"40"`
		Unit    string `json:"unit,omitempty" maxLength:"128"`
		From    string `json:"from,omitempty" maxLength:"10"`
		Until   string `json:"until,omitempty" maxLength:"10"`
	}

	// HeldRight is a right that somebody has, and why.
	HeldRight struct {
		Right      access.Right `json:"right"`
		Everywhere bool         `json:"everywhere"`
		Units      []string     `json:"units,omitempty" doc:"Where it is held for some units alone"`
		Through    []string     `json:"through" doc:"Ids of the grants that give it"`
	}

	// AccountRights is what an account may do today, and why.
	AccountRights struct {
		Account string      `json:"account"`
		Rights  []HeldRight `json:"rights"`
		Grants  []Grant     `json:"grants" doc:"Of the account and of its groups, those that do not count today included"`
	}

	// Permitted is an account that may do something to an object, and why.
	Permitted struct {
		Account string   `json:"account"`
		Through []string `json:"through" doc:"Ids of the grants that give the right"`
		Roles   []string `json:"roles" doc:"The roles of these grants"`
	}
)
