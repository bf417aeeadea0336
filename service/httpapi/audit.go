// This file has the resource of the audit log: records, checkpoints, and whether the log is as it
// was written.

package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
)

func (s *server) registerAudit() {
	huma.Register(s.api, operation("audit", http.MethodGet, "/audit", "Who did what, the newest first", needs(access.Audit)), s.audit)
	huma.Register(
		s.api,
		operation("auditCheckpoints", http.MethodGet, "/audit/checkpoints", "The signed hashes of the audit log, the oldest first",
			needs(access.Audit)),
		s.auditCheckpoints,
	)
	huma.Register(
		s.api,
		operation("verifyAudit", http.MethodPost, "/audit/verification",
			"Whether the audit log is as it was written, also against checkpoints that were kept elsewhere", needs(access.Audit)),
		s.verifyAudit,
	)
}

// audit handles the operation audit: who did what, the newest first.
func (s *server) audit(ctx context.Context, in *struct {
	By     string    `query:"by" maxLength:"200" doc:"Who did it"`
	Action string    `query:"action" maxLength:"100" doc:"A part of what was done, such as publish"`
	Kind   string    `query:"kind" maxLength:"40" doc:"Kind of the object, such as policies"`
	Object string    `query:"object" maxLength:"200" doc:"Id of the object"`
	Change string    `query:"change" maxLength:"40"`
	Since  time.Time `query:"since" doc:"From this moment on"`
	Until  time.Time `query:"until" doc:"To before this moment"`
	Below  int64     `query:"below" minimum:"0" doc:"From below this sequence number on"`
	Limit  int       `query:"limit" minimum:"1" maximum:"500" default:"100"`
}) (*output[[]wire.AuditRecord], error) {
	filter := store.AuditFilter{
		By: in.By, Action: in.Action, Kind: in.Kind, Object: in.Object, Change: in.Change, Since: in.Since, Until: in.Until, Below: in.Below,
	}
	rows, err := s.Flow.AuditRecords(ctx, actorOf(ctx), filter, in.Limit)
	list := make([]wire.AuditRecord, len(rows))
	for i, r := range rows {
		list[i] = auditOf(r)
	}
	return out(list, s.fault(ctx, err))
}

// auditCheckpoints handles the operation auditCheckpoints.
func (s *server) auditCheckpoints(ctx context.Context, _ *struct{}) (*output[[]audit.Checkpoint], error) {
	list, err := s.Flow.AuditCheckpoints(ctx, actorOf(ctx))
	return out(list, s.fault(ctx, err))
}

// verifyAudit handles the operation verifyAudit.
func (s *server) verifyAudit(ctx context.Context, in *struct{ Body wire.AuditCopies }) (*output[audit.Verification], error) {
	found, err := s.Flow.VerifyAudit(ctx, actorOf(ctx), in.Body.Checkpoints)
	return out(found, s.fault(ctx, err))
}
