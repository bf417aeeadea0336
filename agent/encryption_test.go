package agent_test

import (
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/agent"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
)

// chip starts a security chip in software, and gives it as systemd-cryptenroll names it.
func chip(t *testing.T) string {
	t.Helper()
	for _, program := range []string{"swtpm", "swtpm_setup", "systemd-cryptenroll", "cryptsetup"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is not installed")
		}
	}
	folder := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", folder)
	if out, err := exec.Command("swtpm_setup", "--tpm2", "--tpmstate", folder, "--createek", "--overwrite").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	var ports [2]int // one beside the other: programs look for the second there
	for ports[0] == 0 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		first := l.Addr().(*net.TCPAddr).Port
		next, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", first+1))
		l.Close()
		if err == nil {
			next.Close()
			ports = [2]int{first, first + 1}
		}
	}
	at := func(port int) string { return fmt.Sprintf("type=tcp,port=%d,bindaddr=127.0.0.1", port) }
	c := exec.Command("swtpm", "socket", "--tpm2", "--tpmstate", "dir="+folder, "--server", at(ports[0]), "--ctrl", at(ports[1]),
		"--flags", "startup-clear,not-need-init")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) { // it says nowhere that it listens
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", ports[1])); err == nil {
			conn.Close()
			return fmt.Sprintf("swtpm:host=127.0.0.1,port=%d", ports[0])
		}
		if time.Now().After(end) {
			t.Fatal("the chip does not listen")
		}
	}
}

// TestStartupProtection lets a security chip open the system disk, alone and with a PIN, as policies want it.
func TestStartupProtection(t *testing.T) {
	tool := &volume.Tool{Chip: chip(t)}
	disk := filepath.Join(t.TempDir(), "system.img")
	if err := os.WriteFile(disk, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(disk, 24<<20); err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	if err := tool.Format(ctx, disk, "6b1f5c8e-0000-4000-8000-000000000001", "aes-xts-256", []byte("of the installer")); err != nil {
		t.Fatal(err)
	}
	e := &agent.Encryption{
		Folder: agent.Folder(t.TempDir()), Tool: tool, Log: slog.New(slog.DiscardHandler),
		Discovers: func() ([]agent.Found, error) {
			return []agent.Found{{Path: disk, Name: "system disk", Kind: recovery.SystemVolume}}, nil
		},
	}
	settings := e.Settings()
	wants := func(chip, pin string) {
		t.Helper()
		for id, v := range map[setting.ID]setting.Value{
			recovery.StartupExtra: setting.BoolValue(true), recovery.StartupChip: setting.TextValue(chip),
			recovery.StartupPIN: setting.TextValue(pin),
			recovery.PINLength:  setting.IntegerValue(6),
		} {
			if err := settings.Apply(id, v); err != nil && !strings.Contains(err.Error(), "later") {
				t.Fatalf("%s: %v", id, err)
			}
		}
		if err := e.Advance(ctx, "L1", func() {}); err != nil {
			t.Fatal(err)
		}
	}
	is := func(want ...string) {
		t.Helper()
		h, err := tool.Read(ctx, disk)
		if err != nil || !slices.Equal(h.Startup(), append([]string{"passphrase"}, want...)) {
			t.Fatalf("it opens with %v, %v; expected a passphrase and %v: %+v", h.Startup(), err, want, e.Volumes(ctx))
		}
	}
	inForce := func(id setting.ID, want bool) {
		t.Helper()
		if v, err := settings.Read(id); err != nil || v.IsNothing() == want {
			t.Errorf("%s is %v, %v; in force: expected %t", id, v, err, want)
		}
	}
	wants("require", "forbid")
	is() // nobody let the agent in yet
	inForce(recovery.StartupChip, false)
	if err := e.Adopt(ctx, disk, []byte("of the installer")); err != nil {
		t.Fatal(err)
	}
	wants("require", "forbid")
	is("chip")
	inForce(recovery.StartupChip, true)
	// A PIN takes the person.
	wants("allow", "require")
	is("chip")
	inForce(recovery.StartupPIN, false)
	for pin, says := range map[string]string{"12345": "at least 6", "12345a": "digits", "": "at least 6"} {
		if err := e.SetPIN(ctx, pin); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("the PIN %q: %v", pin, err)
		}
	}
	if err := e.SetPIN(ctx, "482109"); err != nil {
		t.Fatal(err)
	}
	is("pin")
	inForce(recovery.StartupPIN, true)
	wants("forbid", "forbid")
	is()
	inForce(recovery.StartupChip, true)
	if err := e.SetPIN(ctx, "482109"); err == nil {
		t.Error("a PIN is set though policies forbid it")
	}
}
