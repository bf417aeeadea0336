// This file sends parts of the audit log elsewhere: to a file, a web address, or syslog.

package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"zenithridge.example/zridge/core/audit"
)

// destination takes records or checkpoints of the audit log.
type destination interface {
	// send sends some of one kind, in their order. With an error, none, some or all of them arrived.
	send(ctx context.Context, list entries) error
	String() string // without secrets
}

// entry is a record or a checkpoint of the audit log, as it is sent.
type entry struct {
	at     time.Time
	word   string      // kind of message for syslog
	fields [][2]string // structured data for syslog: names, and values that are not escaped yet
	whole  bool        // the message for syslog has all of it, since the fields do not
	is     any         // what it is in JSON
}

// entries are of one kind.
type entries []entry

// checkpointEntry gives a checkpoint as it is sent.
func checkpointEntry(c audit.Checkpoint) entry {
	return entry{
		at: c.At, word: "audit-checkpoint", is: c,
		fields: [][2]string{
			{"number", fmt.Sprint(c.Number)}, {"hash", c.Hash}, {"at", c.At.Format(time.RFC3339Nano)}, {"key", c.Key}, {"signature", c.Signature},
		},
	}
}

// recordEntry gives a record as it is sent. What was before and after is part of the message, since
// structured data is for short values.
func recordEntry(r audit.Record) entry {
	return entry{
		at: r.At, word: "audit-record", is: r, whole: true,
		fields: [][2]string{
			{"number", fmt.Sprint(r.Number)}, {"by", r.By}, {"via", r.Via}, {"action", r.Action}, {"kind", r.Kind}, {"id", r.ID},
			{"change", r.Change}, {"request", r.Request}, {"hash", r.Hash},
		},
	}
}

// destinationOf reads where checkpoints or records are sent to.
func destinationOf(text string) (destination, error) {
	if path, ok := strings.CutPrefix(text, "file:"); ok && path != "" {
		return fileDestination(path), nil
	}
	u, err := url.Parse(text)
	switch {
	case err == nil && u.Scheme == "https" && u.Host != "":
		return &webDestination{u, &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
	case err == nil && u.Scheme == "syslog+tls" && u.Port() != "":
		return &syslogDestination{address: u.Host, host: u.Hostname()}, nil
	}
	return nil, fmt.Errorf("found a place for the audit log that begins with %q, expected file:PATH, syslog+tls://HOST:PORT or "+
		"https://HOST/PATH",
		text[:min(len(text), 12)])
}

// fileDestination appends to a file, a line of JSON each.
type fileDestination string

// String gives the place as it was written.
func (f fileDestination) String() string { return "file:" + string(f) }

func (f fileDestination) send(_ context.Context, list entries) error {
	var lines bytes.Buffer
	for _, e := range list {
		if err := json.NewEncoder(&lines).Encode(e.is); err != nil {
			return err
		}
	}
	to, err := os.OpenFile(string(f), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = to.Write(lines.Bytes())
	return errors.Join(err, to.Sync(), to.Close())
}

// webDestination posts JSON: a checkpoint as an object, records as an array of them.
type webDestination struct {
	url    *url.URL
	client *http.Client
}

// String gives the address without its path, which may have a secret in it.
func (w *webDestination) String() string { return "https://" + w.url.Host }

func (w *webDestination) send(ctx context.Context, list entries) error {
	objects := make([]any, len(list))
	for i, e := range list {
		objects[i] = e.is
	}
	var what any = objects
	if _, single := objects[0].(audit.Checkpoint); single {
		what = objects[0]
	}
	body, err := json.Marshal(what)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, w.url.String(), bytes.NewReader(body))
	if err != nil {
		return errors.New("the address cannot be used") // without the address, which may have a secret in it
	}
	request.Header.Set("Content-Type", "application/json")
	answer, err := w.client.Do(request)
	if err != nil {
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("answered %d", answer.StatusCode)
	}
	return nil
}

// syslogDestination sends messages of RFC 5424 over TLS (RFC 5425). Syslog does not confirm what
// arrived: messages that were under way when a connection broke can be lost.
type syslogDestination struct {
	address, host string
	roots         *x509.CertPool // nil: those that the system trusts
}

// logAudit is facility 13 (log audit) with severity 6 (informational).
const logAudit = 13*8 + 6

// String gives the place as it was written.
func (d *syslogDestination) String() string { return "syslog+tls://" + d.address }

func (d *syslogDestination) send(ctx context.Context, list entries) error {
	name, err := os.Hostname()
	if err != nil {
		name = "-"
	}
	var frames bytes.Buffer
	for _, e := range list {
		message, err := e.syslog(name)
		if err != nil {
			return err
		}
		fmt.Fprintf(&frames, "%d %s", len(message), message)
	}
	dialer := &tls.Dialer{NetDialer: &net.Dialer{}, Config: &tls.Config{ServerName: d.host, MinVersion: tls.VersionTLS12, RootCAs: d.roots}}
	conn, err := dialer.DialContext(ctx, "tcp", d.address)
	if err != nil {
		return err
	}
	if until, ok := ctx.Deadline(); ok {
		conn.SetDeadline(until)
	}
	_, err = conn.Write(frames.Bytes())
	return errors.Join(err, conn.Close())
}

// syslog gives the entry as a message of RFC 5424.
//
// 32473 is the enterprise number for examples (RFC 5612): the product has none of its own.
func (e entry) syslog(host string) (string, error) {
	name, _ := strings.CutPrefix(e.word, "audit-")
	var m strings.Builder
	fmt.Fprintf(&m, "<%d>1 %s %s zridge %d %s [%s@32473", logAudit, e.at.Format(time.RFC3339Nano), host, os.Getpid(), e.word, name)
	for _, f := range e.fields {
		if f[1] != "" {
			fmt.Fprintf(&m, ` %s="%s"`, f[0], syslogEscapes.Replace(f[1]))
		}
	}
	m.WriteByte(']')
	if !e.whole {
		return m.String(), nil
	}
	text, err := json.Marshal(e.is)
	m.WriteString(" \ufeff" + string(text)) // the mark says that the text is UTF-8
	return m.String(), err
}

// syslogEscapes escapes values of structured data (RFC 5424, section 6.3.3).
var syslogEscapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)
