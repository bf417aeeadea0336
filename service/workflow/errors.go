// This file has the errors of the use cases. The edges phrase them.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// NotFoundError says that something is not there.
type NotFoundError struct{ Kind, ID string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("There is no %s %s.", e.Noun(), problem.Quote(e.ID))
}

// Noun is the kind in the singular: kinds of objects are named by their lists.
func (e *NotFoundError) Noun() string {
	if one := singular[e.Kind]; one != "" {
		return one
	}
	return e.Kind
}

var singular = map[string]string{
	"policies": "policy", "groups": "group", "settings": "setting", "units": "unit", "devices": "device", "people": "person",
	"exceptions": "exception", "rulings": "ruling", "checks": "check",
	"rollout_plans": "rollout plan", "approval_rules": "approval rule", "baselines": "baseline",
}

func notFound(err error, kind, id string) error {
	if errors.Is(err, store.ErrNotFound) {
		return &NotFoundError{kind, id}
	}
	return err
}

// OpenEditOf gives an open change with an edit of an object, which is named as a NotFoundError
// names it; empty: there is none.
func (s *ChangeService) OpenEditOf(ctx context.Context, kind, id string) string {
	list := kind
	for plural, one := range singular {
		if one == kind {
			list = plural
		}
	}
	change, err := s.store.In(ctx).OpenEdit(list, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.log.Error("looking for an open change", "kind", kind, "id", id, "error", err)
	}
	return change
}

// OwnRequestError says that somebody would approve what they asked for themselves.
type OwnRequestError struct{}

func (e *OwnRequestError) Error() string {
	return "You asked for this exception; somebody else must approve it."
}

// StaleError says that what is being altered was altered by somebody else since it was read.
type StaleError struct {
	What    string
	Version int64 // as it is now
	By      string
	At      time.Time
}

func (e *StaleError) Error() string {
	return fmt.Sprintf("%s was altered by %s at %s; it is version %d now", e.What, e.By, e.At.Format(time.RFC3339), e.Version)
}

// NeedVersionError says that an alteration must name the version that it starts from.
type NeedVersionError struct{ What string }

func (e *NeedVersionError) Error() string {
	return e.What + " is there already; say with If-Match which version is altered"
}

// StateError says that a change is not in a state in which this can be done.
type StateError struct{ Change, State, Expected string }

func (e *StateError) Error() string {
	return fmt.Sprintf("change %s is %s, expected %s", e.Change, e.State, e.Expected)
}

// Overtaken is an object that was published otherwise since a change began to edit it.
type Overtaken struct {
	Kind     string
	ID       string
	Base     int64
	Live     int64
	By       string
	At       time.Time
	Change   string
	Revision int64
}

// OvertakenError says that a change can't be published because of others that were.
type OvertakenError struct{ Objects []Overtaken }

func (e *OvertakenError) Error() string {
	o := e.Objects[0]
	return fmt.Sprintf(
		"%s %s was published otherwise by %s in change %s (version %d, this change began with %d)",
		o.Kind,
		o.ID,
		o.By,
		o.Change,
		o.Live,
		o.Base,
	)
}
