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
	"time"

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

// TestChangingRecipients replaces the escrow identity of the service: laptops seal new keys, and the old identity is
// destroyed when none needs it, not before.
func TestChangingRecipients(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	l1, m1 := k.laptop(t, "L1", "ZX4-8891")
	l2, m2 := k.laptop(t, "L2", "ZX4-B891")
	first := m1.RecoveryKey()
	destroy := func() error {
		_, err := k.Call(t.Context(), http.MethodDelete, client.Path("escrow-recipients", k.recipient), nil, nil, nil)
		return err
	}
	if err := destroy(); codeOf(err) != "not-possible" || !strings.Contains(err.Error(), "3 laptops") {
		t.Errorf("destroyed while policies name it: %v", err)
	}
	next := posted[wire.EscrowRecipient](t, k.Client, "/escrow-recipients", wire.NewRecipient{Title: "Service 2027"}).Recipient
	publishEstate(t, k.Client, keyedEstate(next))
	if c := get[[]wire.UnitCoverage](t, k.Client, "/coverage"); c[0].Counts.NotResealed != 2 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	checksIn := func(l *endpoint.Laptop) {
		t.Helper()
		if _, err := l.CheckInFully(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	checksIn(l1)
	if err := destroy(); codeOf(err) != "not-possible" || !strings.Contains(err.Error(), "1 keys in force") {
		t.Errorf("destroyed while a laptop has not sealed a new key: %v", err)
	}
	checksIn(l2)
	if c := get[[]wire.UnitCoverage](t, k.Client, "/coverage"); c[0].Counts.NotResealed != 0 || c[0].Counts.Escrowed != 2 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	if err := destroy(); err != nil {
		t.Fatal(err)
	}
	for _, r := range get[[]wire.EscrowRecipient](t, k.Client, "/escrow-recipients") {
		if old := r.Recipient == k.recipient; old != (r.DestroyedAt != nil) || r.Usable == old || old && r.Earlier != 2 || !old && r.Keys != 2 {
			t.Errorf("recipient %+v", r)
		}
	}
	clerk := granted(t, k.Client, "cleo", wire.NewGrant{Role: "service-desk"})
	if is := shows(t, clerk, asksFor("L1", "ada", "Halyard 14", m1.RecoveryKey())); is.Key != m1.RecoveryKey().Reveal() {
		t.Error("the new key is another one")
	}
	if is := shows(t, clerk, asksFor("L1", "ada", "Halyard 14", first)); is.Key != "" || is.Sealed == "" {
		t.Error("what is sealed to the destroyed identity is opened")
	}
	_ = m2
}

// TestFindings looks for what somebody has to look at.
func TestFindings(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	codes := func() string {
		var out []string
		for _, f := range get[[]wire.RecoveryFinding](t, k.Client, "/coverage/findings") {
			out = append(out, fmt.Sprintf("%s %d", f.Code, f.Laptops))
		}
		return strings.Join(out, ", ")
	}
	if got := codes(); got != "" {
		t.Errorf("found %s", got)
	}
	company := "age1fyjh7llxwn0asx554x39njj0jlnnrmwshhu3tqxdt3k752h0c3kqmu7jh6"
	publishEstate(t, k.Client, keyedEstate(k.recipient, company))
	if got := codes(); got != "unknown-recipient 3" {
		t.Errorf("found %s", got)
	}
	in := wire.NewRecipient{Title: "Safe in Hull", Recipient: company, ReplaceOn: time.Now().AddDate(0, 1, 0).Format(time.DateOnly)}
	posted[wire.EscrowRecipient](t, k.Client, "/escrow-recipients", in)
	if got := codes(); got != "recipient-due 3" {
		t.Errorf("found %s", got)
	}
	if _, err := k.Call(t.Context(), http.MethodPut, client.Path("escrow-recipients", company), nil, wire.RecipientReplacement{},
		nil); err != nil {
		t.Fatal(err)
	}
	publishEstate(t, k.Client, strings.Replace(keyedEstate(k.recipient), `"disk.recovery.escrow":"service",`,
		`"disk.recovery.escrow":"off",`, 1))
	if got := codes(); got != "no-escrow 3" {
		t.Errorf("found %s", got)
	}
	for name, bad := range map[string]wire.NewRecipient{
		"no title":       {Recipient: "age1u6l45lg6786k23csg83nru0znc33wdnsfl9ch0m90glah2d4uq0sxcx874"},
		"another text":   {Title: "x", Recipient: "age1abc"},
		"a private half": {Title: "x", Recipient: "AGE-SECRET-KEY-1QQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQSWRVT5F"},
		"known already":  {Title: "x", Recipient: company},
		"no day":         {Title: "x", ReplaceOn: "soon"},
	} {
		_, err := client.Post[wire.EscrowRecipient](t.Context(), k.Client, "/escrow-recipients", bad)
		if codeOf(err) != "faults" || strings.Contains(fmt.Sprint(err), "QQQQ") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestAnOwnerWhoLeft finds an encrypted laptop whose owner the directory has no more.
func TestAnOwnerWhoLeft(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	k.laptop(t, "L1", "ZX4-8891")
	k.laptop(t, "L2", "ZX4-B891")
	source := `{"id":"staff","kind":"csv","title":"Staff","set_up":{"table":{"of":"people","key":"id","whole":true,"columns":{"id":"id","name":"name","site":"unit"}}}}`
	posted[wire.Source](t, k.Client, "/sources", []byte(source))
	for _, table := range []string{"id,name,site\nada,Ada Nilsen,fleet\nben,Ben Osei,labs\n", "id,name,site\nben,Ben Osei,labs\n"} {
		run, refused := send(t, k.Client, "staff", strings.NewReader(table), true)
		if refused != nil {
			t.Fatal(refused)
		}
		if run.State == "waiting" {
			posted[wire.SourceRun](t, k.Client, "/sources/staff/take", nil)
		}
	}
	found := get[[]wire.RecoveryFinding](t, k.Client, "/coverage/findings")
	if len(found) != 1 || found[0].Code != "owner-left" || found[0].What != "ada" || !slices.Equal(found[0].Devices, []string{"L1"}) {
		t.Errorf("found %+v", found)
	}
}

// TestTheReport writes coverage for auditors in its three forms.
func TestTheReport(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	_, m := k.laptop(t, "L1", "ZX4-8891")
	for format, want := range map[string]string{
		"markdown": "| Fleet | 2 | 2 | 1 | 1 | 50.0 % |", "html": "<td>50.0 %</td>",
		"csv": "L1,Halyard 14,Ada Nilsen,Fleet,system disk: encrypted",
	} {
		var page []byte
		if _, err := k.Call(t.Context(), http.MethodGet, "/coverage/report?format="+format, nil, nil, &page); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(page), want) {
			t.Errorf("%s: expected %q in\n%s", format, want, page)
		}
		if strings.Contains(string(page), string(m.RecoveryKey().Identifier())) {
			t.Errorf("%s has the identifier of a key", format)
		}
	}
	list := get[wire.Page[wire.CoveredLaptop]](t, k.Client, "/coverage/laptops?group=never-reported&unit=fleet")
	if len(list.Items) != 1 || list.Items[0].Device != "L3" {
		t.Errorf("never reported: %+v", list.Items)
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

// TestALaptopThatWasRetired has somebody see the key of a laptop that was retired: its disk may hold what the
// company needs.
func TestALaptopThatWasRetired(t *testing.T) {
	t.Parallel()
	k := keyedService(t)
	_, m := k.laptop(t, "L1", "ZX4-8891")
	clerk := granted(t, k.Client, "cleo", wire.NewGrant{Role: "service-desk", Unit: "fleet"})
	everywhere := granted(t, k.Client, "dora", wire.NewGrant{Role: "service-desk"})
	granted(t, k.Client, "emil", wire.NewGrant{Role: "service-desk"})
	second := &client.Client{Base: k.Base, HTTP: browserOf(t, k.Base, "emil")}
	if found := get[[]wire.FoundLaptop](t, everywhere, "/recovery-laptops?device=L1"); len(found) != 1 || found[0].Retired {
		t.Fatalf("before it was retired: %+v", found)
	}
	change := posted[wire.Change](t, k.Client, "/changes", wire.NewChange{Title: "L1 was handed back"})
	// it named L1
	own := `{"id":"own","kind":"encryption","settings":{"disk.recovery.own_key_shown":true},"audience":{"include":["device:L3"]}}`
	if _, err := k.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "own"), nil, []byte(own),
		nil); err != nil {
		t.Fatal(err)
	}
	posted[wire.Edit](t, k.Client, client.Path("changes", change.ID, "edits", "devices", "L1", "retire"), nil)
	posted[wire.Published](t, k.Client, client.Path("changes", change.ID, "publish"), wire.PublishRequest{AtOnce: true})

	for _, q := range []string{"serial=ZX4-8B91", "owner=nilsen", "device=L1", "identifier=" + string(m.RecoveryKey().Identifier())} {
		found := get[[]wire.FoundLaptop](t, everywhere, "/recovery-laptops?"+q)
		at := slices.IndexFunc(found, func(f wire.FoundLaptop) bool { return f.Device == "L1" })
		if at < 0 || !found[at].Retired || found[at].Model != "Halyard 14" || found[at].KeySince == nil {
			t.Errorf("%s: found %+v", q, found)
		}
		if found := get[[]wire.FoundLaptop](t, clerk, "/recovery-laptops?"+q); slices.ContainsFunc(found,
			func(f wire.FoundLaptop) bool { return f.Device == "L1" }) {
			t.Errorf("%s: a clerk of one unit found %+v", q, found)
		}
	}
	in := asksFor("L1", "ben", "Halyard 14", m.RecoveryKey()) // its owner may be gone: anybody may stand before it
	if _, err := client.Post[wire.KeyRequest](t.Context(), clerk, "/key-requests", in); codeOf(err) != "not-found" {
		t.Errorf("a clerk of one unit: %v", err)
	}
	for name, each := range map[string]struct {
		alter func(*wire.KeyAsk)
		code  string
	}{
		"another model":            {func(in *wire.KeyAsk) { in.Model = "Halyard 16" }, "not-the-same"},
		"another identifier":       {func(in *wire.KeyAsk) { in.Identifier = "1234 5678 9012" }, "not-the-same"},
		"nobody who is known here": {func(in *wire.KeyAsk) { in.Person = "zoe" }, "faults"},
	} {
		other := in
		each.alter(&other)
		if _, err := client.Post[wire.KeyRequest](t.Context(), everywhere, "/key-requests", other); codeOf(err) != each.code {
			t.Errorf("%s: %v, expected %s", name, err, each.code)
		}
	}
	r := posted[wire.KeyRequest](t, everywhere, "/key-requests", in)
	if r.State != "waiting" {
		t.Errorf("the request is %s, expected it to wait for a second person", r.State)
	}
	posted[wire.KeyRequest](t, second, client.Path("key-requests", r.ID, "decision"), wire.KeyDecision{Consent: true})
	is := posted[wire.ShownKey](t, everywhere, client.Path("key-requests", r.ID, "key"), wire.KeyLook{Password: "a long enough password"})
	if is.Key != m.RecoveryKey().Reveal() {
		t.Error("shown another key")
	}
	h := get[wire.KeyHistory](t, everywhere, "/devices/L1/recovery-keys")
	if len(h.Keys) != 1 || h.Keys[0].UsedBy != "dora" || h.Keys[0].RenewalAt != nil {
		t.Errorf("history %+v", h.Keys)
	}
	if _, err := client.Get[wire.KeyHistory](t.Context(), clerk, "/devices/L1/recovery-keys", nil); codeOf(err) != "not-found" {
		t.Errorf("the history for a clerk of one unit: %v", err)
	}
}
