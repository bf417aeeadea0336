// This file signs people in through an OpenID Connect issuer: the authorization code flow with PKCE
// (RFC 7636).

package httpapi

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gin-gonic/gin"
	"golang.org/x/oauth2"

	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/workflow"
)

// OIDC says how people sign in through an issuer. The zero OIDC is none.
type OIDC struct {
	Issuer      string   // address
	Title       string   // that people know it by
	Client      string   // id of the service at the issuer
	Secret      string   // of the service at the issuer; empty: a public client
	GroupsClaim string   // that lists the groups of a person
	Strengths   []string // values of the claim acr, one of which a sign-in must have; empty: any is taken
	Grants      []signin.GroupGrant
	HTTP        *http.Client // nil: the default one
}

const (
	oidcCookie  = "zridge_oidc"
	oidcWithin  = 10 * time.Minute // from the start to the answer of the issuer
	oidcPending = 1000             // people who are at the issuer at once
	askWithin   = 15 * time.Second // an issuer answers

	clocksDiffer = time.Minute // of the issuer and the service, at most
)

var (
	errTooWeak = errors.New("The issuer signed you in in a way that is not strong enough here. Sign in there with a " +
		"second factor.") //nolint:staticcheck // people read it
	errNotAgain = errors.New("The issuer does not say that you signed in again just now.") //nolint:staticcheck // people read it
)

// oidcFlow is sign-ins that are under way. The issuer is asked for its addresses when somebody
// signs in first, and again if it could not be reached.
type oidcFlow struct {
	mu       sync.Mutex
	provider *oidc.Provider
	pending  map[string]pendingSignIn // by the secret of the browser
}

type pendingSignIn struct {
	state, nonce, verifier string
	began, until           time.Time
	again                  bool // somebody who has signed in is to do so again
}

// client gives the context in which the issuer is asked.
func (o *OIDC) client(ctx context.Context) (context.Context, context.CancelFunc) {
	if o.HTTP != nil {
		ctx = oidc.ClientContext(ctx, o.HTTP)
	}
	return context.WithTimeout(ctx, askWithin)
}

// issuer gives the issuer with its addresses.
func (s *server) issuer(ctx context.Context) (*oidc.Provider, error) {
	s.oidc.mu.Lock()
	defer s.oidc.mu.Unlock()
	if s.oidc.provider == nil {
		// The provider keeps the context for as long as it lives, to read keys.
		lasting := context.WithoutCancel(ctx)
		if s.OIDC.HTTP != nil {
			lasting = oidc.ClientContext(lasting, s.OIDC.HTTP)
		}
		provider, err := oidc.NewProvider(lasting, s.OIDC.Issuer)
		if err != nil {
			return nil, err
		}
		s.oidc.provider = provider
	}
	return s.oidc.provider, nil
}

func (s *server) oauth(c *gin.Context, provider *oidc.Provider) *oauth2.Config {
	scheme := "http"
	if originOf(c.Request.Context()).Secure {
		scheme = "https"
	}
	return &oauth2.Config{
		ClientID: s.OIDC.Client, ClientSecret: s.OIDC.Secret, Endpoint: provider.Endpoint(),
		RedirectURL: scheme + "://" + c.Request.Host + "/api/v1/oidc/answer",
		Scopes:      []string{oidc.ScopeOpenID, "profile", "email", "groups"},
	}
}

// startOIDC sends the browser to the issuer.
func (s *server) startOIDC(c *gin.Context) {
	ctx, cancel := s.OIDC.client(c.Request.Context())
	defer cancel()
	provider, err := s.issuer(ctx)
	if err != nil {
		s.oidcFailed(c, "The issuer cannot be reached. Try again in a moment.", err)
		return
	}
	browser := signin.Secret()
	now := time.Now()
	one := pendingSignIn{
		state: signin.Secret(), nonce: signin.Secret(), verifier: oauth2.GenerateVerifier(), began: now, until: now.Add(oidcWithin),
		again: c.Query("again") != "",
	}
	s.oidc.mu.Lock()
	if s.oidc.pending == nil {
		s.oidc.pending = map[string]pendingSignIn{}
	}
	for key, p := range s.oidc.pending {
		if p.until.Before(time.Now()) {
			delete(s.oidc.pending, key)
		}
	}
	full := len(s.oidc.pending) >= oidcPending
	if !full {
		s.oidc.pending[browser] = one
	}
	s.oidc.mu.Unlock()
	if full {
		s.oidcFailed(c, "Too many people sign in at once. Try again in a moment.", nil)
		return
	}
	// Lax: the browser comes back from the issuer's page with it.
	s.setOIDCCookie(c, browser, int(oidcWithin.Seconds()))
	options := []oauth2.AuthCodeOption{oidc.Nonce(one.nonce), oauth2.S256ChallengeOption(one.verifier)}
	if one.again { // before what matters the issuer asks for the password again, and says when it did
		options = append(options, oauth2.SetAuthURLParam("prompt", "login"), oauth2.SetAuthURLParam("max_age", "0"))
	}
	if len(s.OIDC.Strengths) > 0 {
		options = append(options, oauth2.SetAuthURLParam("acr_values", strings.Join(s.OIDC.Strengths, " ")))
	}
	c.Redirect(http.StatusFound, s.oauth(c, provider).AuthCodeURL(one.state, options...))
}

func (s *server) setOIDCCookie(c *gin.Context, value string, seconds int) {
	secure := originOf(c.Request.Context()).Secure
	http.SetCookie(c.Writer, &http.Cookie{
		Name: cookieName(oidcCookie, secure), Value: value, Path: "/", MaxAge: seconds, HttpOnly: true, Secure: secure,
		SameSite: http.SameSiteLaxMode,
	})
}

// takePending gives the sign-in that a browser began, once.
func (f *oidcFlow) takePending(browser string) (pendingSignIn, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p, known := f.pending[browser]
	delete(f.pending, browser)
	return p, known && p.until.After(time.Now())
}

// answerOIDC takes the answer of the issuer, which the browser brings, and opens a session.
func (s *server) answerOIDC(c *gin.Context) {
	cookie, _ := c.Cookie(cookieName(oidcCookie, originOf(c.Request.Context()).Secure))
	s.setOIDCCookie(c, "", -1)
	began, known := s.oidc.takePending(cookie)
	if !known || subtle.ConstantTimeCompare([]byte(began.state), []byte(c.Query("state"))) != 1 {
		s.oidcFailed(c, "This sign-in was not begun here, or took too long. Begin again.", nil)
		return
	}
	if refused := c.Query("error"); refused != "" {
		s.oidcFailed(c, "The issuer did not sign you in.", nil)
		return
	}
	ctx, cancel := s.OIDC.client(c.Request.Context())
	defer cancel()
	who, err := s.vouchedFor(ctx, c, began)
	if errors.Is(err, errTooWeak) || errors.Is(err, errNotAgain) {
		s.oidcFailed(c, err.Error(), nil)
		return
	}
	if err != nil {
		s.oidcFailed(c, "The answer of the issuer cannot be taken.", err)
		return
	}
	from := originOf(c.Request.Context())
	e, err := s.SignIn.SignInExternal(ctx, who, s.OIDC.Grants, signin.From{Address: from.Address})
	var taken *signin.NameTakenError
	var invalid *signin.InvalidError
	switch {
	case errors.As(err, &taken):
		s.oidcFailed(c, taken.Error(), nil)
		return
	case errors.As(err, &invalid):
		s.oidcFailed(c, "The issuer gives no name that an account can have.", nil)
		return
	case err != nil:
		s.oidcFailed(c, "You may not sign in. Ask an administrator.", err)
		return
	}
	by := workflow.Actor{Name: e.Caller.Name, Via: "console", Request: requestOf(c.Request.Context())}
	if err := s.Flow.Record(ctx, by, "sign in", fmt.Sprintf("through %s, from %s", s.OIDC.Issuer, from.Address)); err != nil {
		s.oidcFailed(c, "The sign-in could not be recorded.", err)
		return
	}
	session := cookieOf(sessionCookie, e.Secret, e.Expires, from.Secure)
	http.SetCookie(c.Writer, &session)
	c.Redirect(http.StatusFound, "/")
}

// vouchedFor trades the code of an answer for the issuer's word, and checks it: its signature, whom
// it is for, when, and the nonce.
func (s *server) vouchedFor(ctx context.Context, c *gin.Context, began pendingSignIn) (who signin.External, err error) {
	provider, err := s.issuer(ctx)
	if err != nil {
		return who, err
	}
	token, err := s.oauth(c, provider).Exchange(ctx, c.Query("code"), oauth2.VerifierOption(began.verifier))
	if err != nil {
		return who, errors.New("the issuer did not take the code") // its answer may have secrets in it
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := provider.Verifier(&oidc.Config{ClientID: s.OIDC.Client}).Verify(ctx, raw)
	if err != nil {
		return who, err
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(began.nonce)) != 1 {
		return who, errors.New("the nonce is another one")
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return who, err
	}
	if acr, _ := claims["acr"].(string); len(s.OIDC.Strengths) > 0 && !slices.Contains(s.OIDC.Strengths, acr) {
		return who, errTooWeak
	}
	who = signin.External{Issuer: id.Issuer, Subject: id.Subject}
	if at, ok := claims["auth_time"].(float64); ok {
		who.ConfirmedAt = time.Unix(int64(at), 0)
	}
	if began.again && who.ConfirmedAt.Before(began.began.Add(-clocksDiffer)) {
		return who, errNotAgain
	}
	who.Name, _ = claims["preferred_username"].(string)
	groups, _ := claims[s.OIDC.GroupsClaim].([]any)
	for _, g := range groups {
		if name, ok := g.(string); ok {
			who.Groups = append(who.Groups, name)
		}
	}
	return who, nil
}

// oidcFailed sends the browser back to the page for signing in, which says what went wrong.
func (s *server) oidcFailed(c *gin.Context, why string, err error) {
	ctx := c.Request.Context()
	if err != nil {
		s.Log.Warn("signing in through the issuer", "error", err, "request", requestOf(ctx))
	}
	s.Flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "console", Request: requestOf(ctx)}, "sign-in refused",
		originOf(ctx).Address)
	c.Redirect(http.StatusFound, "/?refused="+url.QueryEscape(why))
}

// waysToSignIn handles the operation waysToSignIn: how people can sign in.
func (s *server) waysToSignIn(context.Context, *struct{}) (*output[wire.WaysToSignIn], error) {
	w := wire.WaysToSignIn{}
	if s.OIDC.Issuer != "" {
		w.Issuer = s.OIDC.Title
	}
	return out(w, nil)
}
