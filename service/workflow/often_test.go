package workflow_test

import (
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// A flood becomes two records of each address that is told apart, whatever its length.
func TestAFloodIsRecordedAsFewRecords(t *testing.T) {
	t.Parallel()
	f, s := flow(t, on("2026-11-23"))
	stranger := Actor{Name: "somebody", Via: "console"}
	for i := range 5000 {
		f.RecordOften(t.Context(), stranger, "sign-in refused", "192.0.2.7")
		f.RecordOften(t.Context(), stranger, "enrolment refused", fmt.Sprintf("198.51.100.%d", i))
	}
	f.FlushOften(t.Context(), false) // not yet: no minute is over
	f.FlushOften(t.Context(), true)
	records, err := s.AuditRecords(store.AuditFilter{}, 5000)
	if err != nil {
		t.Fatal(err)
	}
	var signIns []string
	for _, r := range records {
		if r.Action == "sign-in refused" {
			signIns = append(signIns, r.After)
		}
	}
	if len(signIns) != 2 || !strings.HasPrefix(signIns[0], "4999 more from 192.0.2.7 between") || signIns[1] != "from 192.0.2.7" {
		t.Errorf("the records of sign-ins are %q", signIns)
	}
	if len(records) > 1100 {
		t.Errorf("10,000 refusals became %d records", len(records))
	}
}
