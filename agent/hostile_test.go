package agent_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/agent"
	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
)

// hostile is a service that commands what it likes.
func hostile(t *testing.T, commands []syncml.Command) *httptest.Server {
	t.Helper()
	var turn atomic.Int32
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/dm" {
			_, _ = io.WriteString(w, "whatever was asked for")
			return
		}
		data, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		m, err := syncml.Decode(data)
		if err != nil {
			t.Error(err)
			return
		}
		out := &syncml.Message{Header: syncml.Header{
			VerDTD: syncml.VerDTD, VerProto: syncml.VerProto, SessionID: m.Header.SessionID, MsgID: m.Header.MsgID,
			Target: m.Header.Source, Source: m.Header.Target,
		}, Final: true}
		out.Commands = []syncml.Command{{Name: "Status", CmdID: "1", MsgRef: m.Header.MsgID, CmdRef: "0", Cmd: "SyncHdr", Data: syncml.OK}}
		if turn.Add(1) == 1 {
			for i, c := range commands {
				c.CmdID = fmt.Sprint(i + 2)
				out.Commands = append(out.Commands, c)
			}
		}
		_, _ = w.Write(syncml.Encode(out))
	}))
	t.Cleanup(s.Close)
	return s
}

// certified is a certificate, which a hostile service takes whoever signed it.
func certified(t *testing.T) *endpoint.Certified {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "L0"}, NotBefore: time.Now(),
		NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return &endpoint.Certified{Device: "L0", Key: secret, Certificate: der}
}

func managedBy(t *testing.T, s *httptest.Server, roots *x509.Certificate) (a *agent.Agent, folder string) {
	t.Helper()
	folder = t.TempDir()
	root := filepath.Join(folder, "root")
	if err := adapter.WriteFile(filepath.Join(root, "etc/issue"), []byte("Debian\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	at := agent.Folder(filepath.Join(folder, "state"))
	a = &agent.Agent{Folder: at, Host: &adapter.Host{Root: root, Keep: at.Kept(), Files: at.Files()}, Log: slog.New(slog.DiscardHandler)}
	if err := os.MkdirAll(string(at), 0o700); err != nil {
		t.Fatal(err)
	}
	pemText := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: roots.Raw})
	if err := at.WriteIdentity(agent.Identity{Base: s.URL, Roots: string(pemText), Certified: certified(t)}); err != nil {
		t.Fatal(err)
	}
	return a, folder
}

func set(path, data string, m syncml.Meta) syncml.Command {
	return syncml.Command{Name: "Replace", Items: []syncml.Item{{Target: path, Meta: m, Data: data}}}
}

// TestAHostileService: names and values of a service that means harm lead to no file beside those of the settings that
// there are.
func TestAHostileService(t *testing.T) {
	t.Parallel()
	text, list := syncml.Meta{Format: syncml.FormatText, Type: "text/plain"}, syncml.Meta{Format: syncml.FormatText, Type: "application/json"}
	sum := strings.Repeat("../", 20) + "tmp/owned"
	var commands []syncml.Command
	for _, id := range []string{"../../etc/cron.d/owned", "..", "signin.banner/../../x",
		strings.Repeat("a", 100_000)} { // no message may have these
		s := hostile(t, []syncml.Command{set(syncml.SettingPath+id, "x", text)})
		a, folder := managedBy(t, s, s.Certificate())
		if _, err := a.CheckIn(t.Context(), false); err == nil {
			t.Errorf("a message with %.40q is taken", id)
		}
		if is, err := os.ReadFile(filepath.Join(folder, "root/etc/issue")); err != nil || string(is) != "Debian\n" {
			t.Errorf("the banner is %q, %v", is, err)
		}
	}
	for _, id := range []string{"/etc/passwd", "no.such.setting", "signin.banner/x", "%2e%2e/x", "sign\x01in"} {
		commands = append(commands, set(syncml.SettingPath+id, "x", text), set(syncml.WhyPath+id, `{"title":"x"}`, list),
			set(syncml.OfferPath+id, `{"title":"x"}`, list),
			syncml.Command{Name: "Delete", Items: []syncml.Item{{Target: syncml.SettingPath + id}}},
			syncml.Command{Name: "Get", Items: []syncml.Item{{Target: syncml.FactPath + id}}})
	}
	for id, value := range map[string]string{
		"trust.machine_roots":           `[{"certificate":{"file":"` + sum + `","name":"a","size":1}}]`,
		"signin.script_in":              `{"file":"` + sum + `","name":"../../x","size":1}`,
		"screen.wallpaper":              `{"file":"short","name":"x","size":1}`,
		"network.wireless":              `[{"name":"a\nb\n[802-1x]\npassword=x","authentication":"open"}]`,
		"signin.allowed":                `["root:ALL\n+:ALL"]`,
		"accounts.local_administrators": `["x ALL=(ALL) NOPASSWD: ALL"]`,
		"applications.hidden":           `["../../../etc/cron.d/x"]`,
		"network.firewall.rules":        `[{"name":"x","direction":"in","action":"allow","ports":"1; flush ruleset"}]`,
		"browser.blocked_sites":         `{"broken":`,
	} {
		commands = append(commands, set(syncml.SettingPath+id, value, list))
	}
	for id, value := range map[string]string{
		"system.host_name": "a\nb", "system.time_zone": "../../../etc/shadow",
		"signin.automatic_account": "x\n[security]\nDisallowTCP=false", "system.audit_log_forward": `tcp://x" queue`,
		"signin.banner": strings.Repeat("x", 300_000), "system.language": "C\nLD_PRELOAD=/tmp/x",
	} {
		commands = append(commands, set(syncml.SettingPath+id, value, text))
	}
	s := hostile(t, commands)
	a, folder := managedBy(t, s, s.Certificate())
	if _, err := a.CheckIn(t.Context(), false); err != nil {
		t.Fatal(err)
	}
	allowed := map[string]bool{"root/etc/issue": true, "root/etc/issue.net": true}
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		at, _ := filepath.Rel(folder, path)
		if err == nil && !d.IsDir() && !allowed[at] && !strings.HasPrefix(at, "state/") {
			text, _ := os.ReadFile(path)
			t.Errorf("the service made %s: %.200q", at, text)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/tmp/owned", "/etc/cron.d/owned", filepath.Join(folder, "x")} {
		if _, err := os.Stat(path); err == nil {
			t.Errorf("%s is there", path)
		}
	}
	report, err := a.Report()
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range report.Settings { // the long banner is a banner
		if m.ID != "signin.banner" {
			t.Errorf("%s is managed: %s", m.ID, m.Wanted)
		}
	}
	if err := a.Leave(); err != nil {
		t.Error(err)
	}
}

// TestAnotherService: a service that does not prove to be the one that the laptop knows is not talked to.
func TestAnotherService(t *testing.T) {
	t.Parallel()
	s := hostile(t, []syncml.Command{set(syncml.SettingPath+"signin.banner", "Theirs",
		syncml.Meta{Format: syncml.FormatText, Type: "text/plain"})})
	other, err := x509.ParseCertificate(certified(t).Certificate)
	if err != nil {
		t.Fatal(err)
	}
	a, folder := managedBy(t, s, other)
	if _, err := a.CheckIn(t.Context(), false); err == nil {
		t.Error("it checked in")
	}
	if text, err := os.ReadFile(filepath.Join(folder, "root/etc/issue")); err != nil || string(text) != "Debian\n" {
		t.Errorf("the banner is %q, %v", text, err)
	}
}
