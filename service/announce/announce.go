// Package announce sends what people want to be told: as e-mail through an SMTP server, and to webhooks as
// HTTP requests that are signed.
//
// What is to be sent is in the store, written in the transaction in which it happened. What cannot be sent is
// tried again, ever later, for about a day.
package announce

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"zenithridge.example/zridge/service/store"
)

// SMTP is the server through which e-mail goes.
type SMTP struct {
	Address  string // host:port; empty: no e-mail is sent
	From     string // address of the sender
	User     string // empty: nobody signs in
	Password string
	Plain    bool // without TLS, on loopback or in a network of one's own
}

// Config is what a Sender needs.
type Config struct {
	Store *store.Store
	Mail  func(account string) string // address of an account; empty: not known
	SMTP  SMTP
	Hosts []string           // HOST:PORT to which webhooks may lead
	Key   ed25519.PrivateKey // with which webhooks are signed
	Base  string             // address of the console, for links
	Log   *slog.Logger
}

// Sender sends announcements.
type Sender struct {
	Config
	client *http.Client
}

// every is how often it is looked for something to send.
const every = 2 * time.Second

// pauses are how long after each try that failed the next one follows. After the last it is given up.
var pauses = []time.Duration{time.Minute, 5 * time.Minute, 20 * time.Minute, time.Hour, 4 * time.Hour, 8 * time.Hour, 12 * time.Hour}

// atOnce is how many are sent in one go.
const atOnce = 50

// New gives a sender.
func New(c Config) *Sender {
	return &Sender{c, &http.Client{
		Timeout:       10 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // it might lead elsewhere
	}}
}

// MayHook tells whether the operator allows a webhook at an address.
func (s *Sender) MayHook(at *url.URL) bool {
	port := at.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[at.Scheme]
	}
	return slices.Contains(s.Hosts, net.JoinHostPort(at.Hostname(), port))
}

// Run sends what is due until the context ends.
func (s *Sender) Run(ctx context.Context) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := s.SendDue(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("sending announcements", "error", err)
			}
		}
	}
}

// SendDue sends what is due now.
func (s *Sender) SendDue(ctx context.Context) error {
	now := time.Now().UTC()
	due, err := s.Store.In(ctx).DueAnnouncements(now, atOnce)
	if err != nil {
		return err
	}
	for _, a := range due {
		failed := s.send(ctx, a)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		switch {
		case failed == nil:
			a.State, a.Fault = store.AnnouncementSent, ""
		case a.Tries >= len(pauses) || errors.Is(failed, errNever):
			a.State, a.Fault = store.AnnouncementFailed, failed.Error()
		default:
			a.NextAt, a.Fault = now.Add(pauses[a.Tries]), failed.Error()
		}
		a.Tries++
		if failed != nil {
			s.Log.Warn("an announcement could not be sent", "account", a.Account, "channel", a.Channel, "error", failed)
		}
		if err := s.Store.In(ctx).SaveAnnouncement(a); err != nil {
			return err
		}
	}
	return nil
}

// errNever says that trying again does not help.
var errNever = errors.New("it cannot be sent")

func (s *Sender) send(ctx context.Context, a store.Announcement) error {
	if a.Channel == "mail" {
		return s.mail(ctx, a)
	}
	return s.hook(ctx, a)
}

// mail sends an announcement as e-mail.
func (s *Sender) mail(ctx context.Context, a store.Announcement) error {
	to := s.Mail(a.Account)
	if to == "" {
		return fmt.Errorf("%w: no e-mail address of %s is known", errNever, a.Account)
	}
	if a.Path == "" { // it is about them, whatever they chose to be told
		return s.Deliver(ctx, to, a.Title, a.Text+"\n")
	}
	return s.Deliver(ctx, to, a.Title, fmt.Sprintf("%s\n\n%s%s\n\nYou chose to be told of this: "+
		"%s/access\n", a.Text, s.Base, a.Path, s.Base))
}

// Deliver sends one e-mail at once. Nothing of it is kept.
func (s *Sender) Deliver(ctx context.Context, to, subject, text string) error {
	if s.SMTP.Address == "" {
		return fmt.Errorf("%w: the service runs without an SMTP server", errNever)
	}
	host, port, err := net.SplitHostPort(s.SMTP.Address)
	if err != nil {
		return fmt.Errorf("%w: %w", errNever, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return fmt.Errorf("%w: %w", errNever, err)
	}
	message := mail.NewMsg()
	if err := errors.Join(message.From(s.SMTP.From), message.To(to)); err != nil {
		return fmt.Errorf("%w: %w", errNever, err)
	}
	message.Subject(subject)
	message.SetBodyString(mail.TypeTextPlain, text)
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(15 * time.Second), mail.WithTLSPolicy(mail.TLSMandatory)}
	if s.SMTP.Plain {
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if s.SMTP.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthPlain), mail.WithUsername(s.SMTP.User), mail.WithPassword(s.SMTP.Password))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, message)
}

// Hooked is the body of a webhook's request.
type Hooked struct {
	Topic   string    `json:"topic"`
	Title   string    `json:"title"`
	Text    string    `json:"text"`
	Link    string    `json:"link"`
	At      time.Time `json:"at"`
	Account string    `json:"account"`
}

// hook sends an announcement to the webhook of its account, signed as RFC 9421 says (HTTP Message
// Signatures), over the method, the address and the digest of the body (RFC 9530).
func (s *Sender) hook(ctx context.Context, a store.Announcement) error {
	address, err := s.Store.In(ctx).Hook(a.Account)
	if err != nil {
		return err
	}
	at, err := url.Parse(address)
	if err != nil || address == "" || !s.MayHook(at) {
		return fmt.Errorf("%w: %s has no webhook at a host that is allowed", errNever, a.Account)
	}
	body, err := json.Marshal(Hooked{a.Topic, a.Title, a.Text, s.Base + a.Path, a.At.UTC(), a.Account})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	Sign(r, body, s.Key, time.Now())
	response, err := s.client.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		return fmt.Errorf("the webhook answered %s", response.Status)
	}
	return nil
}

// Sign adds the headers Content-Digest, Signature-Input and Signature to a request.
func Sign(r *http.Request, body []byte, key ed25519.PrivateKey, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="announcements";alg="ed25519"`, at.Unix())
	base := SignatureBase(r.Method, r.URL.String(), digest, params)
	r.Header.Set("Content-Digest", digest)
	r.Header.Set("Signature-Input", "zridge="+params)
	r.Header.Set("Signature", "zridge=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(base)))+":")
}

// SignatureBase gives what is signed (RFC 9421, section 2.5).
func SignatureBase(method, target, digest, params string) string {
	return fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s", method, target,
		digest, params)
}
