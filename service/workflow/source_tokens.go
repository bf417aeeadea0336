// This file has the tokens with which provisioning clients write to a source, and the password of a
// directory.

package workflow

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// password reads a password that a set-up names from the folder of secrets.
func (s *SourceService) password(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	if s.sources.secrets == "" || !estate.ValidID(name) || strings.HasPrefix(name, ".") {
		return "", problem.Faults{
			{
				Code:     problem.UnknownFile,
				Path:     "/ldap/password",
				Found:    problem.Quote(name),
				Expected: "a file in the folder of secrets; the service is told of it with --secrets",
			},
		}
	}
	data, err := os.ReadFile(filepath.Join(s.sources.secrets, name))
	if err != nil {
		return "", problem.Faults{
			{
				Code:     problem.UnknownFile,
				Path:     "/ldap/password",
				Found:    problem.Quote(name) + ", which can't be read",
				Expected: "a file of that name in the folder of secrets",
			},
		}
	}
	return strings.TrimRight(string(data), "\r\n"), nil
}

// AddSourceToken makes a token with which a provisioning client writes to a source. The secret is
// given once.
func (s *SourceService) AddSourceToken(ctx context.Context, by Actor, id, name string) (secret string, t store.SourceToken, err error) {
	if err := by.Need(access.Sources); err != nil {
		return "", store.SourceToken{}, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return "", t, notFound(err, "source", id)
	}
	if row.Kind != string(SCIM) {
		return "", t, &StateError{id, "of the kind " + row.Kind, "a source of the kind scim"}
	}
	if n := len(strings.TrimSpace(name)); n < 1 || n > 100 {
		return "", t, problem.Faults{
			{
				Code:     problem.OutOfRange,
				Path:     "/name",
				Found:    fmt.Sprintf("%d characters", n),
				Expected: "1 to 100 characters that say which client it is for",
			},
		}
	}
	secret = signin.Secret()
	t = store.SourceToken{
		ID:        "ST-" + strings.ToLower(signin.Secret()[:8]),
		Source:    id,
		Hash:      signin.HashOf(secret),
		Name:      name,
		CreatedBy: by.Name,
		CreatedAt: s.now(),
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.AddSourceToken(t); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "make token of source", Kind: "sources", ObjectID: id, After: t.ID + " " + name})
	})
	return secret, t, err
}

// SourceTokens lists the tokens of a source.
func (s *SourceService) SourceTokens(ctx context.Context, by Actor, id string) ([]store.SourceToken, error) {
	if err := by.Need(access.Sources); err != nil {
		return nil, err
	}
	return s.store.In(ctx).SourceTokens(id)
}

// RevokeSourceToken ends a token.
func (s *SourceService) RevokeSourceToken(ctx context.Context, by Actor, id, token string) error {
	if err := by.Need(access.Sources); err != nil {
		return err
	}
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		tokens, err := tx.SourceTokens(id)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(tokens, func(t store.SourceToken) bool { return t.ID == token })
		if at < 0 {
			return &NotFoundError{"token", token}
		}
		if tokens[at].RevokedAt != nil {
			return nil
		}
		now := s.now()
		tokens[at].RevokedAt = &now
		if err := tx.SaveSourceToken(tokens[at]); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "revoke token of source", Kind: "sources", ObjectID: id, After: token})
	})
}
