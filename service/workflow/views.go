// This file keeps the views of lists that people save under a name.

package workflow

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// SaveView keeps a list as somebody looks at it.
func (s *AudienceService) SaveView(ctx context.Context, by Actor, page, title, query string, shared bool) (store.SavedView, error) {
	if err := by.Need(access.Read); err != nil {
		return store.SavedView{}, err
	}
	if n := len(strings.TrimSpace(title)); n < 1 || n > 100 {
		return store.SavedView{}, problem.Faults{
			{Code: problem.OutOfRange, Path: "/title", Found: fmt.Sprintf("%d characters", n), Expected: "1 to 100 characters"},
		}
	}
	v := store.SavedView{
		ID:        "V-" + strings.ToLower(rand.Text()[:8]),
		Page:      page,
		Title:     strings.TrimSpace(title),
		Query:     query,
		Owner:     by.Name,
		Shared:    shared,
		CreatedAt: s.now(),
	}
	return v, s.store.In(ctx).SaveView(v)
}

// Views lists the views of a page that somebody may see.
func (s *AudienceService) Views(ctx context.Context, by Actor, page string) ([]store.SavedView, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.store.In(ctx).Views(page, by.Name)
}

// DropView takes somebody's own view away.
func (s *AudienceService) DropView(ctx context.Context, by Actor, id string) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	there, err := s.store.In(ctx).DropView(id, by.Name)
	if err == nil && !there {
		err = &NotFoundError{"view of yours", id}
	}
	return err
}
