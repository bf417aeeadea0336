// This file says who is calling, before anything else is looked at.

package httpapi

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/workflow"
)

const (
	sessionCookie = "zridge_session"
	knownCookie   = "zridge_known" // of a browser that signed in before
	// viaHeader is how the command line says that it is calling; it grants nothing.
	viaHeader = "Zridge-Via"
	// idleHeader is how a page says that it asks by itself, and that nobody has touched it for a
	// while.
	idleHeader = "Zridge-Idle"
)

type (
	callerKey  struct{}
	requestKey struct{}
)

// callerOf gives who is calling; the zero Caller in public operations.
func callerOf(ctx context.Context) signin.Caller {
	c, _ := ctx.Value(callerKey{}).(signin.Caller)
	return c
}

// requestOf gives the id of a request, which its answer and the log have, too.
func requestOf(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}

func actorOf(ctx context.Context) workflow.Actor {
	c := callerOf(ctx)
	roles := make([]string, len(c.Grants))
	for i, g := range c.Grants {
		roles[i] = g.Role
	}
	return workflow.Actor{Name: c.Name, Via: c.Via, Request: requestOf(ctx), Held: c.Held, Roles: roles}
}

// withRequestID gives every request an id, which its answer has in X-Request-Id.
func withRequestID(c *gin.Context) {
	id := strings.ToLower(rand.Text()[:16])
	c.Header("X-Request-Id", id)
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), requestKey{}, id))
}

// identify reads a bearer token, else a session cookie.
func (s *server) identify(ctx context.Context, authorization, cookie, via string, used bool) (signin.Caller, error) {
	if token, ok := strings.CutPrefix(authorization, "Bearer "); ok {
		c, err := s.SignIn.ByToken(ctx, token)
		if via == "cli" {
			c.Via = "cli"
		}
		return c, err
	}
	if cookie != "" {
		return s.SignIn.BySession(ctx, cookie, used)
	}
	return signin.Caller{}, signin.ErrRefused
}

func mustSignIn() *wire.Problem {
	return problemOf(http.StatusUnauthorized, "not-signed-in", "You are not signed in, or your session has expired.")
}

func (s *server) mayNot(ctx context.Context, lacks access.Right) *wire.Problem {
	s.recordRefusal(ctx, lacks)
	return problemOf(http.StatusForbidden, "forbidden", fmt.Sprintf("This needs the right %q, which you do not have.", lacks))
}

// recordRefusal records that somebody who is signed in asked for more than they may do. Many
// refusals become one record with a count.
func (s *server) recordRefusal(ctx context.Context, lacks access.Right) {
	s.Flow.RecordOften(ctx, actorOf(ctx), "refused: needs "+string(lacks), originOf(ctx).Address)
}

// authenticate is the middleware of every operation of the API. Whether the caller has the
// operation's right is looked at here, so that it is said before anything about what they sent;
// package workflow looks again.
func (s *server) authenticate(ctx huma.Context, next func(huma.Context)) {
	op := ctx.Operation()
	if op.Metadata["public"] == true {
		next(ctx)
		return
	}
	cookie := ""
	if c, err := huma.ReadCookie(ctx, cookieName(sessionCookie, originOf(ctx.Context()).Secure)); err == nil {
		cookie = c.Value
	}
	caller, err := s.identify(ctx.Context(), ctx.Header("Authorization"), cookie, ctx.Header(viaHeader),
		ctx.Header(idleHeader) == "" && op.OperationID != "events")
	refuse := func(p *wire.Problem) {
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		s.api.Marshal(ctx.BodyWriter(), "application/json", p)
	}
	if err != nil {
		refuse(mustSignIn())
		return
	}
	if right := rightOf(op); right != "" && !caller.Held.Anywhere().Has(right) { // for which objects it is held, the use case looks
		refuse(s.mayNot(context.WithValue(ctx.Context(), callerKey{}, caller), right))
		return
	}
	if op.Metadata["recent"] == true && !caller.Recent(time.Now()) {
		refuse(problemOf(http.StatusForbidden, "confirm", "Give your password again: you signed in a while ago."))
		return
	}
	next(huma.WithValue(ctx, callerKey{}, caller))
}

// signedIn guards what is no operation of the API. It tells the handlers after it who is calling.
func (s *server) signedIn(c *gin.Context) {
	cookie, _ := c.Cookie(cookieName(sessionCookie, originOf(c.Request.Context()).Secure))
	caller, err := s.identify(c.Request.Context(), c.GetHeader("Authorization"), cookie, c.GetHeader(viaHeader), c.GetHeader(idleHeader) == "")
	if err != nil {
		writeProblem(c.Writer, mustSignIn())
		c.Abort()
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), callerKey{}, caller))
}

func secureHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set(
		"Content-Security-Policy",
		"default-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=(), payment=(), usb=(), browsing-topics=()")
	if originOf(c.Request.Context()).Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
	}
	h.Set("Cache-Control", "no-store") // the console's own files say otherwise
}
