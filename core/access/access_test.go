package access_test

import (
	"testing"

	"zenithridge.example/zridge/core/access"
)

func TestRolesHaveTheirRights(t *testing.T) {
	for _, test := range []struct {
		role  string
		right access.Right
		has   bool
	}{
		{"reader", access.Read, true},
		{"reader", access.Write, false},
		{"reader", access.Audit, false},
		{"author", access.Write, true},
		{"author", access.Publish, false},
		{"approver", access.Approve, true},
		{"approver", access.Write, false},
		{"service-desk", access.RecoveryKeys, true},
		{"auditor", access.Audit, true},
		{"operator", access.Accounts, true},
		{"operator", access.Publish, false},
		{"operator", access.RecoveryKeys, false},
		{"administrator", access.Publish, true},
		{"administrator", access.RecoveryKeys, false},
	} {
		role, known := access.RoleOf(test.role)
		if !known {
			t.Errorf("there is no role %q", test.role)
			continue
		}
		if got := role.Rights.Has(test.right); got != test.has {
			t.Errorf("%s has %s: %v, expected %v", test.role, test.right, got, test.has)
		}
	}
	if _, known := access.RoleOf("owner"); known {
		t.Error("there is a role that nobody defined")
	}
}

func TestRightsAreASet(t *testing.T) {
	few := access.Of(access.Publish, access.Read)
	if got := few.String(); got != "read, publish" {
		t.Errorf("the set is %q", got)
	}
	all := access.Of(access.All...)
	if !all.Covers(few) || few.Covers(all) || !few.Covers(access.Rights(0)) {
		t.Error("Covers does not say which set has the other")
	}
	for _, r := range access.All {
		if !all.Has(r) || access.Rights(0).Has(r) || !access.Of(r).Has(r) {
			t.Errorf("%s is not counted once", r)
		}
	}
	if all.Has("unknown") {
		t.Error("a right that nobody defined is had")
	}
}
