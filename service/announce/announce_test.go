package announce_test

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"zenithridge.example/zridge/service/announce"
	"zenithridge.example/zridge/service/store"
)

// inbox is a small SMTP server that keeps what it gets.
type inbox struct{ got chan string }

func (b inbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &delivery{b: b}, nil }

type delivery struct {
	b        inbox
	from, to string
}

func (d *delivery) Mail(from string, _ *smtp.MailOptions) error { d.from = from; return nil }
func (d *delivery) Rcpt(to string, _ *smtp.RcptOptions) error   { d.to = to; return nil }
func (d *delivery) Reset()                                      {}
func (d *delivery) Logout() error                               { return nil }
func (d *delivery) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	d.b.got <- d.from + " to " + d.to + "\n" + string(text)
	return err
}

func TestAnnouncementsAreSent(t *testing.T) {
	t.Parallel()
	data, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { data.Close() })
	box := inbox{make(chan string, 10)}
	server := smtp.NewServer(box)
	server.AllowInsecureAuth = true
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })

	public, key, _ := ed25519.GenerateKey(nil)
	hooked, status := make(chan announce.Hooked, 10), http.StatusNoContent
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		params := strings.TrimPrefix(r.Header.Get("Signature-Input"), "zridge=")
		base := announce.SignatureBase(r.Method, "http://"+r.Host+r.URL.Path, r.Header.Get("Content-Digest"), params)
		signature, _ := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(r.Header.Get("Signature"), "zridge="), ":"))
		if !ed25519.Verify(public, []byte(base), signature) {
			t.Error("the signature does not fit")
		}
		var h announce.Hooked
		if err := json.Unmarshal(body, &h); err != nil {
			t.Error(err)
		}
		hooked <- h
		w.WriteHeader(status)
	}))
	t.Cleanup(web.Close)
	host := strings.TrimPrefix(web.URL, "http://")

	sender := announce.New(announce.Config{
		Store: data, Mail: func(account string) string {
			return map[string]string{"ines": "ines@larkfell.example"}[account]
		},
		SMTP:  announce.SMTP{Address: listener.Addr().String(), From: "zridge@larkfell.example", Plain: true},
		Hosts: []string{host}, Key: key, Base: "https://zridge.larkfell.example", Log: slog.New(slog.DiscardHandler),
	})
	now := time.Now().UTC()
	for _, account := range []string{"ines", "noor"} {
		if err := data.AddAccount(store.Account{Name: account, CreatedAt: now}); err != nil {
			t.Fatal(err)
		}
	}
	if err := data.SaveChoices("ines", nil, web.URL+"/told"); err != nil {
		t.Fatal(err)
	}
	add := func(account, channel string) {
		t.Helper()
		err := data.AddAnnouncements([]store.Announcement{{
			Account: account, Topic: "rollout-stopped", Channel: channel, Title: "Stopped: screens", Text: "Too many laptops failed.",
			Path: "/rollouts/C-1",
			At:   now, NextAt: now, State: store.AnnouncementDue,
		}})
		if err != nil {
			t.Fatal(err)
		}
	}
	states := func(account string) (out []string) {
		list, err := data.Announcements(account, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range list {
			out = append(out, a.Channel+" "+a.State)
		}
		return out
	}
	add("ines", "mail")
	add("ines", "webhook")
	add("noor", "mail")    // whose address is not known
	add("noor", "webhook") // who has none
	if err := sender.SendDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	text := <-box.got
	for _, part := range []string{"zridge@larkfell.example to ines@larkfell.example", "Subject: Stopped: screens",
		"https://zridge.larkfell.example/rollouts/C-1"} {
		if !strings.Contains(text, part) {
			t.Errorf("the mail lacks %q:\n%s", part, text)
		}
	}
	if h := <-hooked; h.Title != "Stopped: screens" || h.Link != "https://zridge.larkfell.example/rollouts/C-1" {
		t.Errorf("the webhook got %+v", h)
	}
	if got := strings.Join(states("ines"), ", "); got != "webhook sent, mail sent" {
		t.Errorf("found %s", got)
	}
	if got := strings.Join(states("noor"), ", "); got != "webhook failed, mail failed" {
		t.Errorf("found %s", got)
	}
	// A webhook that fails is tried again later, and not at once.
	status = http.StatusBadGateway
	add("ines", "webhook")
	if err := sender.SendDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	<-hooked
	list, _ := data.Announcements("ines", 1)
	if list[0].State != store.AnnouncementDue || list[0].Tries != 1 || !list[0].NextAt.After(now) || !strings.Contains(list[0].Fault, "502") {
		t.Errorf("found %+v", list[0])
	}
}
