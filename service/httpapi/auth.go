// This file says who is calling, before anything else is looked at.

package httpapi

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/workflow"
)

const (
	sessionCookie = "zridge_session"
	// viaHeader is how the command line says that it is calling; it grants nothing.
	viaHeader = "Zridge-Via"
)

type callerKey struct{}

// callerOf gives who is calling; the zero Caller in public operations.
func callerOf(ctx context.Context) signin.Caller {
	c, _ := ctx.Value(callerKey{}).(signin.Caller)
	return c
}

func actorOf(ctx context.Context) workflow.Actor {
	c := callerOf(ctx)
	return workflow.Actor{Name: c.Name, Via: c.Via}
}

// identify reads a bearer token, else a session cookie.
func (s *server) identify(authorization, cookie, via string) (signin.Caller, error) {
	if token, ok := strings.CutPrefix(authorization, "Bearer "); ok {
		c, err := s.SignIn.ByToken(token)
		if via == "cli" {
			c.Via = "cli"
		}
		return c, err
	}
	if cookie != "" {
		return s.SignIn.BySession(cookie)
	}
	return signin.Caller{}, signin.ErrRefused
}

func mustSignIn() *wire.Problem {
	return problemOf(http.StatusUnauthorized, "not-signed-in", "found no session or token that is valid")
}

// authenticate is the middleware of every operation of the API.
func (s *server) authenticate(ctx huma.Context, next func(huma.Context)) {
	op := ctx.Operation()
	if op.Metadata["public"] == true {
		next(ctx)
		return
	}
	cookie := ""
	if c, err := huma.ReadCookie(ctx, sessionCookie); err == nil {
		cookie = c.Value
	}
	caller, err := s.identify(ctx.Header("Authorization"), cookie, ctx.Header(viaHeader))
	refuse := func(p *wire.Problem) {
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		s.api.Marshal(ctx.BodyWriter(), "application/json", p)
	}
	if err != nil {
		refuse(mustSignIn())
		return
	}
	if role, limited := op.Metadata["role"]; limited && role != caller.Role {
		refuse(problemOf(http.StatusForbidden, "forbidden", "found the role "+string(caller.Role)+", expected administrator"))
		return
	}
	next(huma.WithValue(ctx, callerKey{}, caller))
}

// signedIn guards what is no operation of the API.
func (s *server) signedIn(c *gin.Context) {
	cookie, _ := c.Cookie(sessionCookie)
	if _, err := s.identify(c.GetHeader("Authorization"), cookie, ""); err != nil {
		writeProblem(c.Writer, mustSignIn())
		c.Abort()
	}
}

func secureHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set(
		"Content-Security-Policy",
		"default-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
}
