// This file tests recovery keys from the laptop that makes them to the person at the desk who is told one.

package service_test

import (
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// keyed is a service with an escrow identity, and laptops whose disks a policy wants encrypted.
type keyed struct {
	*client.Client
	recipient string
	database  string
}

// keyedEstate is an estate whose policy names escrow recipients.
func keyedEstate(recipients ...string) string {
	return `{"units":[{"id":"r","title":"Harbour"},{"id":"fleet","parent":"r","title":"Fleet"},{"id":"labs","parent":"r","title":"Laboratories"}],
	 "people":[{"id":"ada","name":"Ada Nilsen","mail":"ada@larkfell.example","unit":"fleet"},{"id":"ben","name":"Ben Osei","unit":"labs"}],
	 "devices":[{"id":"L1","serial":"ZX4-8891","os":"linux","os_version":"12","owner":"ada","unit":"fleet","model":"Halyard 14"},
	  {"id":"L2","serial":"ZX4-B891","os":"linux","os_version":"12","owner":"ben","unit":"labs","model":"Halyard 16"},
	  {"id":"L3","serial":"HN7-0012","os":"linux","os_version":"12","unit":"fleet","model":"Halyard 14"}],
	 "policies":[{"id":"p","kind":"encryption","settings":{"disk.encryption.required":true,"disk.recovery.escrow":"service","disk.recovery.escrow_first":true,
	  "disk.recovery.escrow_recipients":["` + strings.Join(recipients, `","`) + `"]},"audience":{"include":["everyone"]}},
	  {"id":"two","kind":"encryption","settings":{"disk.recovery.second_person":true},"audience":{"include":["unit:labs"]}},
	  {"id":"own","kind":"encryption","settings":{"disk.recovery.own_key_shown":true},"audience":{"include":["device:L1"]}}]}`
}

func keyedService(t *testing.T) *keyed {
	t.Helper()
	k := &keyed{database: filepath.Join(t.TempDir(), "z.db")}
	running := startWith(t, service.Config{Database: k.database})
	k.Client = firstAdministrator(t, running.Address, running.SetupCode)
	k.recipient = posted[wire.EscrowRecipient](t, k.Client, "/escrow-recipients", wire.NewRecipient{Title: "Service 2026"}).Recipient
	publishEstate(t, k.Client, keyedEstate(k.recipient))
	return k
}

// laptop enrols a simulated laptop, which encrypts its disk.
func (k *keyed) laptop(t *testing.T, device, serial string) (*endpoint.Laptop, *endpoint.Memory) {
	t.Helper()
	l, m := enrolled(t, k.Client, device, serial, endpoint.Ordinary)
	m.Device = device
	if _, err := l.CheckInFully(t.Context()); err != nil {
		t.Fatal(err)
	}
	if m.RecoveryKey().IsZero() {
		t.Fatalf("%s is not encrypted", device)
	}
	return l, m
}

// asksFor gives what somebody says who stands before a laptop.
func asksFor(device, person, model string, key recovery.Key) wire.KeyAsk {
	return wire.KeyAsk{Device: device, Identifier: key.Identifier().Spaced(), Person: person, Model: model,
		Reason: "The PIN was forgotten after leave"}
}

// shows asks for a key and looks at it, with the password of the account.
func shows(t *testing.T, as *client.Client, in wire.KeyAsk) wire.ShownKey {
	t.Helper()
	r := posted[wire.KeyRequest](t, as, "/key-requests", in)
	return posted[wire.ShownKey](t, as, client.Path("key-requests", r.ID, "key"), wire.KeyLook{Password: "a long enough password"})
}

// TestAtTheDesk is the task of the person at the desk, done by a clerk of the service desk with rights for one unit.
func TestAtTheDesk(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	l1, m1 := k.laptop(t, "L1", "ZX4-8891")
	k.laptop(t, "L2", "ZX4-B891")
	clerk := granted(t, k.Client, "cleo", wire.NewGrant{Role: "service-desk", Unit: "fleet"})

	// The laptop is found by a label that is hard to read; the one of another unit is not.
	found := get[[]wire.FoundLaptop](t, clerk, "/recovery-laptops?serial=ZX4-B?91")
	if len(found) != 1 || found[0].Device != "L1" || found[0].Owner.Title != "Ada Nilsen" ||
		!slices.Equal(found[0].Differs, []int{4}) || found[0].KeySince == nil {
		t.Fatalf("found %+v", found)
	}
	for _, q := range []string{"owner=nilsen", "device=l1", "identifier=" + string(m1.RecoveryKey().Identifier())} {
		if found := get[[]wire.FoundLaptop](t, clerk, "/recovery-laptops?"+q); len(found) != 1 || found[0].Device != "L1" {
			t.Errorf("%s: found %+v", q, found)
		}
	}
	was := m1.RecoveryKey()
	is := shows(t, clerk, asksFor("L1", "ada", "halyard  14", was))
	if is.Key != was.Reveal() || is.Identifier != was.Identifier().Spaced() || is.Seconds != 60 {
		t.Fatalf("shown %+v", is)
	}
	// It counts as used, and the laptop puts another in its place at its next check-in.
	h := get[wire.KeyHistory](t, clerk, "/devices/L1/recovery-keys")
	if len(h.Keys) != 1 || h.Keys[0].UsedBy != "cleo" || h.Keys[0].RenewalAt == nil || h.Keys[0].Identifier != "" {
		t.Errorf("after it was shown: %+v", h.Keys)
	}
	if c := get[[]wire.UnitCoverage](t, clerk, "/coverage"); c[0].Counts.NotRenewed != 1 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	if _, err := l1.CheckInFully(t.Context()); err != nil {
		t.Fatal(err)
	}
	if m1.RecoveryKey() == was {
		t.Error("the key was not replaced")
	}
	h = get[wire.KeyHistory](t, clerk, "/devices/L1/recovery-keys")
	if len(h.Keys) != 2 || h.Keys[0].State != "current" || h.Keys[1].State != "replaced" || h.Keys[1].Until == nil ||
		h.Keys[1].Identifier != string(was.Identifier()) {
		t.Errorf("after it was replaced: %+v", h.Keys)
	}
	// The earlier key is still to be had, for a disk that was put back from a copy.
	if is := shows(t, clerk, asksFor("L1", "ada", "Halyard 14", was)); is.Key != was.Reveal() {
		t.Error("the earlier key is another one")
	}
	if c := get[[]wire.UnitCoverage](t, clerk, "/coverage"); c[0].Counts.NotRenewed != 0 || c[0].Counts.Escrowed != 1 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	var actions []string
	for _, r := range get[[]wire.AuditRecord](t, k.Client, "/audit?limit=200") {
		if strings.Contains(r.Action, "recovery key") && r.ID == "L1" {
			actions = append(actions, r.By+" "+r.Action)
		}
	}
	slices.Reverse(actions)
	if got, want := strings.Join(actions, "\n"), strings.TrimSpace(`
L1 store recovery key
L1 recovery key in force
cleo ask for recovery key
cleo show recovery key
L1 store recovery key
L1 recovery key in force
L1 recovery key replaced
cleo ask for recovery key
cleo show recovery key`); got != want {
		t.Errorf("the audit log has\n%s\nexpected\n%s", got, want)
	}
}

// TestWhoSeesNoKey tries all ways in which a key must not be seen.
func TestWhoSeesNoKey(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	_, m1 := k.laptop(t, "L1", "ZX4-8891")
	_, m2 := k.laptop(t, "L2", "ZX4-B891")
	key := m1.RecoveryKey()
	clerk := granted(t, k.Client, "cleo", wire.NewGrant{Role: "service-desk", Unit: "fleet"})
	other := granted(t, k.Client, "otto", wire.NewGrant{Role: "service-desk", Unit: "labs"})
	reader := granted(t, k.Client, "rita", wire.NewGrant{Role: "reader"})
	right := asksFor("L1", "ada", "Halyard 14", key)
	with := func(alter func(*wire.KeyAsk)) wire.KeyAsk {
		in := right
		alter(&in)
		return in
	}
	_, mine := m2, asksFor("L2", "ben", "Halyard 16", m2.RecoveryKey())
	for name, each := range map[string]struct {
		as   *client.Client
		in   wire.KeyAsk
		code string
		says string
	}{
		"the administrator, whom nobody granted it": {k.Client, right, "forbidden", "recovery-keys"},
		"a reader":                {reader, right, "forbidden", "recovery-keys"},
		"a clerk of another unit": {other, right, "not-found", "L1"},
		"outside of the unit":     {clerk, mine, "not-found", "L2"},
		"no reason":               {clerk, with(func(in *wire.KeyAsk) { in.Reason = "   needed   " }), "faults", "reason"},
		"no person":               {clerk, with(func(in *wire.KeyAsk) { in.Person = "" }), "faults", "person"},
		"no identifier":           {clerk, with(func(in *wire.KeyAsk) { in.Identifier = "" }), "faults", "identifier"},
		"another identifier":      {clerk, with(func(in *wire.KeyAsk) { in.Identifier = "1234 5678 9012" }), "not-the-same", "identifier"},
		"the key of another":      {clerk, with(func(in *wire.KeyAsk) { in.Identifier = mine.Identifier }), "not-the-same", "identifier"},
		"another person":          {clerk, with(func(in *wire.KeyAsk) { in.Person = "ben" }), "not-the-same", "person"},
		"another model":           {clerk, with(func(in *wire.KeyAsk) { in.Model = "Halyard 16" }), "not-the-same", "model"},
		"no such laptop":          {clerk, with(func(in *wire.KeyAsk) { in.Device = "L9" }), "not-found", "L9"},
	} {
		_, err := client.Post[wire.KeyRequest](t.Context(), each.as, "/key-requests", each.in)
		if codeOf(err) != each.code || !strings.Contains(fmt.Sprint(err), each.says) {
			t.Errorf("%s: %v, expected %s", name, err, each.code)
		}
		if strings.Contains(fmt.Sprint(err), string(key.Identifier())) || strings.Contains(fmt.Sprint(err), "Halyard 14") &&
			each.in.Model != "Halyard 14" {
			t.Errorf("%s: the refusal tells what the service has: %v", name, err)
		}
	}
	r := posted[wire.KeyRequest](t, clerk, "/key-requests", right)
	look := func(as *client.Client, password string) error {
		_, err := client.Post[wire.ShownKey](t.Context(), as, client.Path("key-requests", r.ID, "key"), wire.KeyLook{Password: password})
		return err
	}
	for name, each := range map[string]struct {
		as       *client.Client
		password string
		code     string
	}{
		"without a password":  {clerk, "", "confirm"},
		"with a wrong one":    {clerk, "another long password", "faults"},
		"by somebody else":    {other, "a long enough password", "not-found"},
		"by an administrator": {k.Client, "a password of tests", "not-found"},
	} {
		if err := look(each.as, each.password); codeOf(err) != each.code {
			t.Errorf("%s: %v, expected %s", name, err, each.code)
		}
	}
	if err := look(clerk, "a long enough password"); err != nil {
		t.Fatal(err)
	}
	if err := look(clerk, "a long enough password"); codeOf(err) != "not-possible" {
		t.Errorf("shown twice: %v", err)
	}
	for _, path := range []string{"/recovery-laptops?device=L1", "/recovery-laptops?identifier=48"} {
		if _, err := client.Get[[]wire.FoundLaptop](t.Context(), reader, path, nil); codeOf(err) != "forbidden" {
			t.Errorf("%s as a reader: %v", path, err)
		}
	}
	// Identifiers cannot be found out digit by digit.
	id := string(key.Identifier())
	for _, q := range []string{id[:4], id[:9] + "???", strings.Repeat("?", 12)} {
		if _, err := client.Get[[]wire.FoundLaptop](t.Context(), clerk, "/recovery-laptops?identifier="+q, nil); codeOf(err) != "faults" {
			t.Errorf("%s: %v", q, err)
		}
	}
	if found := get[[]wire.FoundLaptop](t, clerk, "/recovery-laptops?identifier="+id[:10]+"??"); len(found) != 1 {
		t.Errorf("two digits that cannot be read: %+v", found)
	}
	if _, err := client.Post[wire.RenewalsAsked](t.Context(), other, "/devices/L1/recovery-keys/renewal",
		wire.KeyRenewal{}); codeOf(err) != "outside-scope" {
		t.Errorf("another key for a laptop outside of the unit: %v", err)
	}
}

// TestASecondPerson has somebody else consent, who must be somebody else.
func TestASecondPerson(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	_, m := k.laptop(t, "L2", "ZX4-B891")
	clerk := granted(t, k.Client, "cleo", wire.NewGrant{Role: "service-desk"})
	granted(t, k.Client, "dora", wire.NewGrant{Role: "service-desk", Unit: "labs"})
	away := granted(t, k.Client, "emil", wire.NewGrant{Role: "service-desk", Unit: "fleet"})
	second := &client.Client{Base: k.Base, HTTP: browserOf(t, k.Base, "dora")}
	in := asksFor("L2", "ben", "Halyard 16", m.RecoveryKey())
	r := posted[wire.KeyRequest](t, clerk, "/key-requests", in)
	if r.State != "waiting" {
		t.Fatalf("the request is %s", r.State)
	}
	look := func() error {
		_, err := client.Post[wire.ShownKey](t.Context(), clerk, client.Path("key-requests", r.ID, "key"),
			wire.KeyLook{Password: "a long enough password"})
		return err
	}
	decide := func(as *client.Client, consents bool) error {
		_, err := client.Post[wire.KeyRequest](t.Context(), as, client.Path("key-requests", r.ID, "decision"),
			wire.KeyDecision{Consent: consents})
		return err
	}
	if err := look(); codeOf(err) != "not-possible" {
		t.Errorf("before the second person consented: %v", err)
	}
	if err := decide(clerk, true); codeOf(err) != "by-token" {
		t.Errorf("consent by a token: %v", err)
	}
	own := &client.Client{Base: k.Base, HTTP: browserOf(t, k.Base, "cleo")}
	if err := decide(own, true); codeOf(err) != "not-possible" {
		t.Errorf("one's own consent: %v", err)
	}
	if err := decide(away, false); codeOf(err) != "not-found" {
		t.Errorf("by somebody of another unit: %v", err)
	}
	if list := get[[]wire.KeyRequest](t, second, "/key-requests"); len(list) != 1 || list[0].Identifier != "" || list[0].By != "cleo" {
		t.Errorf("what waits: %+v", list)
	}
	if err := decide(second, true); err != nil {
		t.Fatal(err)
	}
	if err := decide(second, false); codeOf(err) != "not-possible" {
		t.Errorf("decided twice: %v", err)
	}
	if err := look(); err != nil {
		t.Error(err)
	}
	r = posted[wire.KeyRequest](t, clerk, "/key-requests", in)
	if err := decide(second, false); err != nil {
		t.Fatal(err)
	}
	if err := look(); codeOf(err) != "not-possible" || !strings.Contains(err.Error(), "dora refused") {
		t.Errorf("refused: %v", err)
	}
}

// TestTheOwnersKey shows an owner the key of their own laptop where a policy says so, and of no other.
func TestTheOwnersKey(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	_, m1 := k.laptop(t, "L1", "ZX4-8891")
	_, m2 := k.laptop(t, "L2", "ZX4-B891")
	ada, ben := granted(t, k.Client, "ada"), granted(t, k.Client, "ben")
	if is := shows(t, ada, asksFor("L1", "ada", "Halyard 14", m1.RecoveryKey())); is.Key != m1.RecoveryKey().Reveal() {
		t.Error("the owner sees another key")
	}
	if _, err := client.Post[wire.KeyRequest](t.Context(), ben, "/key-requests",
		asksFor("L2", "ben", "Halyard 16", m2.RecoveryKey())); codeOf(err) != "forbidden" {
		t.Errorf("an owner whom no policy allows it: %v", err)
	}
	if _, err := client.Post[wire.KeyRequest](t.Context(), ada, "/key-requests",
		asksFor("L2", "ben", "Halyard 16", m2.RecoveryKey())); codeOf(err) != "forbidden" {
		t.Errorf("the key of somebody else: %v", err)
	}
}

// browserOf signs somebody in as a browser does, with a session in a cookie.
func browserOf(t *testing.T, base, name string) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	in := wire.Credentials{Name: name, Password: "a long enough password"}
	if _, err := (&client.Client{Base: base, HTTP: browser}).Call(t.Context(), http.MethodPost, "/session", nil, in, nil); err != nil {
		t.Fatal(err)
	}
	return browser
}
