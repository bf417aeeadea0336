// This file has the use cases of the audit log: it is signed, verified, and shortened by rule.

package workflow

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/service/store"
)

// Checkpoint signs the audit log as it is, and then removes the records that are older than keep,
// in whole signed segments; 0: none are removed. ok is false if nothing was written since the last
// checkpoint. The service itself does this; nobody asks for it.
func (s *Service) Checkpoint(ctx context.Context, key ed25519.PrivateKey, keep time.Duration) (c audit.Checkpoint, ok bool, err error) {
	now := s.now()
	data := s.store.In(context.WithoutCancel(ctx))
	if c, ok, err = data.Checkpoint(now, key); err != nil || keep <= 0 {
		return c, ok, err
	}
	removed, err := data.DropAudited(now.Add(-keep))
	if err == nil && removed > 0 {
		err = s.audit(data, Actor{Name: "service", Via: "schedule"}, store.AuditRecord{
			Action: "audit-retention", After: fmt.Sprintf("%d records were removed that were older "+
				"than %d days", removed, int(keep.Hours()/24)),
		})
	}
	return c, ok, err
}

// VerifyAudit reads the whole audit log and says whether it is as it was written. copies are
// checkpoints that somebody kept elsewhere; they are compared together with those of the database.
func (s *Service) VerifyAudit(ctx context.Context, by Actor, copies []audit.Checkpoint) (audit.Verification, error) {
	if err := by.Need(access.Audit); err != nil {
		return audit.Verification{}, err
	}
	data := s.store.In(ctx)
	checkpoints, err := data.AuditCheckpoints()
	if err != nil {
		return audit.Verification{}, err
	}
	return audit.Verify(data.AuditChain, append(checkpoints, copies...), s.auditKeys)
}

// AuditCheckpoints lists the checkpoints of the audit log, the oldest first.
func (s *Service) AuditCheckpoints(ctx context.Context, by Actor) ([]audit.Checkpoint, error) {
	if err := by.Need(access.Audit); err != nil {
		return nil, err
	}
	return s.store.In(ctx).AuditCheckpoints()
}
