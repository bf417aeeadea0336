package client_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// answers is a service that answers each request with a function.
func answers(t *testing.T, f http.HandlerFunc) *client.Client {
	t.Helper()
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	return &client.Client{Base: server.URL + "/", Token: "zrt_x", HTTP: server.Client()}
}

func TestWhatAClientSends(t *testing.T) {
	var seen *http.Request
	var body string
	api := answers(t, func(w http.ResponseWriter, r *http.Request) {
		seen = r
		data := make([]byte, r.ContentLength)
		r.Body.Read(data)
		body = string(data)
		w.Header().Set("ETag", `"4"`)
		fmt.Fprint(w, `{"id":"C"}`)
	})
	var out wire.Change
	header, err := api.Call(
		context.Background(),
		http.MethodPut,
		client.Path("changes", "a b/c", "edits"),
		url.Values{"q": {"x y"}},
		[]byte(`{"as": "it is"}`),
		&out,
		"If-Match",
		`"3"`,
	)
	if err != nil || out.ID != "C" || header.Get("ETag") != `"4"` {
		t.Fatal(out, err)
	}
	if seen.URL.EscapedPath() != "/api/v1/changes/a%20b%2Fc/edits" || seen.URL.RawQuery != "q=x+y" || body != `{"as": "it is"}` {
		t.Errorf("sent %s ? %s with %s", seen.URL.EscapedPath(), seen.URL.RawQuery, body)
	}
	for name, want := range map[string]string{"Authorization": "Bearer zrt_x", "If-Match": `"3"`, "Zridge-Via": "cli",
		"Content-Type": "application/json"} {
		if got := seen.Header.Get(name); got != want {
			t.Errorf("%s is %q, expected %q", name, got, want)
		}
	}
}

func TestRefusalsAreProblems(t *testing.T) {
	api := answers(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/problem"):
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(409)
			fmt.Fprint(
				w,
				`{"title":"Overtaken","status":409,"detail":"by ines","code":"overtaken","overtaken":[{"kind":"policies","id":"p","by":"ines"}]}`,
			)
		case strings.HasSuffix(r.URL.Path, "/proxy"):
			http.Error(w, "<html>bad gateway</html>", http.StatusBadGateway)
		default:
			fmt.Fprint(w, "not JSON")
		}
	})
	var p *wire.Problem
	if _, err := client.Get[wire.Change](
		context.Background(),
		api,
		"/problem",
		nil,
	); !errors.As(err, &p) || p.Status != 409 || p.Overtaken[0].By != "ines" ||
		p.Error() != "Overtaken: by ines" {
		t.Errorf("a problem: %v", err)
	}
	if _, err := client.Get[wire.Change](context.Background(), api, "/proxy", nil); !errors.As(err, &p) || p.Status != http.StatusBadGateway {
		t.Errorf("a refusal that is no problem: %v", err)
	}
	if _, err := client.Get[wire.Change](context.Background(), api, "/other", nil); err == nil || errors.As(err, &p) {
		t.Errorf("an answer that can't be read: %v", err)
	}
	nobody := &client.Client{Base: "http://127.0.0.1:9"}
	if _, err := client.Get[wire.Change](context.Background(), nobody, "/x", nil); err == nil ||
		!strings.Contains(err.Error(), "127.0.0.1:9") {
		t.Errorf("nobody there: %v", err)
	}
}

func TestListsAreFollowedToTheirEnd(t *testing.T) {
	asked := 0
	api := answers(t, func(w http.ResponseWriter, r *http.Request) {
		asked++
		page := wire.Page[int]{Total: 5, Items: []int{1, 2}, Next: "two"}
		switch r.URL.Query().Get("cursor") {
		case "two":
			page.Items, page.Next = []int{3, 4}, "three"
		case "three":
			page.Items, page.Next = []int{5}, ""
		}
		if r.URL.Query().Get("q") != "x" {
			t.Errorf("page %d lost the question", asked)
		}
		json.NewEncoder(w).Encode(page)
	})
	all, err := client.All[int](context.Background(), api, "/list", url.Values{"q": {"x"}})
	if err != nil || fmt.Sprint(all) != "[1 2 3 4 5]" || asked != 3 {
		t.Errorf("%v after %d pages: %v", all, asked, err)
	}
}
