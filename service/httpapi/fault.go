// This file is the one table from faults to HTTP.

package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/validation"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/malware"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// faultsTold is how many faults an answer has at most: an input of some hundred kilobytes can have
// as many thousand.
const faultsTold = 200

var titles = map[string]string{
	"not-signed-in":      "Not signed in",
	"refused":            "Refused",
	"forbidden":          "You may not do this",
	"not-found":          "Not found",
	"by-token":           "Sign in for this",
	"own-account":        "Somebody else must do this",
	"last-administrator": "The last administrator",
	"busy":               "The service is busy",
	"wrong-host":         "Another host is asked for",
	"own-request":        "Somebody else must approve",
	"not-the-same":       "Not the same as at the laptop",
	"faults":             "Correct what is listed",
	"stale":              "Somebody altered this since you read it",
	"overtaken":          "Another change has published one of these objects",
	"version-needed":     "Say which version you alter",
	"wrong-state":        "The change is in another state",
	"not-approved":       "Approvals are missing",
	"own-edit":           "Somebody else must approve",
	"look-again":         "Look again before you decide",
	"waits":              "A rollout under way comes first",
	"not-possible":       "The rollout is in another state",
	"taken":              "The name is taken",
	"too-many":           "Too many tries",
	"internal":           "The service failed",
	"method-not-allowed": "Method not allowed",
	"too-large":          "The body is too large",
}

func problemOf(status int, code, detail string) *wire.Problem {
	title := titles[code]
	if title == "" {
		title = http.StatusText(status)
	}
	return &wire.Problem{Type: "urn:zridge:" + code, Title: title, Status: status, Detail: detail, Code: code}
}

// fault gives the problem for an error of a use case. What is not known is internal: it is logged,
// and not told.
func (s *server) fault(ctx context.Context, err error) error {
	var (
		faults    problem.Faults
		notFound  *workflow.NotFoundError
		unknown   *resolve.UnknownError
		stale     *workflow.StaleError
		need      *workflow.NeedVersionError
		state     *workflow.StateError
		overtaken *workflow.OvertakenError
		invalid   *signin.InvalidError
		answered  *wire.Problem
		busy      *workflow.BusyError
		denied    *access.DeniedError
		outside   *access.OutsideError
		own       *workflow.OwnRequestError
		many      *signin.TooManyError
		approvals *workflow.ApprovalsError
		ownEdit   *workflow.OwnEditError
		look      *workflow.LookAgainError
		waits     *workflow.WaitsError
		act       *workflow.RefusedActError
		notThen   *workflow.NotThenError
		compared  *workflow.ComparisonError
		asked     *workflow.KeyRequestError
		infected  *workflow.MalwareError
	)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &answered):
		return answered
	case errors.As(err, &faults):
		p := problemOf(http.StatusUnprocessableEntity, "faults", firstFault(faults))
		p.Faults, p.MoreFaults = faults, max(0, len(faults)-faultsTold)
		p.Faults = p.Faults[:len(faults)-p.MoreFaults]
		return p
	case errors.As(err, &denied):
		return s.mayNot(ctx, denied.Right)
	case errors.As(err, &outside):
		s.recordRefusal(ctx, outside.Right)
		return s.outside(outside)
	case errors.As(err, &own):
		return problemOf(http.StatusForbidden, "own-request", own.Error())
	case errors.As(err, &notFound):
		return s.missing(ctx, notFound)
	case errors.As(err, &notThen):
		return problemOf(http.StatusNotFound, "not-found", notThen.Error())
	case errors.As(err, &unknown):
		return problemOf(
			http.StatusNotFound,
			"not-found",
			(&workflow.NotFoundError{Kind: string(unknown.Kind), ID: unknown.ID}).Error()+s.nearby(ctx, string(unknown.Kind), unknown.ID),
		)
	case errors.Is(err, store.ErrNotFound):
		return problemOf(http.StatusNotFound, "not-found", "no such record")
	case errors.As(err, &stale):
		return problemOf(http.StatusPreconditionFailed, "stale", stale.Error())
	case errors.As(err, &need):
		return problemOf(http.StatusPreconditionRequired, "version-needed", need.Error())
	case errors.As(err, &busy):
		return problemOf(http.StatusConflict, "wrong-state", busy.Error())
	case errors.As(err, &state):
		return problemOf(http.StatusConflict, "wrong-state", state.Error())
	case errors.As(err, &overtaken):
		p := problemOf(http.StatusConflict, "overtaken", overtaken.Error())
		for _, o := range overtaken.Objects {
			p.Overtaken = append(
				p.Overtaken,
				wire.Overtaken{Kind: o.Kind, ID: o.ID, BaseVersion: o.Base, LiveVersion: o.Live, By: o.By, At: o.At, Change: o.Change},
			)
		}
		return p
	case errors.As(err, &approvals):
		return approvalsMissing(approvals)
	case errors.As(err, &ownEdit):
		return problemOf(http.StatusForbidden, "own-edit", ownEdit.Error())
	case errors.As(err, &look):
		return problemOf(http.StatusPreconditionFailed, "look-again", look.Error())
	case errors.As(err, &waits):
		p := problemOf(http.StatusConflict, "waits", waits.Error())
		p.WaitsFor = waitingOf(waits.For)
		return p
	case errors.As(err, &compared):
		return problemOf(http.StatusConflict, "not-the-same", compared.Error())
	case errors.As(err, &asked):
		return problemOf(http.StatusConflict, "not-possible", asked.Error())
	case errors.As(err, &infected):
		return problemOf(http.StatusConflict, "malware", infected.Error())
	case errors.Is(err, malware.ErrUnavailable):
		s.logged(ctx, "the malware scanner does not answer", "error", err)
		p := problemOf(http.StatusServiceUnavailable, "not-searched",
			"The file was not kept: it could not be searched for malware. Try again in a moment, or ask whoever runs the service.")
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {"30"}})
	case errors.As(err, &act):
		return problemOf(http.StatusConflict, "not-possible", act.Error())
	case errors.As(err, &invalid):
		return problemOf(http.StatusUnprocessableEntity, "faults", invalid.Error())
	case errors.Is(err, signin.ErrLast):
		return problemOf(http.StatusConflict, "last-administrator", "This is the last administrator. Make somebody else one first.")
	case errors.Is(err, signin.ErrOwn):
		return problemOf(http.StatusForbidden, "own-account", "Nobody alters their own rights. Ask another administrator.")
	case errors.Is(err, signin.ErrSecondFactor):
		return problemOf(http.StatusUnauthorized, "second-factor", "Give the code that your app shows, or a recovery code.")
	case errors.Is(err, signin.ErrNoSession):
		return problemOf(http.StatusForbidden, "by-token", "Sign in with a browser to do this: a token cannot.")
	case errors.Is(err, signin.ErrInUse):
		return problemOf(http.StatusConflict, "in-use", "Somebody has this role. Take the grants of it away first.")
	case errors.Is(err, signin.ErrByToken):
		return problemOf(http.StatusForbidden, "by-token", "A token makes no token. Sign in to make one.")
	case errors.Is(err, signin.ErrPasswordDue):
		return problemOf(http.StatusForbidden, "password-due", "Somebody else chose your password. Choose another one first.")
	case errors.Is(err, signin.ErrTaken):
		return problemOf(http.StatusConflict, "taken", "an account of that name is there already")
	case errors.As(err, &many):
		p := problemOf(
			http.StatusTooManyRequests,
			"too-many",
			fmt.Sprintf("Too many wrong passwords. Wait %d seconds.", int(many.Wait.Seconds())+1),
		)
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {fmt.Sprint(int(many.Wait.Seconds()) + 1)}})
	case errors.Is(err, signin.ErrBusy):
		p := problemOf(http.StatusServiceUnavailable, "busy", "Too many people sign in at once. Try again in a moment.")
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {"2"}})
	case errors.Is(err, signin.ErrRefused), errors.Is(err, checkin.ErrRefused):
		return problemOf(http.StatusUnauthorized, "refused", "the name, password or code is not right")
	}
	if errors.Is(err, context.Canceled) {
		return problemOf(http.StatusServiceUnavailable, "let-go", "nobody waits for the answer any more")
	}
	return problemOf(http.StatusInternalServerError, "internal", s.logged(ctx, "request failed", "error", err))
}

// approvalsMissing says which approvals a publication needs.
func approvalsMissing(e *workflow.ApprovalsError) *wire.Problem {
	p := problemOf(http.StatusConflict, "not-approved", e.Error())
	for i := range e.Missing {
		p.Demands = append(p.Demands, demandOf(&e.Missing[i]))
	}
	return p
}

// outside says that a right is held for some units alone, by their titles.
func (s *server) outside(e *access.OutsideError) *wire.Problem {
	titles := make([]string, len(e.Units))
	plan := s.Flow.Live().Plan
	for i, id := range e.Units {
		titles[i] = id
		if u := plan.Unit(estate.UnitID(id)); u != nil && u.Title != "" {
			titles[i] = u.Title
		}
	}
	return problemOf(
		http.StatusForbidden,
		"outside-scope",
		fmt.Sprintf("You have the right %q for %s alone, and %s concerns more than that.",
			e.Right, strings.Join(titles, ", "), e.What),
	)
}

// missing says that something is not there, and in which open change it is, where there is one.
func (s *server) missing(ctx context.Context, e *workflow.NotFoundError) *wire.Problem {
	p := problemOf(http.StatusNotFound, "not-found", e.Error()+s.nearby(ctx, e.Kind, e.ID))
	if change := s.Flow.OpenEditOf(ctx, e.Kind, e.ID); change != "" {
		p.Change = change
		p.Detail = fmt.Sprintf("No published %s %s. It exists in the open change %s.", e.Noun(), problem.Quote(e.ID), change)
	}
	return p
}

// nearby names what was likely meant by an id that nothing has; empty where nothing is like it. What is
// not there at a moment of the past can be there now.
func (s *server) nearby(ctx context.Context, kind, id string) string {
	near, err := s.Flow.Near(ctx, actorOf(ctx), kind, id)
	switch {
	case err != nil || len(near) == 0:
		return ""
	case slices.Contains(near, id):
		return " It is in the estate as it is live now."
	}
	return " Near it: " + strings.Join(near, ", ") + "."
}

// logged logs a failure of the service with the id of the request, and gives what the caller is
// told: nothing but the id.
func (s *server) logged(ctx context.Context, what string, attributes ...any) string {
	id := requestOf(ctx)
	s.Log.Error(what, append([]any{"request", id, "by", callerOf(ctx).Name}, attributes...)...)
	return "The service failed. Its log has the reason under the request " + id + "."
}

func firstFault(faults problem.Faults) string {
	text := faults[0].Error()
	if n := len(faults) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	return text
}

// newProblem makes the API library's own faults problems. Rejected values are not repeated: they
// may be secrets.
func newProblem(status int, message string, errs ...error) huma.StatusError {
	code := map[int]string{http.StatusUnprocessableEntity: "faults", http.StatusBadRequest: "faults",
		http.StatusRequestEntityTooLarge: "too-large", http.StatusNotFound: "not-found"}[status]
	if code == "" {
		code = strings.ToLower(strings.ReplaceAll(http.StatusText(status), " ", "-"))
	}
	p := problemOf(status, code, message)
	for _, err := range errs {
		var detail *huma.ErrorDetail
		switch {
		case errors.As(err, &detail) && status == http.StatusBadRequest:
			p.Faults = append(
				p.Faults,
				problem.Fault{
					Code:     problem.Syntax,
					Path:     pointer(detail.Location),
					Found:    detail.Message,
					Expected: "JSON of the documented form",
				},
			)
		case errors.As(err, &detail):
			p.Faults = append(p.Faults, faultOf(detail))
		case err != nil && status < 500:
			p.Faults = append(
				p.Faults,
				problem.Fault{Code: problem.Syntax, Found: "a body that can't be read", Expected: "JSON of the documented form"},
			)
		}
	}
	if len(p.Faults) > 0 {
		p.Detail = firstFault(p.Faults)
	}
	return p
}

// faultOf puts what the API library found wrong in our words. A value that may be a secret is only
// said by its type.
func faultOf(d *huma.ErrorDetail) problem.Fault {
	f := problem.Fault{
		Code:     problem.WrongType,
		Path:     pointer(d.Location),
		Found:    typeOf(d.Value),
		Expected: strings.TrimPrefix(d.Message, "expected "),
	}
	var name string
	switch {
	case d.Message == validation.MsgUnexpectedProperty:
		f.Code, f.Found, f.Expected = problem.UnknownField, "a field that there is not", "one of those that are documented"
	case strings.HasPrefix(d.Message, "unknown ") && strings.HasSuffix(d.Message, " parameter"):
		f.Code, f.Found, f.Expected = problem.UnknownField, "a parameter that there is not", "one of those that are documented"
	case strings.HasPrefix(d.Message, "required ") && strings.HasSuffix(d.Message, " parameter is missing"):
		f.Code, f.Found, f.Expected = problem.MissingField, "nothing", "a value: the parameter can't be left out"
	case strings.HasPrefix(d.Message, "invalid "):
		f.Expected = "a value of the type " + strings.TrimPrefix(d.Message, "invalid ")
	default:
		if n, _ := fmt.Sscanf(d.Message, validation.MsgExpectedRequiredProperty, &name); n == 1 {
			f.Code, f.Path, f.Found, f.Expected = problem.MissingField, strings.TrimSuffix(
				f.Path,
				"/",
			)+"/"+name, "nothing", "a value: the field can't be left out"
		} else if strings.HasPrefix(d.Message, "expected value to be one of ") {
			f.Code = problem.NotOneOf
		}
	}
	if text, is := d.Value.(string); is && text != "" && strings.HasPrefix(f.Path, "/query/") && f.Code != problem.UnknownField {
		f.Found = problem.Quote(text) // no secret is a parameter of an address
	}
	return f
}

// typeOf says of what type a value is.
func typeOf(v any) string {
	switch v.(type) {
	case nil:
		return "nothing"
	case bool:
		return "true or false"
	case float64, int, int64, json.Number:
		return "a number"
	case string:
		return "a text"
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	}
	return "another value"
}

// pointer makes a JSON Pointer of a location such as body.items[3].name.
func pointer(location string) string {
	return "/" + strings.NewReplacer(".", "/", "[", "/", "]", "").Replace(location)
}

func writeProblem(w http.ResponseWriter, p *wire.Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// recovered keeps a panic from reaching the caller: it is logged with its stack, and answered as an
// internal fault.
func (s *server) recovered(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler {
				panic(r)
			}
			told := s.logged(c.Request.Context(), "panic", "path", c.FullPath(), "panic", r, "stack", string(debug.Stack()))
			if !c.Writer.Written() {
				writeProblem(c.Writer, problemOf(http.StatusInternalServerError, "internal", told))
			}
			c.Abort()
		}
	}()
	c.Next()
}
