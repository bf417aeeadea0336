// This file runs the agent of real laptops against a service, on the files of a made-up laptop.

package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/agent"
	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// laptopFiles makes the files of a laptop.
func laptopFiles(t *testing.T, serial string) (root string) {
	t.Helper()
	root = t.TempDir()
	for path, text := range map[string]string{
		"/etc/issue": "Debian GNU/Linux 12\n", "/sys/class/dmi/id/product_serial": serial + "\n",
		"/sys/class/dmi/id/product_name": "Halyard 16\n",
		"/etc/login.defs":                "PASS_MAX_DAYS\t99999\n", "/etc/debian_version": "12.7\n",
		"/sys/class/power_supply/BAT0/status": "Full\n",
		"/sys/class/video4linux/video0/name":  "Camera\n",
	} {
		if err := adapter.WriteFile(filepath.Join(root, path), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

// agentOn gives the agent of a laptop.
func agentOn(t *testing.T, root string) *agent.Agent {
	t.Helper()
	folder := agent.Folder(filepath.Join(t.TempDir(), "state"))
	return &agent.Agent{
		Folder: folder, Host: &adapter.Host{Root: root, Keep: folder.Kept(), Files: folder.Files()}, Log: slog.New(slog.DiscardHandler),
		Interval: time.Minute,
	}
}

func (e *enrolling) identity(t *testing.T, code string) agent.Identity {
	t.Helper()
	ca, err := os.ReadFile(filepath.Join(e.folder, "server.pem"))
	if err != nil {
		t.Fatal(err)
	}
	return agent.Identity{Base: e.Base, Roots: string(ca), Code: code}
}

// sets publishes the policy for the laptop with other settings, and with more fields.
func (e *enrolling) sets(t *testing.T, settings, more map[string]any) {
	t.Helper()
	change := posted[wire.Change](t, e.Client, "/changes", wire.NewChange{Title: "Settings of the laptop"})
	body := map[string]any{
		"id": "own", "title": "Ours", "why": "As agreed", "kind": "security", "priority": 5, "settings": settings,
		"audience": map[string]any{"include": []string{"device:L0"}},
	}
	maps.Copy(body, more)
	if _, err := e.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "own"), nil, body,
		nil); err != nil {
		t.Fatal(err)
	}
	posted[wire.Published](t, e.Client, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
}

// filesOf gives the files of a laptop that the agent may write.
func filesOf(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(filepath.Join(root, "etc"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		out[strings.TrimPrefix(path, root)] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestTheAgent enrols a laptop, puts settings into force on it, notices what somebody alters, and leaves the laptop
// as it was.
func TestTheAgent(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	root := laptopFiles(t, "S0")
	before := filesOf(t, root)
	a := agentOn(t, root)
	if _, err := a.CheckIn(t.Context(), false); !errors.Is(err, agent.ErrNotEnrolled) {
		t.Errorf("before it enrols: %v", err)
	}
	code := e.invites(t, wire.NewInvitation{Unit: "r", Approval: true})[0]
	var waits *endpoint.WaitError
	if _, err := a.Enrol(t.Context(), e.identity(t, code)); !errors.As(err, &waits) {
		t.Fatalf("before it is approved: %v", err)
	}
	list := get[[]wire.WaitingLaptop](t, e.Client, "/waiting-laptops")
	if len(list) != 1 || list[0].Serial != "S0" || list[0].Model != "Halyard 16" {
		t.Fatalf("waiting %+v", list)
	}
	posted[struct{}](t, e.Client, client.Path("waiting-laptops", list[0].ID, "decision"), wire.EnrolmentDecision{Approve: true})
	if device, err := a.Enrol(t.Context(), e.identity(t, code)); err != nil || device != "L0" {
		t.Fatalf("enrolled as %q, %v", device, err)
	}

	e.sets(t, map[string]any{
		"signin.banner": "For work only", "media.camera": false, "accounts.password_age_days": 90,
		"browser.blocked_sites": []string{"casino.example"},
		"power.lid_battery":     "lock", "backup.every_hours": 6,
	}, nil)
	checksIn := func() endpoint.Outcome {
		t.Helper()
		out, err := a.CheckIn(t.Context(), false)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	checksIn()
	is := filesOf(t, root)
	for path, want := range map[string]string{
		"/etc/issue": "For work only\n", "/etc/issue.net": "For work only\n", "/etc/modprobe.d/zridge.conf": "install uvcvideo /bin/false",
		"/etc/login.defs": "PASS_MAX_DAYS\t90", "/etc/chromium/policies/managed/zridge.json": "casino.example",
		"/etc/systemd/logind.conf.d/50-zridge.conf": "HandleLidSwitch=lock", "/etc/dconf/db/local.d/50-zridge": "idle-delay=uint32 420",
	} {
		if !strings.Contains(is[path], want) {
			t.Errorf("%s is %q, expected %q in it", path, is[path], want)
		}
	}
	got := deliveries(t, e.Client, "L0")
	if got["signin.banner"].Status != "applied" || got["backup.every_hours"].Status != "failed" || got["backup.every_hours"].Code != "406" {
		t.Errorf("deliveries %+v", got)
	}
	// All that the laptop lacks is said in one message; enrolled again, it is asked for it again.
	if out := checksIn(); out.Messages != 2 || out.Refused != 0 {
		t.Errorf("without news: %v", out)
	}
	if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
	if out := checksIn(); out.Refused != 1 || out.Messages > 6 {
		t.Errorf("enrolled again: %v", out)
	}
	// What somebody alters at the laptop is seen at the next check-in, and put right.
	if err := os.WriteFile(filepath.Join(root, "/etc/issue"), []byte("Hello\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	report, err := a.Report()
	if err != nil || len(report.Settings) != 6 {
		t.Fatalf("%d settings are managed, %v", len(report.Settings), err)
	}
	for _, s := range report.Settings {
		if s.InForce != (s.ID != "signin.banner") {
			t.Errorf("%s is in force: %t", s.ID, s.InForce)
		}
	}
	if out := checksIn(); out.Applied != 0 || filesOf(t, root)["/etc/issue"] != "For work only\n" {
		t.Errorf("after it was altered: %v, %q", out, filesOf(t, root)["/etc/issue"])
	}
	// Offered instead of enforced, it is withdrawn until the person takes it.
	e.sets(t, map[string]any{"media.camera": false}, map[string]any{"offered": true})
	checksIn()
	if is := filesOf(t, root); is["/etc/issue"] != before["/etc/issue"] || is["/etc/login.defs"] != before["/etc/login.defs"] {
		t.Errorf("withdrawn, the files are %v", is)
	}
	if err := a.Choose("nothing", true); err == nil {
		t.Error("what is not offered was taken")
	}
	if err := a.Choose("own", true); err != nil {
		t.Fatal(err)
	}
	checksIn()
	if v := filesOf(t, root)["/etc/modprobe.d/zridge.conf"]; !strings.Contains(v, "uvcvideo") {
		t.Errorf("taken, the modules are %q", v)
	}
	if err := a.Leave(); err != nil {
		t.Fatal(err)
	}
	if is := filesOf(t, root); !maps.Equal(is, before) {
		t.Errorf("when it has left, the files are %v, were %v", is, before)
	}
}

// TestTheAgentIsTold: a laptop that runs the agent is there within moments when somebody asks for it.
func TestTheAgentIsTold(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	a := agentOn(t, laptopFiles(t, "S0"))
	a.Interval = time.Hour
	if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	until(t, e.Client, "/devices/L0", func(p wire.DevicePage) bool { return len(p.CheckIns) == 1 })
	e.sets(t, map[string]any{"signin.banner": "Now"}, nil)
	for !posted[wire.Told](t, e.Client, "/devices/L0/check-in", nil).Told { // until its connection is there
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
		}
	}
	until(t, e.Client, "/devices/L0", func(p wire.DevicePage) bool { return len(p.CheckIns) == 2 })
	stop()
	if err := <-done; err != nil {
		t.Error(err)
	}
}

// TestTheAgentIsKilled kills the agent at random moments of check-ins: each setting is as before or as wanted, and the
// next check-in finishes what was begun.
func TestTheAgentIsKilled(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	root := laptopFiles(t, "S0")
	before := filesOf(t, root)
	program := filepath.Join(t.TempDir(), "zridge-agent")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/zridge-agent").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	state := filepath.Join(t.TempDir(), "state")
	run := func(ctx context.Context, arguments ...string) (string, error) {
		out, err := exec.CommandContext(ctx, program, append([]string{"--root", root, "--state", state}, arguments...)...).CombinedOutput()
		return string(out), err
	}
	must := func(arguments ...string) string {
		t.Helper()
		out, err := run(t.Context(), arguments...)
		if err != nil {
			t.Fatalf("%v: %v\n%s", arguments, err, out)
		}
		return out
	}
	must("enrol", e.Base, "--code", e.invites(t, wire.NewInvitation{Device: "L0"})[0], "--ca", filepath.Join(e.folder, "server.pem"))
	r := rand.New(rand.NewPCG(7, 7))
	allowed := map[setting.ID]map[string]bool{}
	values := func(n int) map[string]any {
		return map[string]any{
			"signin.banner": fmt.Sprint("Banner ", n), "media.camera": n%2 == 0, "accounts.password_age_days": 30 + n,
			"accounts.lockout_failures": 3 + n%5,
			"browser.blocked_sites":     []string{fmt.Sprintf("site-%d.example", n)}, "power.lid_battery": []string{"lock", "sleep"}[n%2],
			"screen.lock":          n%3 == 0,
			"network.name_servers": []string{fmt.Sprintf("192.0.2.%d", n%200+1)},
		}
	}
	began := time.Now()
	e.sets(t, values(0), nil)
	must("check-in")
	whole := time.Since(began)
	killed := 0
	for n := 1; n <= killings(); n++ {
		e.sets(t, values(n), nil)
		for _, now := range []int{n - 1, n} {
			for id, v := range values(now) {
				text, _ := json.Marshal(v)
				if allowed[setting.ID(id)] == nil || now == n-1 && n > 1 {
					allowed[setting.ID(id)] = map[string]bool{}
				}
				allowed[setting.ID(id)][string(text)] = true
			}
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(r.Int64N(int64(whole))))
		if _, err := run(ctx, "check-in"); err != nil {
			killed++
		}
		cancel()
		var report agent.Report
		if err := json.Unmarshal([]byte(must("show", "--json")), &report); err != nil {
			t.Fatal(err)
		}
		for _, s := range report.Settings {
			text, _ := json.Marshal(s.Observed)
			if want := allowed[s.ID]; want != nil && !want[string(text)] {
				t.Fatalf("round %d: %s is %s, expected one of %v", n, s.ID, text, want)
			}
		}
		must("check-in")
		if err := json.Unmarshal([]byte(must("show", "--json")), &report); err != nil {
			t.Fatal(err)
		}
		for _, s := range report.Settings {
			text, _ := json.Marshal(s.Observed)
			if want, _ := json.Marshal(values(n)[string(s.ID)]); values(n)[string(s.ID)] != nil && string(text) != string(want) {
				t.Fatalf("round %d, after the next check-in: %s is %s, expected %s", n, s.ID, text, want)
			}
		}
	}
	if killed == 0 {
		t.Error("no check-in was killed: the test shows nothing")
	}
	must("remove")
	if is := filesOf(t, root); !maps.Equal(is, before) {
		t.Errorf("when it is removed, the files are %v, were %v", is, before)
	}
	t.Logf("%d of %d check-ins were killed", killed, killings())
}

// killings is how often the agent is killed; ZRIDGE_KILLS says more.
func killings() int {
	n := 25
	if text := os.Getenv("ZRIDGE_KILLS"); text != "" {
		fmt.Sscan(text, &n)
	}
	return n
}

// TestTheAgentsPage: on the laptop people see what is managed and why, and take what is offered. Nobody else's page can do
// it for them.
func TestTheAgentsPage(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	a := agentOn(t, laptopFiles(t, "S0"))
	a.Interval = time.Hour
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	a.Page = free.Addr().String()
	if err := free.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
	e.sets(t, map[string]any{"signin.banner": "For <work> only"}, nil)
	e.edits(t, "policies", "kind", `{"id":"kind","title":"Kind to the battery","why":"It lasts longer","kind":"configuration","offered":true,"settings":{"power.lid_battery":"lock"},"audience":{"include":["device:L0"]}}`)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	defer func() {
		stop()
		if err := <-done; err != nil {
			t.Error(err)
		}
	}()
	page := func(method, host, path string, form url.Values) (int, string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), method, "http://"+a.Page+path, strings.NewReader(form.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		if r.Host = host; form != nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return 0, err.Error()
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(text)
	}
	shows := func(texts ...string) string {
		t.Helper()
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
			status, text := page(http.MethodGet, a.Page, "/", nil)
			if status == http.StatusOK && !slices.ContainsFunc(texts, func(want string) bool { return !strings.Contains(text, want) }) {
				return text
			}
			if time.Now().After(deadline) {
				t.Fatalf("the page is %d:\n%s", status, text)
			}
		}
	}
	text := shows("For &lt;work&gt; only", "As agreed", "Kind to the battery", "It lasts longer", "Take", "in force")
	token := regexp.MustCompile(`name="token" value="([A-Z0-9]+)"`).FindStringSubmatch(text)
	if token == nil {
		t.Fatal("the page has no token")
	}
	for about, x := range map[string]struct {
		host, token, policy string
		want                int
	}{
		"another host":  {"attacker.example", token[1], "kind", http.StatusMisdirectedRequest},
		"no token":      {a.Page, "", "kind", http.StatusForbidden},
		"another token": {a.Page, "AAAA", "kind", http.StatusForbidden}, "nothing offered": {a.Page, token[1], "none", http.StatusConflict},
	} {
		if status, _ := page(http.MethodPost, x.host, "/choose", url.Values{"token": {x.token}, "policy": {x.policy},
			"take": {"yes"}}); status != x.want {
			t.Errorf("%s: %d, expected %d", about, status, x.want)
		}
	}
	if status, _ := page(http.MethodPost, a.Page, "/choose", url.Values{"token": {token[1]}, "policy": {"kind"},
		"take": {"yes"}}); status != http.StatusOK {
		t.Errorf("taken: %d", status)
	}
	shows("power.lid_battery", "Leave") // the service heard of it at once
}
