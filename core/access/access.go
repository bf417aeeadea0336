// Package access says what somebody may do. A right is one thing that can be done; a role is a
// named set of rights. Every operation of the service names the right that it needs; package
// workflow asks here before it does anything else.
//
// The package decides nothing by name: rights are data.
package access

import (
	"fmt"
	"slices"
	"strings"
)

// Right is one thing that can be done.
type Right string

const (
	Read              Right = "read"               // look at everything but the audit log, and try what a change would do
	Write             Right = "write"              // write drafts: open changes and edit in them
	Approve           Right = "approve"            // approve changes of others
	Publish           Right = "publish"            // publish changes
	PublishUrgent     Right = "publish-urgent"     // publish a change without review or waves
	OperateRollouts   Right = "operate-rollouts"   // pause, go on with and stop rollouts
	Devices           Right = "devices"            // enrol laptops, have them check in, try failed settings again, retire them
	ApproveExceptions Right = "exceptions-approve" // decide about exceptions that somebody else asked for
	RecoveryKeys      Right = "recovery-keys"      // see a recovery key
	Sources           Right = "sources"            // set up sources of people and laptops, and take in what they bring
	Dictionary        Right = "dictionary"         // define settings
	Audit             Right = "audit"              // read the audit log
	Accounts          Right = "accounts"           // people's access: accounts, roles, grants, sessions
	Service           Right = "service"            // set-up, backups, tokens of others
)

// All lists every right.
var All = []Right{
	Read,
	Write,
	Approve,
	Publish,
	PublishUrgent,
	OperateRollouts,
	Devices,
	ApproveExceptions,
	RecoveryKeys,
	Sources,
	Dictionary,
	Audit,
	Accounts,
	Service,
}

// Rights is a set of rights. The zero Rights is none. It is comparable.
type Rights uint32

// Of gives a set. A right that is not in All panics: it is a mistake in the program.
func Of(rights ...Right) Rights {
	var set Rights
	for _, r := range rights {
		at := slices.Index(All, r)
		if at < 0 {
			panic(fmt.Sprintf("access: no right %q", r))
		}
		// A right's bit is its place in All.
		set |= 1 << at
	}
	return set
}

// Has tells whether a right is in the set.
func (s Rights) Has(r Right) bool {
	at := slices.Index(All, r)
	return at >= 0 && s&(1<<at) != 0
}

// Covers tells whether every right of another set is in this one.
func (s Rights) Covers(other Rights) bool { return other&^s == 0 }

// List gives the rights in the order of All.
func (s Rights) List() []Right {
	out := []Right{}
	for _, r := range All {
		if s.Has(r) {
			out = append(out, r)
		}
	}
	return out
}

// String lists the rights, as messages and tests show them.
func (s Rights) String() string {
	names := make([]string, 0, len(All))
	for _, r := range s.List() {
		names = append(names, string(r))
	}
	return strings.Join(names, ", ")
}

// Role is a named set of rights.
type Role struct {
	ID     string
	Title  string
	Rights Rights
}

// Ids of the roles that the service itself refers to.
const (
	Reader        = "reader"
	Administrator = "administrator"
)

// Roles lists the roles that the service ships with. Who administers the service has every right
// but that of seeing recovery keys, which is always given by name.
var Roles = []Role{
	{Reader, "Reader", Of(Read)},
	{"author", "Author", Of(Read, Write)},
	{"approver", "Approver", Of(Read, Approve, ApproveExceptions)},
	{"publisher", "Publisher", Of(Read, Write, Publish, OperateRollouts)},
	{"service-desk", "Service desk", Of(Read, Devices, RecoveryKeys)},
	{"auditor", "Auditor", Of(Read, Audit)},
	{"operator", "Operator", Of(Read, Service, Accounts, Sources)},
	{Administrator, "Administrator", Of(All...) &^ Of(RecoveryKeys)},
}

// RoleOf gives a role that the service ships with.
func RoleOf(id string) (Role, bool) {
	at := slices.IndexFunc(Roles, func(r Role) bool { return r.ID == id })
	if at < 0 {
		return Role{}, false
	}
	return Roles[at], true
}

// DeniedError says that somebody lacks the right for what they asked.
type DeniedError struct{ Right Right }

// Error names the right.
func (e *DeniedError) Error() string { return fmt.Sprintf("the right %q is missing", e.Right) }
