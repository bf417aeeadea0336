// This file has the types of sources: where people, units, groups and laptops come from.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
)

type (
	// NewSource adds a source.
	NewSource struct {
		ID    string                `json:"id" maxLength:"128"`
		Kind  string                `json:"kind" enum:"scim,ldap,csv"`
		Title string                `json:"title" maxLength:"200"`
		SetUp directory.SourceSetUp `json:"set_up"`
	}
	// ProposedSource proposes another set-up.
	ProposedSource struct {
		Title string                `json:"title,omitempty" maxLength:"200"`
		SetUp directory.SourceSetUp `json:"set_up"`
	}
	// Source is where people, units, groups or laptops come from.
	Source struct {
		ID         string                 `json:"id"`
		Kind       string                 `json:"kind" enum:"scim,ldap,csv"`
		Title      string                 `json:"title"`
		State      string                 `json:"state" enum:"new,on,paused"`
		Version    int64                  `json:"version"`
		SetUp      *directory.SourceSetUp `json:"set_up,omitempty" doc:"By which it is read; absent before a dry run was taken"`
		Proposed   *directory.SourceSetUp `json:"proposed,omitempty" doc:"A set-up whose dry run nobody has taken yet"`
		CreatedBy  string                 `json:"created_by"`
		CreatedAt  time.Time              `json:"created_at"`
		ReadAt     *time.Time             `json:"read_at,omitempty"`
		ComparedAt *time.Time             `json:"compared_at,omitempty" doc:"When all of it was last compared"`
		Counts     []SourceCount          `json:"counts"`
		Running    *SourceRun             `json:"running,omitempty" doc:"What runs, or waits for somebody to take it"`
		Runs       []SourceRun            `json:"runs" doc:"The newest first"`
	}
	// SourceCount counts what a source has.
	SourceCount struct {
		Kind   string `json:"kind"`
		Here   int    `json:"here"`
		Left   int    `json:"left" doc:"Marked as left, and not removed yet"`
		Faulty int    `json:"faulty"`
	}
	// SourceRun is one reading of a source.
	SourceRun struct {
		Seq       int64                   `json:"seq,omitempty"`
		Way       string                  `json:"way" enum:"full,recent,upload,held,provisioning"`
		State     string                  `json:"state" enum:"reading,waiting,taken,failed,dropped"`
		Step      string                  `json:"step,omitempty" enum:"reading,comparing,foreseeing,writing"`
		Done      int64                   `json:"done,omitempty" doc:"Bytes of a table, entries of a directory"`
		Of        int64                   `json:"of,omitempty" doc:"0 where that is not known"`
		By        string                  `json:"by"`
		StartedAt time.Time               `json:"started_at"`
		EndedAt   *time.Time              `json:"ended_at,omitempty"`
		Report    *directory.SourceReport `json:"report,omitempty"`
	}
	// ReadSource asks that a source is read.
	ReadSource struct {
		Way  string `json:"way" enum:"full,recent" default:"full"`
		Look bool   `json:"look,omitempty" doc:"Only say what it would do, and wait"`
	}
	// PauseSource pauses a source, or lets it go on.
	PauseSource struct {
		Paused bool `json:"paused"`
	}
	// NewSourceToken asks for a token.
	NewSourceToken struct {
		Name string `json:"name" maxLength:"100" doc:"Which client it is for"`
	}
	// SourceToken lets a provisioning client write to a source. Secret is given once, when it is
	// made.
	SourceToken struct {
		ID        string     `json:"id"`
		Name      string     `json:"name"`
		CreatedBy string     `json:"created_by"`
		CreatedAt time.Time  `json:"created_at"`
		UsedAt    *time.Time `json:"used_at,omitempty"`
		RevokedAt *time.Time `json:"revoked_at,omitempty"`
		Secret    string     `json:"secret,omitempty"`
	}
	// LeftObject is something that its source no longer has.
	LeftObject struct {
		Source string     `json:"source"`
		Kind   string     `json:"kind" enum:"units,people,devices,groups"`
		ID     string     `json:"id"`
		Title  string     `json:"title,omitempty"`
		Since  time.Time  `json:"since"`
		Due    *time.Time `json:"due,omitempty" doc:"When it is removed by itself; absent: only by a person"`
	}
	// RemoveLeft removes what has left.
	RemoveLeft struct {
		Objects []ObjectName `json:"objects" minItems:"1" maxItems:"10000"`
		Look    bool         `json:"look,omitempty" doc:"Only say what it would do"`
	}
	// ObjectName names an object of the estate.
	ObjectName struct {
		Kind string `json:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
		ID   string `json:"id" maxLength:"128"`
	}
	// Removal says what removing does, or did.
	Removal struct {
		Impact *Impact        `json:"impact,omitempty"`
		Named  problem.Faults `json:"named,omitempty" doc:"Who still names it: nothing is removed before that"`
	}
)
