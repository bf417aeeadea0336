// This file shows a page on the laptop: what is managed, and why.

package agent

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/setting"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"time": func(t time.Time) string {
		if t.IsZero() {
			return "never"
		}
		return t.Local().Format("2 January 2006, 15:04")
	},
	"value": valueWords,
}).Parse(pageText))

// valueWords gives a value as people read it.
func valueWords(v setting.Value) string {
	switch v.Kind() {
	case setting.Nothing:
		return "not set"
	case setting.Bool:
		return map[bool]string{true: "on", false: "off"}[v.Bool()]
	case setting.Text:
		return v.Text()
	case setting.List:
		if len(v.Items()) == 0 {
			return "an empty list"
		}
		return strings.Join(v.Items(), ", ")
	case setting.Table:
		return fmt.Sprintf("a list with %d rows", len(v.Rows()))
	case setting.FileKind:
		return "the file " + v.File().Name
	}
	return v.String()
}

// page is the page that people on the laptop see. It listens on the laptop alone.
type page struct {
	agent *Agent
	token string // that a form has which was really shown: no other page can send it
	told  chan<- struct{}
}

// offered is a policy that is offered.
type offered struct {
	Policy, Title, Description string
	Taken                      bool
}

// servePage shows the page at an address of the laptop itself until the context ends.
func (a *Agent) servePage(ctx context.Context, told chan<- struct{}) error {
	where, err := netip.ParseAddrPort(a.Page)
	if err != nil || !where.Addr().IsLoopback() {
		return fmt.Errorf("found %q, expected an address of the laptop itself, such as 127.0.0.1:8461", a.Page)
	}
	l, err := net.Listen("tcp", a.Page)
	if err != nil {
		return err
	}
	p := &page{a, rand.Text(), told}
	routes := http.NewServeMux()
	routes.HandleFunc("GET /{$}", p.show)
	routes.HandleFunc("POST /choose", p.choose)
	s := &http.Server{Handler: p.guarded(l.Addr().String(), routes), ReadTimeout: 10 * time.Second, WriteTimeout: time.Minute,
		MaxHeaderBytes: 16 << 10}
	context.AfterFunc(ctx, func() { _ = s.Close() })
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// guarded lets in who asks for the laptop by its own address: a page elsewhere cannot make a browser read this one.
func (p *page) guarded(address string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host != address {
			http.Error(w, "Open http://"+address+"/", http.StatusMisdirectedRequest)
			return
		}
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; "+
			"frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

// show handles GET /.
func (p *page) show(w http.ResponseWriter, _ *http.Request) {
	report, err := p.agent.Report()
	if err != nil {
		p.agent.Log.Warn("showing the page", "error", err)
		http.Error(w, "What is managed cannot be read just now.", http.StatusInternalServerError)
		return
	}
	var offers []offered
	for _, id := range slices.Sorted(maps.Keys(report.Offers)) {
		offers = append(offers, offered{id, report.Offers[id].Title, report.Offers[id].Description, slices.Contains(report.Taken, id)})
	}
	var out bytes.Buffer
	if err := pageTemplate.Execute(&out, map[string]any{"Report": report, "Offers": offers, "Token": p.token}); err != nil {
		p.agent.Log.Error("showing the page", "error", err)
		http.Error(w, "The page cannot be shown.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(out.Bytes()) // who left the page does not need it
}

// choose handles POST /choose: an offered policy is taken, or left.
func (p *page) choose(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if err := r.ParseForm(); err != nil || subtle.ConstantTimeCompare([]byte(r.PostForm.Get("token")), []byte(p.token)) != 1 {
		http.Error(w, "Open the page again, and choose there.", http.StatusForbidden)
		return
	}
	if err := p.agent.Choose(r.PostForm.Get("policy"), r.PostForm.Get("take") == "yes"); err != nil {
		http.Error(w, err.Error(), http.StatusConflict)
		return
	}
	select { // the service hears of it now
	case p.told <- struct{}{}:
	default:
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
