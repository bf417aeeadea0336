package endpoint_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/setting"
	. "zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
)

// script is a service that answers a laptop's messages with what a test wrote, and keeps what the
// laptop said.
type script struct {
	answers []string // bodies of the answers, one a message
	said    []*syncml.Message
	macs    []string // that came with them
	texts   [][]byte
}

// nonceOf is the nonce that the answer to message n hands out; the one of message 0 is the
// enrolment's.
func nonceOf(n int) []byte { return []byte{byte(n), byte(n), byte(n)} }

func (s *script) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data := make([]byte, r.ContentLength)
	for n := 0; n < len(data); {
		k, err := r.Body.Read(data[n:])
		n += k
		if err != nil {
			break
		}
	}
	m, err := syncml.Decode(data)
	if err != nil || len(s.said) >= len(s.answers) {
		http.Error(w, fmt.Sprint(err), http.StatusBadRequest)
		return
	}
	body := s.answers[len(s.said)]
	s.said = append(s.said, m)
	s.macs = append(s.macs, r.Header.Get(syncml.MACHeader))
	s.texts = append(s.texts, data)
	final := "<Final/>"
	if strings.Contains(body, "<MoreData/>") {
		final = ""
	}
	fmt.Fprintf(
		w,
		`<SyncML xmlns="SYNCML:SYNCML1.2"><SyncHdr><VerDTD>1.2</VerDTD><VerProto>DM/1.2</VerProto><SessionID>%s</SessionID><MsgID>%s</MsgID><Target><LocURI>LT-1</LocURI></Target><Source><LocURI>s</LocURI></Source></SyncHdr>`+
			`<SyncBody><Status><CmdID>90</CmdID><MsgRef>1</MsgRef><CmdRef>0</CmdRef><Cmd>SyncHdr</Cmd><Chal><Meta><Format xmlns="syncml:metinf">b64</Format><Type xmlns="syncml:metinf">syncml:auth-MAC</Type><NextNonce xmlns="syncml:metinf">%s</NextNonce></Meta></Chal>`+
			`<Data>200</Data></Status>%s%s</SyncBody></SyncML>`,
		m.Header.SessionID,
		m.Header.MsgID,
		base64.StdEncoding.EncodeToString(nonceOf(len(s.said))),
		body,
		final,
	)
}

func replace(id, path, format, data, more string) string {
	return `<Replace><CmdID>` + id + `</CmdID><Item><Target><LocURI>` + path +
		`</LocURI></Target><Meta><Format xmlns="syncml:metinf">` + format + `</Format></Meta><Data>` + data + `</Data>` + more +
		`</Item></Replace>`
}

// session lets a laptop with these values check in with a scripted service.
func session(t *testing.T, m *Memory, answers ...string) (*Laptop, *script, Outcome) {
	t.Helper()
	s := &script{answers: append(answers, "")}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	l := New(server.URL, server.Client(), Identity{Device: "LT-1", Secret: "s", Nonce: base64.StdEncoding.EncodeToString(nonceOf(0))}, m)
	out, err := l.CheckIn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return l, s, out
}

// codes lists the statuses of a message as "Cmd ref code".
func codes(m *syncml.Message) string {
	var list []string
	for _, c := range m.Commands {
		if c.Name == "Status" && c.CmdRef != "0" {
			list = append(list, c.Cmd+" "+c.CmdRef+" "+c.Data)
		}
	}
	return strings.Join(list, ", ")
}

func TestAnAtomicIsAllOrNothing(t *testing.T) {
	m := &Memory{}
	m.Apply("a", setting.TextValue("before"))
	path := syncml.SettingPath
	atomic := `<Atomic><CmdID>1</CmdID>` + replace(
		"2",
		path+"a",
		"chr",
		"after",
		"",
	) + `<Delete><CmdID>3</CmdID><Item><Target><LocURI>` + path + `never-there</LocURI></Target></Item></Delete>` +
		replace(
			"4",
			path+"b",
			"int",
			"seven",
			"",
		) + replace(
		"5",
		path+"c",
		"bool",
		"true",
		"",
	) + replace(
		"6",
		syncml.RevisionPath,
		"chr",
		"9",
		"",
	) + `</Atomic>`
	l, s, out := session(t, m, atomic)
	if got := codes(s.said[1]); got != "Atomic 1 507, Replace 2 216, Delete 3 216, Replace 4 415, Replace 5 215, Replace 6 215" {
		t.Errorf("statuses are %s", got)
	}
	if v := m.Reported(); v["a"].Text() != "before" || len(v) != 1 || l.Revision != "" {
		t.Errorf("the laptop has %v, revision %q", v, l.Revision)
	}
	if out.Applied != 0 || out.Refused != 1 {
		t.Errorf("the outcome is %s", out)
	}
	good := strings.Replace(atomic, "seven", "7", 1)
	l, s, out = session(t, m, good)
	if got := codes(s.said[1]); !strings.HasPrefix(got, "Atomic 1 200") || strings.Count(got, " 200") != 6 {
		t.Errorf("statuses are %s", got)
	}
	if v := m.Reported(); v["a"].Text() != "after" || v["b"].Integer() != 7 || !v["c"].Bool() || l.Revision != "9" || out.Applied != 4 {
		t.Errorf("the laptop has %v, revision %q (%s)", v, l.Revision, out)
	}
}

func TestWhatALaptopAnswers(t *testing.T) {
	m := &Memory{}
	m.Apply("a", setting.ListValue([]string{"x", "y"}))
	path := syncml.SettingPath
	get := func(id, node string) string {
		return `<Get><CmdID>` + id + `</CmdID><Item><Target><LocURI>` + node + `</LocURI></Target></Item></Get>`
	}
	_, s, _ := session(
		t,
		m,
		get(
			"1",
			syncml.ReportedPath+"a",
		)+get(
			"2",
			syncml.ReportedPath+"b",
		)+get(
			"3",
			syncml.DigestPath,
		)+get(
			"4",
			"./Elsewhere",
		)+`<Exec><CmdID>5</CmdID></Exec>`+replace(
			"6",
			"./Elsewhere",
			"chr",
			"x",
			"",
		),
	)
	if got := codes(s.said[1]); got != "Get 1 200, Get 2 404, Get 3 200, Get 4 404, Exec 5 404, Replace 6 404" {
		t.Errorf("statuses are %s", got)
	}
	results := map[string]syncml.Item{}
	for _, c := range s.said[1].Commands {
		if c.Name == "Results" {
			results[c.CmdRef] = c.Items[0]
		}
	}
	if results["1"].Data != `["x","y"]` || results["1"].Meta.Type != "application/json" ||
		results["3"].Data != syncml.ReportDigest(m.Reported()) ||
		len(results) != 2 {
		t.Errorf("results are %+v", results)
	}
	if first := s.said[0]; first.Commands[0].Data != syncml.AlertClientInitiated || first.Header.Cred != nil ||
		len(first.Commands[1].Items) != 5 {
		t.Errorf("the greeting is %+v", first)
	}
	for n, text := range s.texts {
		want := syncml.FormatMAC("LT-1", syncml.MAC(syncml.UserDigest("LT-1", "s"), nonceOf(n), text))
		if s.macs[n] != want {
			t.Errorf("message %d comes with %s, expected %s", n+1, s.macs[n], want)
		}
	}
	// A large value in three chunks, and one whose size does not fit.
	whole := replace("1", path+"big", "chr", "abc", "<MoreData/>")
	whole = strings.Replace(whole, "</Format>", `</Format><Size xmlns="syncml:metinf">9</Size>`, 1)
	_, s, out := session(t, m, whole, replace("1", path+"big", "chr", "def", "<MoreData/>"), replace("1", path+"big", "chr", "ghi", ""))
	if m.Reported()["big"].Text() != "abcdefghi" || out.Applied != 1 || codes(s.said[1]) != "Replace 1 213" ||
		codes(s.said[3]) != "Replace 1 200" {
		t.Errorf("in chunks came %v (%s): %s", m.Reported()["big"], out, codes(s.said[3]))
	}
	if last := s.said[1].Commands[len(s.said[1].Commands)-1]; last.Data != syncml.AlertNextMessage || s.said[1].Final {
		t.Errorf("between chunks the laptop says %+v", last)
	}
	_, s, _ = session(t, m, whole, replace("1", path+"big", "chr", "d", ""))
	if codes(s.said[2]) != "Replace 1 424" || m.Reported()["big"].Text() != "abcdefghi" {
		t.Errorf("a size that does not fit is answered %s", codes(s.said[2]))
	}
}

func TestAServiceThatNeverEnds(t *testing.T) {
	var answers []string
	for range 80 {
		answers = append(answers, replace("1", syncml.SettingPath+"a", "chr", "x", ""))
	}
	s := &script{answers: answers}
	server := httptest.NewServer(s)
	defer server.Close()
	_, err := New(server.URL, server.Client(), Identity{Device: "LT-1"}, &Memory{}).CheckIn(context.Background())
	if err == nil || len(s.said) > 64 {
		t.Errorf("after %d messages: %v", len(s.said), err)
	}
}

func TestSharesOfBehaviour(t *testing.T) {
	shares := Shares{Slow: 10, Offline: 5, Refusing: 20, Wrong: 5}
	seen := map[Behaviour]int{}
	for i := range 5000 {
		name := fmt.Sprintf("LT-%04d", i)
		b := shares.BehaviourOf(name)
		if b != shares.BehaviourOf(name) {
			t.Fatal("a laptop changes its mind")
		}
		seen[b]++
	}
	for b, percent := range map[Behaviour]int{Slow: 10, Offline: 5, Refusing: 20, Wrong: 5, Ordinary: 60} {
		if got := seen[b] / 50; got < percent-3 || got > percent+3 {
			t.Errorf("%s: %d%%, expected about %d%%", b, got, percent)
		}
	}
	if (Shares{}).BehaviourOf("LT-1") != Ordinary {
		t.Error("without shares a laptop is not ordinary")
	}
}

// TestAFleetEnds lets offline laptops check in once each, against a service that has nothing to
// say.
func TestAFleetEnds(t *testing.T) {
	answered := make(chan string, 16)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		(&script{answers: []string{""}}).ServeHTTP(w, r)
	}))
	defer server.Close()
	fleet := &Fleet{
		Base:     server.URL,
		Interval: 20 * time.Millisecond,
		Shares:   Shares{Offline: 100},
		Report: func(device string, _ Outcome, err error) {
			if err != nil {
				t.Error(err)
			}
			answered <- device
		},
	}
	fleet.Run(context.Background(), []Identity{{Device: "A"}, {Device: "B"}, {Device: "C"}})
	close(answered)
	seen := map[string]int{}
	for device := range answered {
		seen[device]++
	}
	if len(seen) != 3 || seen["A"] != 1 {
		t.Errorf("checked in: %v", seen)
	}
}
