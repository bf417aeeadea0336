package service_test

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"math/big"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/httpapi"
	"zenithridge.example/zridge/service/signin"
)

// issuer is a small OpenID Connect issuer that signs everybody in as whoever it is told.
type issuer struct {
	t   *testing.T
	key *rsa.PrivateKey
	*httptest.Server

	mu     sync.Mutex
	claims map[string]any        // of who signs in next
	codes  map[string]url.Values // what was asked for, by code
	asked  url.Values            // last
	alter  func(claims map[string]any)
	other  *rsa.PrivateKey // signs instead of key; nil: key does
}

func newIssuer(t *testing.T) *issuer {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	i := &issuer{t: t, key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{
			"issuer": i.URL, "authorization_endpoint": i.URL + "/ask", "token_endpoint": i.URL + "/token", "jwks_uri": i.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"},
		})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		e := big.NewInt(int64(i.key.E)).Bytes()
		answer(w, map[string]any{"keys": []any{map[string]any{
			"kty": "RSA", "alg": "RS256", "use": "sig", "kid": "1",
			"n": base64.RawURLEncoding.EncodeToString(i.key.N.Bytes()), "e": base64.RawURLEncoding.EncodeToString(e),
		}}})
	})
	mux.HandleFunc("/ask", func(w http.ResponseWriter, r *http.Request) {
		i.mu.Lock()
		defer i.mu.Unlock()
		code := signin.Secret()
		i.codes[code], i.asked = r.URL.Query(), r.URL.Query()
		back := r.URL.Query().Get("redirect_uri") + "?" + url.Values{"code": {code}, "state": {r.URL.Query().Get("state")}}.Encode()
		http.Redirect(w, r, back, http.StatusFound)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		i.mu.Lock()
		defer i.mu.Unlock()
		asked, known := i.codes[r.FormValue("code")]
		delete(i.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !known || base64.RawURLEncoding.EncodeToString(sum[:]) != asked.Get("code_challenge") || asked.Get("code_challenge_method") != "S256" {
			http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
			return
		}
		claims := map[string]any{
			"iss": i.URL, "aud": "zridge", "nonce": asked.Get("nonce"), "iat": time.Now().Unix(), "exp": time.Now().Add(time.Hour).Unix(),
		}
		for k, v := range i.claims {
			claims[k] = v
		}
		if i.alter != nil {
			i.alter(claims)
		}
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": i.signed(claims)})
	})
	i.Server = httptest.NewServer(mux)
	t.Cleanup(i.Close)
	return i
}

// signed makes a JSON Web Token (RFC 7519) with RS256.
func (i *issuer) signed(claims map[string]any) string {
	body, err := json.Marshal(claims)
	if err != nil {
		i.t.Error(err)
	}
	text := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"RS256","kid":"1"}`)) + "." + base64.RawURLEncoding.EncodeToString(body)
	sum := sha256.Sum256([]byte(text))
	key := i.key
	if i.other != nil {
		key = i.other
	}
	signature, err := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA256, sum[:])
	if err != nil {
		i.t.Error(err)
	}
	return text + "." + base64.RawURLEncoding.EncodeToString(signature)
}

// TestSigningInThroughAnIssuer goes through the whole flow as a browser does, with an issuer that
// is honest and with ones that are not.
func TestSigningInThroughAnIssuer(t *testing.T) {
	t.Parallel()
	i := newIssuer(t)
	running, err := service.Start(service.Config{
		Address: "127.0.0.1:0", Database: filepath.Join(t.TempDir(), "z.db"), Day: "2026-11-23",
		SecondFactorFor: []string{"author"},
		OIDC: httpapi.OIDC{
			Issuer: i.URL, Title: "Larkfell", Client: "zridge", Secret: "s", GroupsClaim: "groups",
			Grants: []signin.GroupGrant{{Group: "it", Role: "author"}, {Group: "desk", Role: "service-desk"}, {Group: "it", Role: "no-such-role"}},
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	t.Cleanup(func() { stop(); <-done })
	api := firstAdministrator(t, running.Address, running.SetupCode)
	if ways := get[wire.WaysToSignIn](t, api, "/ways-to-sign-in"); ways.Issuer != "Larkfell" {
		t.Errorf("the ways to sign in are %+v", ways)
	}
	// come signs in as a browser and gives it with the address at which it ends.
	come := func(claims map[string]any) (*client.Client, *url.URL) {
		t.Helper()
		i.mu.Lock()
		i.claims = claims
		i.mu.Unlock()
		jar, _ := cookiejar.New(nil)
		browser := &http.Client{Jar: jar}
		answer, err := browser.Get(running.Address + "/api/v1/oidc/start")
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return &client.Client{Base: running.Address, HTTP: browser}, answer.Request.URL
	}
	lena := map[string]any{"sub": "1234", "preferred_username": "Lena.Brandt", "groups": []string{"it", "crew"}}
	browser, at := come(lena)
	who, err := client.Get[wire.Who](t.Context(), browser, "/session", nil)
	if err != nil || who.Name != "lena.brandt" || who.Role != "author" || who.FactorNeeded || at.RawQuery != "" {
		t.Fatalf("at %s as %+v, %v", at, who, err)
	}
	lena["groups"] = []string{"desk"}
	browser, _ = come(lena)
	if who := get[wire.Who](t, browser, "/session"); who.Role != "service-desk" {
		t.Errorf("in another group: %+v", who)
	}
	lena["groups"], lena["preferred_username"] = nil, "somebody.else"
	browser, _ = come(lena)
	if who := get[wire.Who](t, browser, "/session"); who.Name != "lena.brandt" || len(who.Rights) != 0 {
		t.Errorf("in no group, with another name: %+v", who)
	}
	if _, err := (&client.Client{Base: running.Address}).SignIn(t.Context(), "lena.brandt", "", "tests", 1); err == nil {
		t.Error("an account of the issuer signs in with an empty password")
	}
	refused := func(name, why string, claims map[string]any, alter func(map[string]any), other *rsa.PrivateKey) {
		t.Helper()
		i.mu.Lock()
		i.alter, i.other = alter, other
		i.mu.Unlock()
		browser, at := come(claims)
		if _, err := client.Get[wire.Who](t.Context(), browser, "/session", nil); statusOf(err) != http.StatusUnauthorized {
			t.Errorf("%s: %v", name, err)
		}
		if text := at.Query().Get("refused"); !strings.Contains(text, why) {
			t.Errorf("%s: the page says %q", name, text)
		}
		i.mu.Lock()
		i.alter, i.other = nil, nil
		i.mu.Unlock()
	}
	tomas := map[string]any{"sub": "9", "preferred_username": "tomas"}
	set := func(field string, value any) func(map[string]any) { return func(c map[string]any) { c[field] = value } }
	stranger, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	refused("an account with a password", "signs in with a password", map[string]any{"sub": "7", "preferred_username": "ines"}, nil, nil)
	refused("no name", "no name", map[string]any{"sub": "8"}, nil, nil)
	refused("for another service", "cannot be taken", tomas, set("aud", "another"), nil)
	refused("of another issuer", "cannot be taken", tomas, set("iss", "https://other.example"), nil)
	refused("too old", "cannot be taken", tomas, set("exp", time.Now().Add(-time.Hour).Unix()), nil)
	refused("another nonce", "cannot be taken", tomas, set("nonce", "x"), nil)
	refused("another key", "cannot be taken", tomas, nil, stranger)
	for name, path := range map[string]string{
		"an answer without a beginning": "/api/v1/oidc/answer?code=x&state=y", "an error": "/api/v1/oidc/answer?error=access_denied",
	} {
		_, at := get2(t, running.Address+path)
		if !strings.Contains(at.Query().Get("refused"), "not begun here") {
			t.Errorf("%s: ends at %s", name, at)
		}
	}
	if _, err := api.Call(t.Context(), http.MethodPut, "/accounts/lena.brandt", nil, wire.AlteredAccount{Disabled: true}, nil); err != nil {
		t.Fatal(err)
	}
	refused("a disabled account", "may not sign in", map[string]any{"sub": "1234"}, nil, nil)
	log := get[[]wire.AuditRecord](t, api, "/audit?action=sign+in")
	if !slices.ContainsFunc(log, func(r wire.AuditRecord) bool {
		return r.By == "lena.brandt" && strings.Contains(r.After, "through "+i.URL)
	}) {
		t.Errorf("the audit log has %+v", log)
	}
}

// TestSigningInAgainThroughAnIssuer has the service believe no more of a sign-in than the issuer says: how strong it was,
// and when somebody gave a password.
func TestSigningInAgainThroughAnIssuer(t *testing.T) {
	t.Parallel()
	i := newIssuer(t)
	running := startWith(t, service.Config{
		Database: filepath.Join(t.TempDir(), "z.db"),
		OIDC: httpapi.OIDC{
			Issuer: i.URL, Title: "Larkfell", Client: "zridge", Secret: "s", GroupsClaim: "groups", Strengths: []string{"phr", "mfa"},
			Grants: []signin.GroupGrant{{Group: "desk", Role: "service-desk"}},
		},
	})
	jar, _ := cookiejar.New(nil)
	browser := &client.Client{Base: running.Address, HTTP: &http.Client{Jar: jar}}
	// come signs in, and gives what the issuer was asked for and why the sign-in was refused.
	come := func(path, acr string, at time.Time) (asked url.Values, refused string) {
		t.Helper()
		i.mu.Lock()
		i.claims = map[string]any{"sub": "1", "preferred_username": "lena", "groups": []string{"desk"}, "acr": acr}
		if !at.IsZero() {
			i.claims["auth_time"] = at.Unix()
		}
		i.mu.Unlock()
		answer, err := browser.HTTP.Get(running.Address + path)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		i.mu.Lock()
		defer i.mu.Unlock()
		return i.asked, answer.Request.URL.Query().Get("refused")
	}
	// confirmed tells whether the session may do what needs a recent password.
	confirmed := func() bool {
		t.Helper()
		_, err := client.Post[wire.KeyRequest](t.Context(), browser, "/key-requests", wire.KeyAsk{Device: "L1", Identifier: "1",
			Person: "ada", Model: "x", Reason: "needed"})
		code := codeOf(err)
		if code != "confirm" && code != "not-found" {
			t.Errorf("asking for a key: %v", err)
		}
		return code != "confirm"
	}
	const start, again = "/api/v1/oidc/start", "/api/v1/oidc/start?again=1"
	now := time.Now()
	for _, acr := range []string{"", "pwd"} {
		if _, refused := come(start, acr, now); !strings.Contains(refused, "not strong enough") {
			t.Errorf("with the strength %q: %q", acr, refused)
		}
	}
	asked, refused := come(start, "mfa", time.Time{})
	if refused != "" || asked.Get("acr_values") != "phr mfa" || asked.Has("max_age") {
		t.Errorf("refused %q; asked for %v", refused, asked)
	}
	if confirmed() {
		t.Error("a sign-in of which the issuer does not say when it was counts as recent")
	}
	if come(start, "phr", now.Add(-time.Hour)); confirmed() {
		t.Error("a sign-in at the issuer an hour ago counts as recent")
	}
	for name, at := range map[string]time.Time{"an hour ago": now.Add(-time.Hour), "no time": {}} {
		if _, refused := come(again, "phr", at); !strings.Contains(refused, "signed in again just now") {
			t.Errorf("again, %s: %q", name, refused)
		}
		if confirmed() {
			t.Errorf("again, %s: it counts as recent", name)
		}
	}
	asked, refused = come(again, "phr", time.Now())
	if refused != "" || asked.Get("prompt") != "login" || asked.Get("max_age") != "0" || !confirmed() {
		t.Errorf("refused %q; asked for %v", refused, asked)
	}
	if come(start, "phr", now.Add(time.Hour)); !confirmed() { // its clock is ahead
		t.Error("a sign-in just now does not count as recent")
	}
}

// get2 gets a page with its redirects.
func get2(t *testing.T, address string) (int, *url.URL) {
	t.Helper()
	answer, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	return answer.StatusCode, answer.Request.URL
}
