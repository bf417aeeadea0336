// This file has what people do about recovery keys besides asking for one.

package service_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

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
