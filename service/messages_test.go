// This file speaks to the device management endpoint message by message, as laptops and strangers
// do.

package service_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// post sends a body to the device management endpoint.
func post(t *testing.T, base, kind, body string) (int, string) {
	t.Helper()
	answer, err := http.Post(base+"/dm", kind, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, string(data)
}

func message(device, session, msg, cred, body string) string {
	if cred != "" {
		cred = `<Cred><Meta><Format xmlns="syncml:metinf">b64</Format><Type xmlns="syncml:metinf">syncml:auth-md5</Type></Meta><Data>` +
			cred + `</Data></Cred>`
	}
	return `<SyncML xmlns="SYNCML:SYNCML1.2"><SyncHdr><VerDTD>1.2</VerDTD><VerProto>DM/1.2</VerProto><SessionID>` + session +
		`</SessionID><MsgID>` + msg + `</MsgID>` +
		`<Target><LocURI>http://x/dm</LocURI></Target><Source><LocURI>` + device + `</LocURI></Source>` + cred +
		`</SyncHdr><SyncBody>` + body + `</SyncBody></SyncML>`
}

const hello = `<Alert><CmdID>1</CmdID><Data>1201</Data></Alert><Replace><CmdID>2</CmdID><Item><Source><LocURI>./DevInfo/DevId</LocURI></Source><Data>LT-1</Data></Item></Replace>`

func TestWhatIsNoMessage(t *testing.T) {
	t.Parallel()
	api := started(t)
	kind := syncml.ContentType + "; charset=utf-8"
	deep := strings.Repeat("<a>", 40) + strings.Repeat("</a>", 40)
	for name, c := range map[string]struct {
		kind, body string
		status     int
	}{
		"another content type":   {"application/json", message("LT-1", "1", "1", "", hello), 415},
		"no content type":        {"", message("LT-1", "1", "1", "", hello), 415},
		"empty":                  {kind, "", 400},
		"no XML":                 {kind, "hello", 400},
		"cut off":                {kind, message("LT-1", "1", "1", "", hello)[:300], 400},
		"another root":           {kind, "<html/>", 400},
		"another namespace":      {kind, strings.Replace(message("LT-1", "1", "1", "", hello), "SYNCML1.2", "SYNCML1.1", 1), 400},
		"a document type":        {kind, `<!DOCTYPE SyncML [<!ENTITY a "b">]>` + message("LT-1", "1", "1", "", hello), 400},
		"an unknown entity":      {kind, message("LT-1", "1", "1", "", "<Alert><CmdID>1</CmdID><Data>&a;</Data></Alert>"), 400},
		"nested deep":            {kind, message("LT-1", "1", "1", "", deep), 400},
		"over a mebibyte":        {kind, message("LT-1", "1", "1", "", strings.Repeat(" ", 1<<20)), 400},
		"no header":              {kind, `<SyncML xmlns="SYNCML:SYNCML1.2"><SyncBody/></SyncML>`, 400},
		"no session":             {kind, message("LT-1", "", "1", "", hello), 400},
		"bytes that are no text": {kind, message("LT-1", "1", "1", "", "\xff\xfe"), 400},
	} {
		status, text := post(t, api.Base, c.kind, c.body)
		if status != c.status || strings.Contains(text, "goroutine") {
			t.Errorf("%s: %d %s, expected %d", name, status, text, c.status)
		}
	}
	for name, c := range map[string]struct{ body, code string }{
		"an unknown version of " +
			"the document": {strings.Replace(message("LT-1", "1", "1", "", hello), "<VerDTD>1.2", "<VerDTD>9", 1), syncml.VersionNotSupported},
		"an unknown protocol":   {strings.Replace(message("LT-1", "1", "1", "", hello), "DM/1.2", "XX/9", 1), syncml.ProtocolNotSupported},
		"no credentials":        {message("LT-1", "1", "1", "", hello), syncml.NeedCredentials},
		"credentials of nobody": {message("LT-404", "1", "1", "AAAA", hello), syncml.WrongCredentials},
	} {
		status, text := post(t, api.Base, kind, c.body)
		m, err := syncml.Decode([]byte(text))
		if status != 200 || err != nil || len(m.Commands) != 1 || m.Commands[0].Cmd != "SyncHdr" || m.Commands[0].Data != c.code {
			t.Errorf("%s: %d %s %v, expected nothing but a header status of %s", name, status, text, err, c.code)
		}
	}
}

// TestSessionsByHand goes through a session message by message: challenge, wrong tries, repeated
// messages, unknown commands, abort.
func TestSessionsByHand(t *testing.T) {
	t.Parallel()
	api := started(t)
	l, m := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	kind := syncml.ContentType
	digest := func(nonce string) string {
		raw, _ := base64.StdEncoding.DecodeString(nonce)
		return syncml.Digest(syncml.UserDigest("LT-1", l.Secret), raw)
	}
	send := func(body string) *syncml.Message {
		t.Helper()
		status, text := post(t, api.Base, kind, body)
		m, err := syncml.Decode([]byte(text))
		if status != 200 || err != nil {
			t.Fatalf("%d %s %v", status, text, err)
		}
		return m
	}
	header := func(m *syncml.Message) string { return m.Commands[0].Data }

	// A stranger tries, and tries; the laptop's nonce is still good. So are the challenges of a
	// session, once.
	for range 5 {
		if code := header(send(message("LT-1", "7", "1", digest("AAAA"), hello))); code != syncml.WrongCredentials {
			t.Fatalf("a stranger is answered %s", code)
		}
	}
	challenge := send(message("LT-1", "8", "1", "", hello)).Commands[0].Chal.NextNonce
	if code := header(send(message("LT-1", "9", "1", digest(challenge), hello))); code != syncml.WrongCredentials {
		t.Errorf("the challenge of another session is answered %s", code)
	}
	first := send(message("LT-1", "10", "1", digest(l.Nonce), hello+`<Dance><CmdID>3</CmdID></Dance><Exec><CmdID>4</CmdID></Exec><Final/>`))
	if header(first) != syncml.AuthAccepted || first.Commands[0].Chal == nil || first.Commands[0].Chal.NextNonce == l.Nonce {
		t.Fatalf("the laptop is answered %+v", first.Commands[0])
	}
	codes := map[string]string{}
	gets := 0
	for _, c := range first.Commands {
		if c.Name == "Status" {
			codes[c.Cmd] = c.Data
		}
		if c.Name == "Get" {
			gets++
		}
	}
	if codes["Alert"] != "200" || codes["Replace"] != "200" || codes["Dance"] != syncml.NotSupported || codes["Exec"] != syncml.NotAllowed ||
		gets != 2 {
		t.Errorf("statuses %v, %d questions", codes, gets)
	}
	// The same message again: the same answer again.
	if again := send(
		message("LT-1", "10", "1", digest(l.Nonce), hello+`<Final/>`),
	); string(syncml.Encode(again)) != string(syncml.Encode(first)) {
		t.Error("the same message is answered otherwise")
	}
	// An unfinished message is asked for its rest; nothing is commanded meanwhile.
	more := send(
		message(
			"LT-1",
			"10",
			"2",
			"",
			`<Status><CmdID>1</CmdID><MsgRef>1</MsgRef><CmdRef>0</CmdRef><Cmd>SyncHdr</Cmd><Data>200</Data></Status><Alert><CmdID>2</CmdID><Data>1222</Data></Alert>`,
		),
	)
	last := more.Commands[len(more.Commands)-1]
	if last.Name != "Alert" || last.Data != syncml.AlertNextMessage || more.Final {
		t.Errorf("an unfinished message is answered %+v", last)
	}
	// The digest comes in two chunks.
	chunk := send(
		message(
			"LT-1",
			"10",
			"3",
			"",
			`<Results><CmdID>1</CmdID><CmdRef>4</CmdRef><Item><Source><LocURI>`+syncml.DigestPath+
				`</LocURI></Source><Meta><Size xmlns="syncml:metinf">4</Size></Meta><Data>ab</Data><MoreData/></Item></Results>`,
		),
	)
	if chunk.Commands[1].Data != syncml.ChunkAccepted {
		t.Errorf("a chunk is answered %+v", chunk.Commands[1])
	}
	next := send(
		message(
			"LT-1",
			"10",
			"4",
			"",
			`<Results><CmdID>1</CmdID><CmdRef>4</CmdRef><Item><Source><LocURI>`+syncml.DigestPath+
				`</LocURI></Source><Data>cd</Data></Item></Results><Final/>`,
		),
	)
	if next.Commands[1].Data != "200" || next.Commands[len(next.Commands)-1].Name != "Get" {
		t.Errorf("after the last chunk: %+v", next.Commands)
	}
	abort := send(message("LT-1", "10", "5", "", `<Alert><CmdID>1</CmdID><Data>1223</Data></Alert><Final/>`))
	for _, c := range abort.Commands {
		if c.Name != "Status" {
			t.Errorf("after an abort the service still says %s", c.Name)
		}
	}
	if len(m.Reported()) != 0 {
		t.Error("the laptop took something")
	}
	for id, d := range deliveries(t, api, "LT-1") {
		if d.Status != "pending" {
			t.Errorf("after the abort %s is %s", id, d.Status)
		}
	}
	// A laptop that kept an old nonce is challenged, and tries again in the same session.
	if out := checkIn(t, l); out.Applied != 5 {
		t.Errorf("with a stale nonce: %s", out)
	}
}

// signed sends a message with a MAC of the laptop's, or with the one that is given.
func signed(t *testing.T, base, text, mac string) *syncml.Message {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/dm", strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", syncml.ContentType)
	if mac != "" {
		r.Header.Set(syncml.MACHeader, mac)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Fatalf("%s %v", answer.Status, err)
	}
	m, err := syncml.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// macOf is what a laptop sends with a message after it was given a nonce in base64.
func macOf(t *testing.T, l *endpoint.Laptop, nonce, text string) string {
	t.Helper()
	raw, err := base64.StdEncoding.DecodeString(nonce)
	if err != nil {
		t.Fatal(err)
	}
	return syncml.FormatMAC(l.Device, syncml.MAC(syncml.UserDigest(l.Device, l.Secret), raw, []byte(text)))
}

// TestASessionWithMACsIsItsLaptops lets another program at the same address, which saw everything
// but the secret, go on with a laptop's session.
func TestASessionWithMACsIsItsLaptops(t *testing.T) {
	t.Parallel()
	api := started(t)
	l, _ := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	other, _ := enrolled(t, api, "LT-2", "S2", endpoint.Ordinary)
	first := message("LT-1", "1", "1", "", hello+"<Final/>")
	begun := signed(t, api.Base, first, macOf(t, l, l.Nonce, first))
	if status := begun.Commands[0]; status.Data != syncml.OK || status.Chal == nil || status.Chal.Type != syncml.AuthMAC {
		t.Fatalf("the laptop is answered %+v", status)
	}
	nonce := begun.Commands[0].Chal.NextNonce
	results := `<Results><CmdID>1</CmdID><CmdRef>4</CmdRef><Item><Source><LocURI>` + syncml.DigestPath +
		`</LocURI></Source><Data>0</Data></Item></Results><Final/>`
	second := message("LT-1", "1", "2", "", results)
	raw, err := base64.StdEncoding.DecodeString(nonce)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ text, mac string }{
		"no MAC":                      {second, ""},
		"the first message, no MAC":   {first, ""},
		"the first message's MAC":     {second, macOf(t, l, l.Nonce, first)},
		"the right one, text altered": {strings.Replace(second, "<Data>0<", "<Data>1<", 1), macOf(t, l, nonce, second)},
		"another laptop's":            {second, macOf(t, other, nonce, second)},
		"another laptop's, renamed":   {second, strings.Replace(macOf(t, other, nonce, second), "LT-2", "LT-1", 1)},
		"credentials instead": {
			message("LT-1", "1", "2", syncml.Digest(syncml.UserDigest("LT-1", l.Secret), raw), results), "",
		},
		"nonsense": {second, "username"},
	} {
		m := signed(t, api.Base, c.text, c.mac)
		if len(m.Commands) != 1 || m.Commands[0].Data != syncml.WrongCredentials || m.Commands[0].Chal.Type != syncml.AuthMAC {
			t.Errorf("%s: answered %+v", name, m.Commands)
		}
	}
	if again := signed(t, api.Base, first, macOf(t, l, l.Nonce, first)); string(syncml.Encode(again)) != string(syncml.Encode(begun)) {
		t.Error("the laptop's own message again is answered otherwise")
	}
	next := signed(t, api.Base, second, macOf(t, l, nonce, second))
	if next.Commands[0].Data != syncml.OK || next.Commands[0].Chal.NextNonce == nonce || next.Commands[len(next.Commands)-1].Name != "Get" {
		t.Errorf("the laptop is answered %+v", next.Commands)
	}
	if records := get[[]wire.AuditRecord](t, api, "/audit?action=message+of+a+laptop+refused"); len(records) == 0 {
		t.Error("the refused messages are not in the audit log")
	}
}

func TestMACsCanBeDemanded(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{RequireMAC: true})
	api := firstAdministrator(t, running.Address, running.SetupCode)
	publishEstate(t, api, smallEstate)
	l, _ := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	raw, err := base64.StdEncoding.DecodeString(l.Nonce)
	if err != nil {
		t.Fatal(err)
	}
	m := signed(t, api.Base, message("LT-1", "1", "1", syncml.Digest(syncml.UserDigest("LT-1", l.Secret), raw), hello+"<Final/>"), "")
	if len(m.Commands) != 1 || m.Commands[0].Data != syncml.NeedCredentials || m.Commands[0].Chal.Type != syncml.AuthMAC {
		t.Errorf("credentials of a session are answered %+v", m.Commands)
	}
	checkIn(t, l) // with the nonce that the credentials did not use up
}

func TestEnrolmentCodesWorkOnce(t *testing.T) {
	t.Parallel()
	api := started(t)
	ctx := context.Background()
	codes, err := client.Post[[]wire.EnrolmentCode](ctx, api, "/enrolment-codes", map[string]any{"devices": []string{"LT-1", "LT-2"}})
	if err != nil {
		t.Fatal(err)
	}
	try := func(code, device, serial string) error {
		_, err := endpoint.Enrol(ctx, http.DefaultClient, api.Base, code, device, serial)
		return err
	}
	for name, c := range map[string][3]string{
		"an unknown code": {"aaaaaaa-aaaaaaa", "LT-1", "S1"}, "another device's": {codes[1].Code, "LT-1", "S1"},
		"another serial": {codes[0].Code, "LT-1", "S2"}, "no device": {codes[0].Code, "LT-3", ""},
	} {
		if err := try(c[0], c[1], c[2]); err == nil || !strings.Contains(err.Error(), "403") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := try(codes[0].Code, "LT-1", "S1"); err != nil {
		t.Errorf("a refused try used the code up: %v", err)
	}
	if err := try(codes[0].Code, "LT-1", "S1"); err == nil {
		t.Error("a code worked twice")
	}
	records, err := client.Get[[]wire.AuditRecord](ctx, api, "/audit", nil)
	refused := 0
	for _, r := range records {
		if r.Action == "enrolment refused" {
			refused++
		}
		if strings.Contains(fmt.Sprint(r), codes[1].Code) {
			t.Error("a code stands in the audit log")
		}
	}
	if err != nil || refused != 1 { // those that follow within a minute are recorded as one
		t.Errorf("%d refusals are recorded, expected 1 (%v)", refused, err)
	}
	for _, body := range []string{"", "{", "[]", strings.Repeat("x", 20<<10)} {
		answer, err := http.Post(api.Base+"/enrol", "application/json", bytes.NewReader([]byte(body)))
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode < 400 || answer.StatusCode >= 500 {
			t.Errorf("%.10q: %s", body, answer.Status)
		}
	}
}
