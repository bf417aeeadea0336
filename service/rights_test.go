package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
)

// Every operation of the API document is refused to the roles that lack its right, and to nobody
// else.
func TestEveryOperationAsksForItsRight(t *testing.T) {
	t.Parallel()
	api := bare(t)
	document := get[struct {
		Paths map[string]map[string]struct {
			ID    string `json:"operationId"`
			Right string `json:"x-right"`
		} `json:"paths"`
	}](t, api, "/openapi.json")
	tokens := map[string]string{}
	for _, role := range access.Roles {
		name := "is-" + role.ID
		account := wire.NewAccount{Chosen: true, Name: name, Password: "a long enough password", Role: role.ID}
		if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
			t.Fatal(err)
		}
		token, err := (&client.Client{Base: api.Base}).SignIn(t.Context(), name, account.Password, "rights", 1)
		if err != nil {
			t.Fatal(err)
		}
		tokens[role.ID] = token.Secret
	}
	parameter := regexp.MustCompile(`\{\w+\}`)
	operations := 0
	for path, methods := range document.Paths {
		for method, op := range methods {
			if op.ID == "" || op.ID == "events" || op.ID == "signOut" {
				continue // a stream, and what would end the test's own session
			}
			for _, role := range access.Roles {
				status, code := answerTo(t, strings.ToUpper(method), api.Base+parameter.ReplaceAllString(path, "none"), tokens[role.ID])
				allowed := op.Right == "" || role.Rights.Has(access.Right(op.Right))
				if refused := status == http.StatusForbidden && code == "forbidden"; refused == allowed {
					t.Errorf("%s as %s answers %d %s; it needs %q", op.ID, role.ID, status, code, op.Right)
				}
			}
			if status, code := answerTo(
				t,
				strings.ToUpper(method),
				api.Base+parameter.ReplaceAllString(path, "none"),
				"",
			); op.Right != "" &&
				status != http.StatusUnauthorized {
				t.Errorf("%s answers somebody who is not signed in with %d %s", op.ID, status, code)
			}
			operations++
		}
	}
	if operations < 80 {
		t.Errorf("%d operations were tried, expected all of them", operations)
	}
}

// answerTo sends an empty object as whoever has a token, and gives the status of the answer with
// the code of its problem.
func answerTo(t *testing.T, method, address, token string) (status int, code string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	if answer.Header.Get("X-Request-Id") == "" {
		t.Errorf("%s %s: the answer has no id of the request", method, address)
	}
	var p wire.Problem
	if answer.StatusCode >= 400 {
		if err := json.Unmarshal(body, &p); err != nil {
			t.Errorf("%s %s: %d without a problem: %s", method, address, answer.StatusCode, body)
		}
	}
	return answer.StatusCode, p.Code
}
