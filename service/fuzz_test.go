package service_test

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
)

// FuzzAPI asks every operation of the API, as an administrator, with whatever place, query and body
// come. Nothing may fail inside, what is refused is refused as a problem, and each answer is one that
// the API document describes.
func FuzzAPI(f *testing.F) {
	api := started(f)
	all := operations(f, api)
	bodies := []string{
		``, `{}`, `[]`, `null`, `{"title":"A change"}`, smallEstate, `{"target":"group:all","until":"2026-12-01"}`,
		`{"id":"p","kind":"security","settings":{"media.camera":true},"audience":{"include":["everyone"],"exclude":["device:LT-1"]}}`,
		`{"of":"devices","rule":"device.os == \"linux\"","members":["LT-1"]}`, `{"devices":["LT-1"],"unit":"larkfell"}`,
		`{"setting":"media.camera","target":"device:LT-1","value":true,"until":"2026-12-20","reason":"r"}`,
		`{"name":"noor","password":"a long enough password"}`, `{"id":"s","kind":"scim","title":"S","settings":{}}`, "id,title\nLT-1,x\n",
		`{"op":"replace","path":"/settings/media.camera","value":[1,{"a":null}]}`,
	}
	for i := range all {
		for j, query := range []string{"", "limit=1&after=LT-1", "q=%00&sort=-title", "where=device.os%20==%201"} {
			f.Add(uint16(i), "LT-1", query, []byte(bodies[(i+j*5)%len(bodies)]))
		}
		f.Add(uint16(i), "p", "", []byte(bodies[i%len(bodies)]))
	}
	f.Fuzz(func(t *testing.T, which uint16, place, query string, body []byte) {
		o := all[int(which)%len(all)]
		if strings.HasPrefix(o.path, "/session") || strings.HasPrefix(o.path, "/setup") || len(body) > 1<<16 {
			t.Skip("it would end the session, or hash a password for nothing")
		}
		at, err := url.Parse(api.Base + "/api/v1" + o.filled(url.PathEscape(place)))
		if err != nil {
			t.Skip("no address")
		}
		at.RawQuery = strings.Map(func(r rune) rune {
			if r <= ' ' || r == 0x7f || r == '#' {
				return -1 // the caller would refuse it
			}
			return r
		}, query)
		r, err := http.NewRequestWithContext(context.Background(), o.method, at.String(), strings.NewReader(string(body)))
		if err != nil {
			t.Skip("no address")
		}
		r.Header.Set("Authorization", "Bearer "+api.Token)
		if o.body != "" {
			r.Header.Set("Content-Type", o.body)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatalf("%s %s: %v", o.method, at, err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatalf("%s %s: %v", o.method, at, err)
		}
		o.describes(t, answer.StatusCode, answer.Header)
		overloaded := answer.StatusCode == http.StatusServiceUnavailable && answer.Header.Get("Retry-After") != ""
		switch {
		case answer.StatusCode >= 500 && !overloaded, answer.StatusCode == http.StatusUnauthorized:
			t.Fatalf("%s %s with %q: %s %.300s", o.method, at, body, answer.Status, text)
		case answer.StatusCode >= 400 && r.Method != http.MethodHead && !strings.HasPrefix(answer.Header.Get("Content-Type"),
			"application/problem+json"):
			t.Fatalf("%s %s with %q is refused as %s", o.method, at, body, answer.Header.Get("Content-Type"))
		}
	})
}
