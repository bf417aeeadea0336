// This file lets laptops check in, and looks at what they and the service have afterwards.

package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

func TestALaptopTakesWhatIsWanted(t *testing.T) {
	t.Parallel()
	api := started(t)
	for _, d := range deliveries(t, api, "LT-1") {
		if d.Status != "pending" {
			t.Errorf("before the first check-in %s is %s", d.Setting, d.Status)
		}
	}
	l, m := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	if out := checkIn(t, l); out.Applied != 5 || out.Refused != 0 || l.Revision != "1" {
		t.Errorf("the first session: %s, revision %s", out, l.Revision)
	}
	if v := m.Reported()["signin.banner"]; v.Text() != "Larkfell <&>\n  here" {
		t.Errorf("the banner arrived as %q", v.Text())
	}
	for id, d := range deliveries(t, api, "LT-1") {
		if d.Status != "applied" || d.Reported == nil || !d.Reported.Equal(*d.Wanted) {
			t.Errorf("%s: %+v", id, d)
		}
	}
	if out := checkIn(t, l); out.Applied != 0 || out.Messages != 2 {
		t.Errorf("a session with nothing to say: %s", out)
	}
	// Somebody alters a value at the keyboard, and another vanishes: both are put right in the
	// session in which it shows.
	m.Alter("screen.lock_after_minutes", setting.IntegerValue(999))
	m.Apply("signin.banner", setting.Value{})
	if out := checkIn(t, l); out.Applied != 2 {
		t.Errorf("after drift: %s", out)
	}
	if v := m.Reported()["screen.lock_after_minutes"]; v.Integer() != 7 {
		t.Errorf("the altered value is %v", v)
	}
	// What is no longer wanted is left to the laptop again.
	publishEstate(t, api, strings.Replace(smallEstate, `"media.camera":false,`, "", 1))
	if out := checkIn(t, l); out.Applied != 1 || l.Revision != "2" {
		t.Errorf("after a setting went: %s", out)
	}
	if _, still := m.Reported()["media.camera"]; still {
		t.Error("the camera is still managed")
	}
	if _, listed := deliveries(t, api, "LT-1")["media.camera"]; listed {
		t.Error("the camera is still listed")
	}
	// A conflict sends nothing: the laptop keeps what it has.
	publishEstate(
		t,
		api,
		strings.Replace(
			smallEstate,
			`"policies":[`,
			`"policies":[{"id":"q","kind":"security","settings":{"signin.banner":"other"},"audience":{"include":["everyone"]}},`,
			1,
		),
	)
	checkIn(t, l)
	if d := deliveries(t, api, "LT-1")["signin.banner"]; d.Status != "conflict" ||
		m.Reported()["signin.banner"].Text() != "Larkfell <&>\n  here" {
		t.Errorf("in a conflict: %+v, the laptop has %v", d, m.Reported()["signin.banner"])
	}
}

func TestLaptopsThatRefuseAndThatLie(t *testing.T) {
	t.Parallel()
	api := started(t)
	refusing, m := enrolled(t, api, "LT-1", "S1", endpoint.Refusing)
	out := checkIn(t, refusing)
	failed := 0
	for id, d := range deliveries(t, api, "LT-1") {
		switch d.Status {
		case "failed":
			failed++
			if d.Code != syncml.Denied || d.Reason == "" {
				t.Errorf("%s failed with %q %q", id, d.Code, d.Reason)
			}
		case "applied":
		default:
			t.Errorf("%s is %s", id, d.Status)
		}
	}
	if failed == 0 || failed == 5 || refusing.Revision != "1" || len(m.Reported()) != 5-failed {
		t.Errorf("%d failed, the laptop has %d values and revision %s (%s)", failed, len(m.Reported()), refusing.Revision, out)
	}
	if out := checkIn(t, refusing); out.Refused != 0 {
		t.Errorf("what was refused is tried again at once: %s", out)
	}
	n, err := client.Post[struct{ Settings int }](context.Background(), api, "/devices/LT-1/retry", nil)
	if err != nil || n.Settings != failed {
		t.Errorf("retry: %+v %v", n, err)
	}
	if out := checkIn(t, refusing); out.Refused != failed {
		t.Errorf("what a person asks to be tried again: %s", out)
	}
	lying, _ := enrolled(t, api, "LT-2", "", endpoint.Wrong)
	checkIn(t, lying)
	differs := 0
	for _, d := range deliveries(t, api, "LT-2") {
		if d.Status == "failed" && d.Code == "differs" && d.Reported != nil {
			differs++
		}
	}
	if differs != failed {
		t.Errorf("%d settings differ, expected %d", differs, failed)
	}
}

// TestManySettingsGoInSeveralAtomics sends more than one message can hold.
func TestManySettingsGoInSeveralAtomics(t *testing.T) {
	t.Parallel()
	api := started(t)
	var settings, entries []string
	for i := range 120 {
		settings = append(settings, fmt.Sprintf(`{"id":"big.s%03d","kind":"security","type":"text"}`, i))
		entries = append(entries, fmt.Sprintf(`"big.s%03d":%q`, i, strings.Repeat("ä", 600)))
	}
	estate := strings.TrimSuffix(
		strings.Replace(
			smallEstate,
			`"policies":[`,
			`"policies":[{"id":"big","kind":"security","settings":{`+strings.Join(entries, ",")+`},"audience":{"include":["everyone"]}},`,
			1,
		),
		"}",
	) + `,"settings":[` + strings.Join(settings, ",") + `]}`
	publishEstate(t, api, estate)
	l, m := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	out := checkIn(t, l)
	if out.Applied != 125 || len(m.Reported()) != 125 || out.Messages < 5 || l.Revision != "2" {
		t.Errorf("%s, the laptop has %d values and revision %s", out, len(m.Reported()), l.Revision)
	}
	for id, d := range deliveries(t, api, "LT-1") {
		if d.Status != "applied" {
			t.Errorf("%s is %s (%s)", id, d.Status, d.Reason)
		}
	}
}

// TestALargeValueGoesInChunks sends values that no one message of the laptop can hold, among small
// ones.
func TestALargeValueGoesInChunks(t *testing.T) {
	t.Parallel()
	api := started(t)
	var sites []string
	for i := range 900 {
		sites = append(sites, fmt.Sprintf(`"<%03d&%s>"`, i, strings.Repeat("é", 60)))
	}
	text := strings.Repeat("long & <wide> ", 9000)
	publishEstate(
		t,
		api,
		strings.TrimSuffix(
			strings.Replace(
				smallEstate,
				`"media.camera":false`,
				`"media.camera":false,"big.list":[`+strings.Join(sites, ",")+`],"big.text":"`+text+`"`,
				1,
			),
			"}",
		)+
			`,"settings":[{"id":"big.list","kind":"security","type":"list"},{"id":"big.text","kind":"security","type":"text"}]}`,
	)
	l, m := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	out := checkIn(t, l)
	if out.Applied != 7 || out.Refused != 0 || l.Revision != "2" {
		t.Errorf("%s, revision %s", out, l.Revision)
	}
	if got := m.Reported()["big.text"]; got.Text() != text {
		t.Errorf("the text arrived with %d of %d bytes", len(got.Text()), len(text))
	}
	if got := m.Reported()["big.list"]; len(got.Items()) != 900 || !strings.HasPrefix(got.Items()[7], "<007&é") {
		t.Errorf("the list arrived with %d items", len(got.Items()))
	}
	for id, d := range deliveries(t, api, "LT-1") {
		if d.Status != "applied" {
			t.Errorf("%s is %s (%s)", id, d.Status, d.Reason)
		}
	}
	if out := checkIn(t, l); out.Messages != 2 {
		t.Errorf("a second session: %s", out)
	}
}

// TestARestartLosesNothing stops the service and starts it over the same records: the laptop's
// nonce is gone, and it is challenged and goes on.
func TestARestartLosesNothing(t *testing.T) {
	t.Parallel()
	database := filepath.Join(t.TempDir(), "z.db")
	start := func() (*service.Running, func()) {
		running, err := service.Start(service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23"})
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() { done <- running.Wait(ctx) }()
		return running, func() {
			stop()
			if err := <-done; err != nil {
				t.Errorf("the service ended with %v", err)
			}
		}
	}
	running, stop := start()
	api := &client.Client{Base: running.Address}
	if _, err := api.Call(
		context.Background(),
		http.MethodPost,
		"/setup",
		nil,
		wire.SetUp{Code: running.SetupCode, Name: "ines", Password: "a password of tests"},
		nil,
	); err != nil {
		t.Fatal(err)
	}
	token, err := api.SignIn(context.Background(), "ines", "a password of tests", "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	api.Token = token.Secret
	publishEstate(t, api, smallEstate)
	// two groups are made after the policy, in an order that is not that of their ids
	publishEstate(
		t,
		api,
		strings.TrimSuffix(
			smallEstate,
			"}",
		)+`,"groups":[{"id":"zz","of":"devices","members":["LT-1"]},{"id":"a-new-group","of":"devices","members":["LT-1"]}]}`,
	)
	publishEstate(
		t,
		api,
		strings.TrimSuffix(
			smallEstate,
			"}",
		)+`,"groups":[{"id":"zz","of":"devices","members":["LT-1"]},{"id":"a-new-group","of":"devices","members":["LT-1"]},{"id":"mm","of":"devices","members":["LT-1"]}]}`,
	)
	l, m := enrolled(t, api, "LT-1", "S1", endpoint.Ordinary)
	checkIn(t, l)
	before, err := client.Get[json.RawMessage](context.Background(), api, "/estate", nil)
	if err != nil {
		t.Fatal(err)
	}
	stop()

	running, stop = start()
	defer stop()
	if running.SetupCode != "" {
		t.Error("a second first administrator is asked for")
	}
	api.Base = running.Address
	if after, err := client.Get[json.RawMessage](context.Background(), api, "/estate", nil); err != nil || !bytes.Equal(before, after) {
		t.Errorf("the estate is given differently after the restart: %v\n%s\n%s", err, before, after)
	}
	for id, d := range deliveries(t, api, "LT-1") {
		if d.Status != "applied" {
			t.Errorf("after the restart %s is %s", id, d.Status)
		}
	}
	again := endpoint.New(running.Address, http.DefaultClient, l.Identity, m)
	again.Revision = l.Revision
	if out := checkIn(t, again); out.Applied != 0 || out.Messages != 3 {
		t.Errorf("the first session after the restart: %s", out)
	}
	if out := checkIn(t, again); out.Messages != 2 {
		t.Errorf("the second session after the restart: %s", out)
	}
}

// TestPublishingWhileLaptopsCheckIn publishes again and again while two laptops check in without a
// pause. In the end both have what was published last, and the service knows it.
func TestPublishingWhileLaptopsCheckIn(t *testing.T) {
	t.Parallel()
	api := started(t)
	ctx, stop := context.WithCancel(context.Background())
	var laptops []*endpoint.Laptop
	var memories []*endpoint.Memory
	done := make(chan error, 2)
	for _, id := range []string{"LT-1", "LT-2"} {
		serial := map[string]string{"LT-1": "S1"}[id]
		l, m := enrolled(t, api, id, serial, endpoint.Ordinary)
		laptops, memories = append(laptops, l), append(memories, m)
		go func() {
			for ctx.Err() == nil {
				if _, err := l.CheckIn(context.Background()); err != nil { // a session that has begun is finished
					done <- err
					return
				}
			}
			done <- nil
		}()
	}
	for minutes := 20; minutes < 32; minutes++ {
		publishEstate(
			t,
			api,
			strings.Replace(smallEstate, `"screen.lock_after_minutes":7`, fmt.Sprintf(`"screen.lock_after_minutes":%d`, minutes), 1),
		)
	}
	stop()
	for range laptops {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	for i, id := range []string{"LT-1", "LT-2"} {
		checkIn(t, laptops[i])
		if v := memories[i].Reported()["screen.lock_after_minutes"]; v.Integer() != 31 || laptops[i].Revision != "13" {
			t.Errorf("%s has %v of revision %s", id, v, laptops[i].Revision)
		}
		for setting, d := range deliveries(t, api, id) {
			if d.Status != "applied" || d.Reported == nil || !d.Reported.Equal(*d.Wanted) {
				t.Errorf("%s of %s: %+v", setting, id, d)
			}
		}
	}
}

// TestALaptopThatLeftTheEstate is refused, and keeps what it has.
func TestALaptopThatLeftTheEstate(t *testing.T) {
	t.Parallel()
	api := started(t)
	l, m := enrolled(t, api, "LT-2", "", endpoint.Ordinary)
	checkIn(t, l)
	c, err := client.Post[wire.ImportResult](
		context.Background(),
		api,
		"/imports?retire_missing=true",
		[]byte(strings.Replace(smallEstate, `,{"id":"LT-2","os":"linux","os_version":"12"}`, "", 1)),
	)
	if err == nil {
		_, err = client.Post[wire.Publication](context.Background(), api, client.Path("changes", c.Change, "publish"), nil)
	}
	if err != nil || c.Retired != 1 {
		t.Fatal(c, err)
	}
	before := len(m.Reported())
	if out, err := l.CheckIn(context.Background()); err == nil || len(m.Reported()) != before {
		t.Errorf("it was told %s and has %d values", out, len(m.Reported()))
	}
	if _, err := client.Get[wire.DevicePage](context.Background(), api, "/devices/LT-2", nil); err == nil {
		t.Error("it is still listed")
	}
}

// measured notes the longest answer that a laptop gets.
type measured struct{ longest int }

// RoundTrip implements http.RoundTripper.
func (m *measured) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || !strings.HasSuffix(r.URL.Path, "/dm") {
		return answer, err
	}
	data, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	m.longest = max(m.longest, len(data))
	answer.Body = io.NopCloser(bytes.NewReader(data))
	return answer, err
}

// TestNoMessageIsLongerThanTheLaptopTakes checks in with laptops whose messages are short: what they
// are asked, what is set and what is said of their answers fits into them.
func TestNoMessageIsLongerThanTheLaptopTakes(t *testing.T) {
	t.Parallel()
	api := started(t)
	var settings, entries []string
	for i := range 40 {
		settings = append(settings, fmt.Sprintf(`{"id":"short.setting%03d","kind":"security","type":"text"}`, i))
		entries = append(entries, fmt.Sprintf(`"short.setting%03d":%q`, i, strings.Repeat("<&>", i)))
	}
	settings = append(settings, `{"id":"short.long","kind":"security","type":"text"}`)
	entries = append(entries, fmt.Sprintf(`"short.long":%q`, strings.Repeat("a long text ", 700)))
	publishEstate(t, api, strings.TrimSuffix(
		strings.Replace(
			smallEstate,
			`"policies":[`,
			`"policies":[{"id":"short","kind":"security","settings":{`+strings.Join(entries, ",")+`},"audience":{"include":["everyone"]}},`,
			1,
		),
		"}",
	)+`,"settings":[`+strings.Join(settings, ",")+`]}`)
	identity := identityOf(t, api, "LT-1", "S1")
	for _, longest := range []int{2048, 2500, 4096, 16 << 10} {
		// Everything is read and set again: the laptop has nothing.
		seen, m := &measured{}, &endpoint.Memory{Behaviour: endpoint.Ordinary}
		short := endpoint.New(api.Base, &http.Client{Transport: seen}, identity, m)
		short.Longest = longest
		out, err := short.CheckIn(t.Context())
		if err != nil {
			t.Fatalf("messages of %d bytes: %v", longest, err)
		}
		identity = short.Identity
		if len(m.Reported()) != 46 || short.Revision != "2" {
			t.Errorf("messages of %d bytes: %s, the laptop has %d values and revision %s", longest, out, len(m.Reported()), short.Revision)
		}
		if got := m.Reported()["short.long"]; len(got.Text()) != 12*700 {
			t.Errorf("messages of %d bytes: the long text arrived with %d bytes", longest, len(got.Text()))
		}
		if seen.longest > longest || seen.longest < longest/4 {
			t.Errorf("messages of %d bytes: the longest answer has %d", longest, seen.longest)
		}
	}
}
