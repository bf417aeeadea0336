// Package endpoint is the laptop's side of device management: a client of the protocol, and
// simulated laptops that use it over the network as real ones do.
package endpoint

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// Identity is what a laptop keeps of its enrolment.
type Identity struct {
	Device string `json:"device"`
	Secret string `json:"secret"` // empty: it has a certificate
	Nonce  string `json:"nonce"`  // of the next session, base64

	Certified *Certified `json:"certified,omitempty"` // nil: it has a secret
}

// Laptop is a client of one service.
type Laptop struct {
	Identity
	Platform Platform
	Model    string
	Revision string // the publication that was taken last
	Told     bool   // the next session answers a notification
	Longest  int    // bytes of the longest message that it takes; 0: 64 KiB

	telling int    // how many of the things that were altered were said in this session
	told    []told // of keys and volumes, in this session

	base  string // address of the service
	http  *http.Client
	large *large
	files map[string]bool // by SHA-256: those that were fetched and found right
}

// New gives a laptop that will talk to the service at an address such as http://127.0.0.1:8470.
func New(base string, client *http.Client, id Identity, p Platform) *Laptop {
	return &Laptop{Identity: id, Platform: p, base: strings.TrimSuffix(base, "/"), http: client}
}

// Caller gives what the laptop calls the service with: it shows the laptop's certificate, where it has one.
func (l *Laptop) Caller() *http.Client { return l.http }

// Enrol makes first contact with a one-time code.
func Enrol(ctx context.Context, client *http.Client, base, code, device, serial string) (Identity, error) {
	body, err := json.Marshal(map[string]string{"code": code, "device": device, "serial": serial})
	if err != nil {
		return Identity{}, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(base, "/")+"/enrol", bytes.NewReader(body))
	if err != nil {
		return Identity{}, err
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		return Identity{}, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil {
		return Identity{}, err
	}
	if answer.StatusCode != http.StatusCreated {
		return Identity{}, fmt.Errorf("enrolling %s: the service answered %s", device, answer.Status)
	}
	var id Identity
	return id, json.Unmarshal(data, &id)
}

// Outcome is what a session brought.
type Outcome struct {
	Messages int
	Applied  int
	Refused  int
}

const (
	usualMessage = 64 << 10 // bytes of the longest message that most laptops take
	maxMessages  = 64       // of a session; more where messages are shorter
)

// mostMessages bounds a session.
func (l *Laptop) mostMessages() int {
	return maxMessages * max(1, usualMessage/cmp.Or(l.Longest, usualMessage))
}

// Listen holds a connection to the service until it breaks or the context ends, and calls told for each
// notification. The error says why it ended.
func (l *Laptop) Listen(ctx context.Context, told func()) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, l.base+"/dm/notifications", nil)
	if err != nil {
		return err
	}
	l.prove(r)
	held := *l.http
	held.Timeout = 0 // a connection that is held has no end
	response, err := held.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("the service answered %s to %s, which wants to be told", response.Status, l.Device)
	}
	nonce, err := base64.StdEncoding.DecodeString(response.Header.Get(syncml.NonceHeader))
	if err != nil {
		return err
	}
	credential := syncml.UserDigest(l.Device, l.Secret)
	for {
		var size [2]byte
		if _, err := io.ReadFull(response.Body, size[:]); err != nil {
			return err
		}
		message := make([]byte, binary.BigEndian.Uint16(size[:]))
		if _, err := io.ReadFull(response.Body, message); err != nil {
			return err
		}
		if len(message) == 0 {
			continue
		}
		if _, err := syncml.DecodeNotification(message, credential, nonce); err != nil {
			return err
		}
		told()
	}
}

// CheckIn holds one session with the service. Each message is authenticated by a MAC with the nonce
// that came with the last answer. Where the first is refused it tries again once, with the nonce
// that the service asks for.
func (l *Laptop) CheckIn(ctx context.Context) (Outcome, error) {
	var out Outcome
	session := strings.ToLower(rand.Text()[:20]) // which nobody guesses, who would go on with it
	next, more := l.greeting(), false
	challenged := false
	for n := 1; n <= l.mostMessages(); n++ {
		m := &syncml.Message{Header: syncml.Header{
			VerDTD: syncml.VerDTD, VerProto: syncml.VerProto, SessionID: session, MsgID: strconv.Itoa(n),
			Target: l.base + "/dm", Source: l.Device, SourceName: l.Device, MaxMsgSize: cmp.Or(l.Longest, usualMessage),
		}, Commands: next, Final: !more}
		answer, err := l.post(ctx, m)
		if err != nil {
			return out, err
		}
		out.Messages++
		verdict := l.headerStatus(answer)
		l.hear(answer, m.Header.MsgID)
		if (verdict == syncml.WrongCredentials || verdict == syncml.NeedCredentials) && !challenged {
			challenged = true
			next = l.greeting()
			continue
		}
		if verdict != syncml.AuthAccepted && verdict != syncml.OK {
			return out, fmt.Errorf("the service answered %s to a message of %s", verdict, l.Device)
		}
		if next, more = l.carryOut(answer, &out); next == nil {
			if l.telling > 0 {
				l.Platform.(Watcher).Told(l.telling)
				l.telling = 0
			}
			return out, nil
		}
	}
	return out, fmt.Errorf("the session of %s did not end within %d messages", l.Device, l.mostMessages())
}

// prove authenticates a request outside of sessions: by the secret, where the laptop has one.
func (l *Laptop) prove(r *http.Request) {
	if l.Secret != "" {
		r.SetBasicAuth(l.Device, l.Secret)
	}
}

// mac authenticates a message as it is sent.
func (l *Laptop) mac(message []byte) string {
	nonce, _ := base64.StdEncoding.DecodeString(l.Nonce) // what is no base64 is answered with a nonce that is
	return syncml.FormatMAC(l.Device, syncml.MAC(syncml.UserDigest(l.Device, l.Secret), nonce, message))
}

// greeting is package 1: the alert that starts a session, and who the laptop is.
func (l *Laptop) greeting() []syncml.Command {
	info := func(name, data string) syncml.Item {
		return syncml.Item{Source: "./DevInfo/" + name, Data: data}
	}
	alert := syncml.AlertClientInitiated
	if l.Told {
		alert = syncml.AlertServerInitiated
	}
	greeting := []syncml.Command{
		{Name: "Alert", CmdID: "1", Data: alert},
		{
			Name:  "Replace",
			CmdID: "2",
			Items: []syncml.Item{info("DevId", l.Device), info("Man", "Larkfell"), info("Mod", l.Model), info("DmV", "1.2"), info("Lang", "en")},
		},
	}
	if watcher, can := l.Platform.(Watcher); can {
		if drifts := watcher.Drifts(); len(drifts) > 0 {
			l.telling = min(len(drifts), driftsAtOnce)
			greeting = append(greeting, syncml.Command{
				Name: "Alert", CmdID: "3", Data: syncml.AlertGeneric, Items: []syncml.Item{syncml.WriteDrifts(drifts[:l.telling])},
			})
		}
	}
	return append(greeting, l.alerts(len(greeting)+1)...)
}

func commandID(n int) string { return strconv.Itoa(n) }

// driftsAtOnce is how many of the things that were altered are said in one session.
const driftsAtOnce = 50

func (l *Laptop) post(ctx context.Context, m *syncml.Message) (*syncml.Message, error) {
	message := syncml.Encode(m)
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, l.base+"/dm", bytes.NewReader(message))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", syncml.ContentType+"; charset=utf-8")
	if l.Secret != "" { // else the connection has a certificate
		r.Header.Set(syncml.MACHeader, l.mac(message))
	}
	answer, err := l.http.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, syncml.MaxMessage+1))
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the service answered %s", answer.Status)
	}
	return syncml.Decode(data)
}

// headerStatus gives the status for the header, and keeps the nonce that came with it.
func (l *Laptop) headerStatus(m *syncml.Message) string {
	for _, c := range m.Commands {
		if c.Name == "Status" && c.CmdRef == "0" {
			if c.Chal != nil && c.Chal.NextNonce != "" {
				l.Nonce = c.Chal.NextNonce
			}
			return c.Data
		}
	}
	return ""
}

// carryOut does what a message commands and gives the next message's commands; nil ends the
// session. more tells that it asks for the rest of an unfinished package.
func (l *Laptop) carryOut(m *syncml.Message, out *Outcome) (reply []syncml.Command, more bool) {
	w := &worker{laptop: l, msgRef: m.Header.MsgID, out: out}
	w.status("0", "SyncHdr", syncml.OK)
	for i := range m.Commands {
		w.do(&m.Commands[i])
	}
	if !w.commanded {
		return nil, false
	}
	if !m.Final {
		w.reply = append(w.reply, syncml.Command{Name: "Alert", Data: syncml.AlertNextMessage})
	}
	for i := range w.reply {
		w.reply[i].CmdID = strconv.Itoa(i + 1)
	}
	return w.reply, !m.Final
}

// offer shows an offered policy to the laptop's person, or shows it no more.
func (l *Laptop) offer(policy, command, data string) (code string) {
	chooser, can := l.Platform.(Chooser)
	if !can {
		return syncml.NotFound
	}
	if command == "Delete" {
		chooser.HideOffer(policy)
		return syncml.OK
	}
	o, err := syncml.ReadOffer(data)
	if err != nil {
		return syncml.WrongFormat
	}
	chooser.ShowOffer(policy, o)
	return syncml.OK
}

// explain shows why a setting is managed, or shows it no more. Where nobody looks at it, it is taken all the same.
func (l *Laptop) explain(id setting.ID, command, data string) (code string) {
	explainer, can := l.Platform.(Explainer)
	switch {
	case !can:
	case command == "Delete":
		explainer.HideWhy(id)
	default:
		w, err := syncml.ReadWhy(data)
		if err != nil {
			return syncml.WrongFormat
		}
		explainer.ShowWhy(id, w)
	}
	return syncml.OK
}

// maxLarge is the longest value that a laptop puts together from chunks, in bytes.
const maxLarge = 1 << 20

// large is a value of which chunks have come.
type large struct {
	path string
	meta syncml.Meta
	data strings.Builder
}

// assemble puts chunks of a large object together. It gives ChunkAccepted until the last has come.
func (l *Laptop) assemble(item syncml.Item) (syncml.Item, string) {
	if l.large == nil && !item.More {
		return item, syncml.OK
	}
	if l.large == nil || l.large.path != item.Target {
		l.large = &large{path: item.Target, meta: item.Meta}
	}
	l.large.data.WriteString(item.Data)
	if l.large.data.Len() > maxLarge {
		l.large = nil
		return item, "416"
	}
	if item.More {
		return item, syncml.ChunkAccepted
	}
	whole := l.large
	l.large = nil
	if whole.meta.Size != whole.data.Len() {
		return item, syncml.SizeMismatch
	}
	item.Meta, item.Data = whole.meta, whole.data.String()
	return item, syncml.OK
}
