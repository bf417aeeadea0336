// This file has how sources are set up, and what a reading of one found.

package directory

import (
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

// SourceKind says how a source is read.
type SourceKind string

const (
	KindSCIM SourceKind = "scim" // a provisioning client writes to it
	KindLDAP SourceKind = "ldap" // it is asked
	KindCSV  SourceKind = "csv"  // tables are sent
)

// SourceSetUp says how a source is read, and what becomes of what has left. One of Table, LDAP and
// SCIM is there, by the kind.
type SourceSetUp struct {
	Table *Table `json:"table,omitempty"`
	LDAP  *LDAP  `json:"ldap,omitempty"`
	SCIM  *SCIM  `json:"scim,omitempty"`

	ReadEvery   int `json:"read_every_minutes,omitempty" minimum:"0" maximum:"10080" doc:"Minutes between two readings of what altered; 0: only when asked"`
	CompareAt   int `json:"compare_at_hour,omitempty" minimum:"0" maximum:"23" doc:"The hour of the day, in UTC, at which everything is compared"`
	RemoveAfter int `json:"remove_after_days,omitempty" minimum:"0" maximum:"3650" doc:"Days after which what has left is removed; 0: only by a person"`
	MostLeft    int `json:"most_left_percent,omitempty" minimum:"0" maximum:"100" doc:"When more than this share would be marked as left at once, a person is asked first; 20 where it is left out"`
	MostLost    int `json:"most_lost_percent,omitempty" minimum:"0" maximum:"100" doc:"When a policy's audience, or an exclusion, would lose more than this share of its laptops, a person is asked first; 50 where it is left out. One that loses all of them always waits for a person"`
}

// SCIM says what is taken of what a provisioning client writes.
type SCIM struct {
	ID         string            `json:"id,omitempty" maxLength:"200" doc:"The attribute that becomes a person's id: userName where it is left out; of a mail address the part before the @"`
	Unit       string            `json:"unit,omitempty" maxLength:"200" doc:"The attribute with the id or title of the person's unit; none where it is left out"`
	Attributes map[string]string `json:"attributes,omitempty" doc:"From the name in the estate to the attribute: title, or the enterprise extension's department"`
}

// Check says what is wrong with a set-up for a kind of source.
func (u *SourceSetUp) Check(kind SourceKind) problem.Faults {
	var faults problem.Faults
	there := map[SourceKind]bool{KindSCIM: u.SCIM != nil, KindLDAP: u.LDAP != nil, KindCSV: u.Table != nil}
	part := map[SourceKind]string{KindSCIM: "/scim", KindLDAP: "/ldap", KindCSV: "/table"}
	for k, is := range there {
		if k == kind && !is {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.MissingField,
					Path:     part[k],
					Found:    "a set-up without it",
					Expected: "how a source of the kind " + string(kind) + " is read",
				},
			)
		}
		if k != kind && is {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.MisplacedField,
					Path:     part[k],
					Found:    "a part for another kind of source",
					Expected: "none beside a source of the kind " + string(kind),
				},
			)
		}
	}
	if kind == KindLDAP && u.LDAP != nil {
		faults = append(faults, u.LDAP.Check()...)
	}
	if kind == KindCSV && u.Table != nil {
		faults = append(faults, u.Table.Check()...)
	}
	if kind == KindSCIM && u.SCIM != nil {
		for name := range u.SCIM.Attributes {
			if name == "" || slices.Contains(estate.PersonNames, name) {
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.ReservedName,
						Path:     problem.Join("/scim/attributes", name),
						Found:    problem.Quote(name),
						Expected: "a name of its own; these are taken: " + strings.Join(estate.PersonNames, ", "),
					},
				)
			}
		}
	}
	for name, n := range map[string][3]int{"read_every_minutes": {u.ReadEvery, 0, 10080}, "compare_at_hour": {u.CompareAt, 0, 23},
		"remove_after_days": {u.RemoveAfter, 0, 3650}, "most_left_percent": {u.MostLeft, 0, 100}, "most_lost_percent": {u.MostLost, 0, 100}} {
		if n[0] < n[1] || n[0] > n[2] {
			faults = append(
				faults,
				problem.Fault{Code: problem.OutOfRange, Path: "/" + name, Found: fmt.Sprint(n[0]), Expected: fmt.Sprintf("%d to %d", n[1], n[2])},
			)
		}
	}
	faults.Sort()
	return faults
}

// Kinds are what a source of this set-up brings.
func (u *SourceSetUp) Kinds() []estate.Kind {
	switch {
	case u.Table != nil:
		return []estate.Kind{u.Table.Of}
	case u.SCIM != nil:
		return []estate.Kind{estate.KindPerson, estate.KindGroup}
	case u.LDAP != nil:
		var out []estate.Kind
		for kind, filter := range map[estate.Kind]string{estate.KindUnit: u.LDAP.Units.Filter, estate.KindPerson: u.LDAP.People.Filter,
			estate.KindGroup: u.LDAP.Groups.Filter} {
			if filter != "" {
				out = append(out, kind)
			}
		}
		slices.Sort(out)
		return out
	}
	return nil
}

// SourceReport says what a run found and did, or would do.
type SourceReport struct {
	Read         int             `json:"read"`
	New          int             `json:"new"`
	Adopted      int             `json:"adopted" doc:"Of the new: objects that were here already and now come from the source"`
	Altered      int             `json:"altered"`
	Same         int             `json:"same"`
	Left         int             `json:"left"`
	MostLeft     int             `json:"most_left,omitempty" doc:"Percent that may leave without review"`
	Back         int             `json:"back"`
	Faulty       int             `json:"faulty" doc:"Things that can't be taken as they are; they stay as they were"`
	Items        []SourceItem    `json:"items" doc:"The first of each sort"`
	Faults       problem.Faults  `json:"faults,omitempty"`
	MoreFaults   int             `json:"more_faults,omitempty"`
	Loose        []string        `json:"loose,omitempty" doc:"References that lead nowhere, and are left out"`
	LooseCount   int             `json:"loose_count,omitempty"`
	Circles      []string        `json:"circles,omitempty" doc:"The first memberships that would close a circle of groups, and are left out"`
	CircleCount  int             `json:"circle_count,omitempty"`
	Devices      int             `json:"devices" doc:"Laptops on which some setting alters"`
	Weaker       int             `json:"weaker"`
	Conflicts    int             `json:"conflicts_gained"`
	Problems     int             `json:"problems_gained"`
	Audiences    []AudienceShift `json:"audiences,omitempty"`
	Shrunk       []Shrunk        `json:"shrunk,omitempty" doc:"Audiences and exclusions that would lose all of their laptops, or more than the allowed share; those that lose all first"`
	MostLost     int             `json:"most_lost,omitempty" doc:"With shrunk: the percent of its laptops that one may lose without review"`
	Differ       []string        `json:"differ,omitempty" doc:"The first of the laptops on which some setting alters"`
	Reason       string          `json:"reason,omitempty" doc:"Why it waits, or that it failed" enum:"first,set-up,many-left,faults,shrunk,asked,failed"`
	Message      string          `json:"message,omitempty" doc:"What went wrong"`
	Milliseconds int64           `json:"milliseconds"`
}

// AudienceShift is how many laptops a policy begins or ceases to reach.
type AudienceShift struct {
	Policy  string `json:"policy"`
	Title   string `json:"title,omitempty"`
	Gained  int    `json:"gained"`
	Dropped int    `json:"dropped"`
}

// Shrunk is a policy's audience, or one of its exclusions, that loses laptops.
type Shrunk struct {
	Policy    string `json:"policy"`
	Title     string `json:"title,omitempty"`
	Exclusion string `json:"exclusion,omitempty" doc:"The target that the policy leaves out; absent: it is about the audience"`
	Before    int    `json:"before" doc:"Laptops"`
	After     int    `json:"after"`
}

// SourceItem is one thing that differs.
type SourceItem struct {
	What   string               `json:"what" enum:"new,altered,left,back"`
	Kind   string               `json:"kind"`
	ID     string               `json:"id"`
	Key    string               `json:"key"`
	Line   int                  `json:"line,omitempty"`
	Fields []files.AlteredField `json:"fields,omitempty"`
	Adopts bool                 `json:"adopts,omitempty"`
}
