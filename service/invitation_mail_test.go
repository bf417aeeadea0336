// This file sends invitations by e-mail, to a small server of its own.

package service_test

import (
	"crypto/x509"
	"io"
	"mime/quotedprintable"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/announce"
)

// postbox is an SMTP server that keeps what it gets.
type postbox struct{ got chan [2]string }

func (p postbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &letter{to: p}, nil }

type letter struct {
	to      postbox
	address string
}

func (l *letter) Mail(string, *smtp.MailOptions) error           { return nil }
func (l *letter) Rcpt(address string, _ *smtp.RcptOptions) error { l.address = address; return nil }
func (l *letter) Reset()                                         {}
func (l *letter) Logout() error                                  { return nil }
func (l *letter) Data(r io.Reader) error {
	text, err := io.ReadAll(quotedprintable.NewReader(r))
	l.to.got <- [2]string{l.address, string(text)}
	return err
}

// TestInvitationsByMail: a person gets what to do, and the code in it enrols the laptop.
func TestInvitationsByMail(t *testing.T) {
	t.Parallel()
	box := postbox{make(chan [2]string, 4)}
	server := smtp.NewServer(box)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	folder := t.TempDir()
	leaf, files := certificateFor(t, folder, "localhost")
	running := startWith(t, service.Config{
		TLS: files, Database: filepath.Join(folder, "z.db"), SMTP: announce.SMTP{Address: listener.Addr().String(),
			From: "zridge@larkfell.example", Plain: true},
	})
	trusted := trusting(t, leaf)
	e := &enrolling{firstAdministratorBy(t, trusted, running.Address, running.SetupCode), trusted, x509.NewCertPool(), folder}
	e.roots.AddCert(leaf)
	publishEstate(t, e.Client, `{"units":[{"id":"r"}],"people":[{"id":"ada","mail":"ada@larkfell.example"},{"id":"bo"}],"devices":[
	 {"id":"L0","serial":"S0","os":"linux","os_version":"12","owner":"ada"},{"id":"L1","os":"linux","os_version":"12","owner":"bo"}]}`)
	made := posted[wire.Invitation](t, e.Client, "/invitations", wire.NewInvitation{Device: "L0", Mail: true})
	if made.MailedTo != "ada@larkfell.example" || made.NotMailed != "" {
		t.Fatalf("mailed to %q, %q", made.MailedTo, made.NotMailed)
	}
	var got [2]string
	select {
	case got = <-box.got:
	case <-time.After(time.Minute):
		t.Fatal("no e-mail came")
	}
	code := made.Codes[0]
	if got[0] != "ada@larkfell.example" || !strings.Contains(got[1], "--device L0 --code "+code) ||
		!strings.Contains(got[1], "zridge-agent enrol "+running.Address) {
		t.Errorf("the e-mail to %s is\n%s", got[0], got[1])
	}
	if _, err := endpoint.EnrolByCertificate(t.Context(), e.trusted, e.Base, "L0", code, requestOf(t, "S0", "")); err != nil {
		t.Errorf("with the code of the e-mail: %v", err)
	}
	for about, in := range map[string]wire.NewInvitation{
		"an owner without an address": {Device: "L1", Mail: true}, "a person without an address": {Person: "bo", Mail: true},
		"a unit": {Unit: "r", Mail: true},
	} {
		if _, err := e.Call(t.Context(), http.MethodPost, "/invitations", nil, in, nil); err == nil {
			t.Errorf("%s: an invitation was made", about)
		}
	}
	server.Close()
	if made = posted[wire.Invitation](t, e.Client, "/invitations",
		wire.NewInvitation{Person: "ada", Mail: true}); made.NotMailed == "" || len(made.Codes) != 1 {
		t.Errorf("without a server: %+v", made)
	}
}
