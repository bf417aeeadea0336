// This file has what units and groups inherit, and what settings are where.

package wire

import (
	"zenithridge.example/zridge/core/setting"
)

type (
	// Prevailing is what a setting is on most laptops of a place.
	Prevailing struct {
		State    State    `json:"state" doc:"Without a status most laptops do not have it at all"`
		Policies []string `json:"policies,omitempty" doc:"Of a conflict: those that conflict"`
		Devices  int      `json:"devices" doc:"Laptops that have it so"`
		Others   int      `json:"others" doc:"Laptops of the place that have it otherwise"`
		Apart    bool     `json:"apart" doc:"It is not what prevails in the unit above"`
	}
	// BeatenBy counts laptops on which something else is in effect instead of an entry: a policy's,
	// or an exception.
	BeatenBy struct {
		Policy      string `json:"policy,omitempty"`
		PolicyTitle string `json:"policy_title,omitempty"`
		Exception   string `json:"exception,omitempty"`
		Devices     int    `json:"devices"`
	}
	// Arrival is an entry as it comes to a place from one level.
	Arrival struct {
		Policy      string         `json:"policy"`
		PolicyTitle string         `json:"policy_title,omitempty"`
		Value       setting.Value  `json:"value"`
		Locked      bool           `json:"locked"`
		Level       string         `json:"level"`
		Whence      string         `json:"whence" enum:"above,here,beside,closer" doc:"As seen from the place"`
		Devices     int            `json:"devices" doc:"Of the place, that it comes to"`
		Fates       map[string]int `json:"fates" doc:"What becomes of it, in laptops"`
		Beaten      []BeatenBy     `json:"beaten"`
	}
	// InheritedSetting is how a setting comes to a place. Counts are laptops of the place.
	InheritedSetting struct {
		Setting    string     `json:"setting"`
		Title      string     `json:"title,omitempty"`
		Area       string     `json:"area,omitempty"`
		Combine    string     `json:"combine,omitempty"`
		Prevailing Prevailing `json:"prevailing"`
		Above      int        `json:"above" doc:"The value in effect comes from above, of lists in part"`
		Locked     int        `json:"locked" doc:"Of those, where the entry from above is locked"`
		Overridden int        `json:"overridden" doc:"An entry from above is overridden by one from here or closer, or by an exception"`
		Detached   int        `json:"detached" doc:"An entry from above does not arrive, since the place or one within it is detached"`
		Own        int        `json:"own" doc:"The value in effect comes from here or closer alone"`
		Clashing   int        `json:"clashing"`
		Arrivals   []Arrival  `json:"arrivals" doc:"From the outermost level inwards"`
	}
	// Inheritance is how settings come to a unit or a group.
	Inheritance struct {
		Place    string             `json:"place"`
		Title    string             `json:"title,omitempty"`
		Above    []string           `json:"above" doc:"Of a unit: those above it, from the organisation down"`
		Detach   []Detachment       `json:"detach"`
		Devices  int                `json:"devices"`
		Settings []InheritedSetting `json:"settings"`
	}
	// MatrixUnit is a unit with all below it.
	MatrixUnit struct {
		Unit    string       `json:"unit"`
		Title   string       `json:"title,omitempty"`
		Parent  string       `json:"parent,omitempty"`
		Depth   int          `json:"depth"`
		Devices int          `json:"devices"`
		Detach  []Detachment `json:"detach"`
	}
	// MatrixRow is a setting with what it is in each unit of a matrix.
	MatrixRow struct {
		Setting string       `json:"setting"`
		Title   string       `json:"title,omitempty"`
		Area    string       `json:"area,omitempty"`
		Cells   []Prevailing `json:"cells" doc:"By unit"`
	}
	// UnitMatrix puts settings beside units.
	UnitMatrix struct {
		Above []MatrixUnit `json:"above" doc:"Units above the first one, from the organisation down"`
		Units []MatrixUnit `json:"units"`
		Rows  []MatrixRow  `json:"rows"`
		Even  int          `json:"even" doc:"Settings left out since every laptop has them alike"`
	}
	// Given is a value that a policy brings to a place by name.
	Given struct {
		Policy      string        `json:"policy"`
		PolicyTitle string        `json:"policy_title,omitempty"`
		Value       setting.Value `json:"value"`
		Locked      bool          `json:"locked"`
		Devices     int           `json:"devices" doc:"Of the place, that the policy reaches"`
		Decides     int           `json:"decides" doc:"Of these, on which its value is in effect, or part of what is"`
	}
	// Decider is a policy whose value is in effect on laptops of a place.
	Decider struct {
		Policy      string `json:"policy"`
		PolicyTitle string `json:"policy_title,omitempty"`
		Devices     int    `json:"devices"`
	}
	// HeldState is one of the things that a setting is, with how many laptops have it so.
	HeldState struct {
		State    State    `json:"state"`
		Policies []string `json:"policies,omitempty"`
		Devices  int      `json:"devices"`
	}
	// UnitPlace is what a setting is in a unit.
	UnitPlace struct {
		Place      MatrixUnit `json:"place"`
		Prevailing Prevailing `json:"prevailing"`
		Deciders   []Decider  `json:"deciders" doc:"The policy that decides on most laptops first"`
		Given      []Given    `json:"given"`
	}
	// GroupPlace is what a setting is in a group.
	GroupPlace struct {
		Group      string     `json:"group"`
		Title      string     `json:"title"`
		Of         string     `json:"of" enum:"devices,people"`
		Prevailing Prevailing `json:"prevailing"`
		Deciders   []Decider  `json:"deciders"`
		Given      []Given    `json:"given"`
	}
	// Whereabouts is what a setting is everywhere.
	Whereabouts struct {
		States []HeldState  `json:"states" doc:"The most frequent first; the one without a status is of laptops that do not have it"`
		Units  []UnitPlace  `json:"units"`
		Groups []GroupPlace `json:"groups"`
	}
)
