package adapter_test

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
)

// inACopy is set in a process whose root is a copy of the machine's own.
const inACopy = "ZRIDGE_TEST_COPY"

// copyOfTheRoot makes a copy of this machine's root, with a network of its own, and runs one test in it.
const copyOfTheRoot = `
mount --make-rprivate /
mkdir "$WORK/layer"; mount -t tmpfs none "$WORK/layer"; mkdir "$WORK/layer/upper" "$WORK/layer/work" "$WORK/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$WORK/layer/upper,workdir=$WORK/layer/work" "$WORK/root"
cd "$WORK/root"
mount -t proc proc proc; mount --rbind /dev dev; mount -t tmpfs none run; mount -t tmpfs none tmp
mkdir tmp/t; cp "$TEST" tmp/t/test; chmod 1777 tmp
exec chroot . /tmp/t/test -test.run "^$NAME\$" -test.v
`

// inCopy runs a test again in a copy of this machine's root. here is false in the copy.
func inCopy(t *testing.T, programs ...string) (here bool) {
	t.Helper()
	if os.Getenv(inACopy) != "" {
		return false
	}
	for _, name := range programs {
		if _, err := exec.LookPath(name); err != nil {
			t.Fatalf("%s is missing; make test installs it", name)
		}
	}
	if out, err := exec.Command("unshare", "-m", "-n", "-p", "-f", "sh", "-ec",
		`mkdir "$0"; mount -t tmpfs none "$0"; mkdir "$0/u" "$0/w" "$0/r"
		mount -t overlay overlay -o "lowerdir=/,upperdir=$0/u,workdir=$0/w" "$0/r"`, filepath.Join(t.TempDir(), "probe")).CombinedOutput(); err != nil {
		t.Skipf("a copy of this machine's root cannot be made: %s", out)
	}
	c := exec.Command("unshare", "-m", "-n", "-p", "-f", "--kill-child", "bash", "-euc", copyOfTheRoot)
	c.Env = append(os.Environ(), inACopy+"=1", "WORK="+t.TempDir(), "TEST="+os.Args[0], "NAME="+t.Name())
	out, err := c.CombinedOutput()
	if t.Logf("%s", out); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(out), "--- SKIP: "+t.Name()) {
		t.Skip("the kernel of this machine lacks what it needs")
	}
	if !strings.Contains(string(out), "--- PASS: "+t.Name()) {
		t.Error("the test did not run in the copy")
	}
	return true
}

// realHost is the machine itself, in a copy.
func realHost(t *testing.T) *adapter.Host {
	t.Helper()
	for _, data := range append(authorities[:], texts[:]...) {
		if err := adapter.WriteFile(filepath.Join("/tmp/t/files", sumOf(data)), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return &adapter.Host{Keep: "/tmp/t/kept", Files: "/tmp/t/files", Identity: "/tmp/t", Command: adapter.Run}
}

func apply(t *testing.T, h *adapter.Host, id setting.ID, v setting.Value) {
	t.Helper()
	a := owner(h, id)
	if err := a.Apply(id, v); err != nil {
		t.Fatalf("%s = %s: %v", id, v, err)
	}
	if is, err := a.Read(id); err != nil || !is.Equal(v) {
		t.Fatalf("%s = %s reads %s, %v", id, v, is, err)
	}
}

func withdraw(t *testing.T, h *adapter.Host, ids ...setting.ID) {
	t.Helper()
	for _, id := range ids {
		if err := owner(h, id).Withdraw(id); err != nil {
			t.Fatalf("%s: %v", id, err)
		}
	}
}

// say runs a script, and gives whether it succeeds and what it says.
func say(script string, arguments ...string) (ok bool, said string) {
	out, err := exec.Command("sh", append([]string{"-c", script, "sh"}, arguments...)...).CombinedOutput()
	return err == nil, strings.TrimSpace(string(out))
}

func must(t *testing.T, script string) string {
	t.Helper()
	ok, said := say(script)
	if !ok {
		t.Fatalf("%s: %s", script, said)
	}
	return said
}

// TestFirewallOnARealKernel connects to the laptop from another network, with and without rules.
func TestFirewallOnARealKernel(t *testing.T) {
	t.Parallel()
	if inCopy(t, "nft", "ip", "curl") {
		return
	}
	h := realHost(t)
	if ok, said := say("nft add table inet probe && nft delete table inet probe && ip link add a type veth peer name b && ip " +
		"link delete a"); !ok {
		t.Skipf("no packet filter or no pairs of interfaces here: %s", said)
	}
	other := exec.Command("unshare", "-n", "sh", "-c", "echo ready; exec sleep 100000") // another laptop, by its network
	ready, err := other.StdoutPipe()
	if err == nil {
		err = other.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = other.Process.Kill(); _ = other.Wait() })
	if _, err := ready.Read(make([]byte, 5)); err != nil {
		t.Fatal(err)
	}
	there := fmt.Sprint("nsenter -n -t ", other.Process.Pid, " ")
	must(t, fmt.Sprintf(`ip link set lo up; ip link add here type veth peer name there netns %d
		ip addr add 192.0.2.1/24 dev here; ip link set here up`, other.Process.Pid))
	must(t, there+`sh -c 'ip link set lo up; ip addr add 192.0.2.2/24 dev there; ip link set there up'`)
	serve(t, "192.0.2.1:8080")
	serve(t, "192.0.2.1:9090")
	reached := func(port string) bool {
		ok, _ := say(there + "curl -s -m 2 http://192.0.2.1:" + port)
		return ok
	}
	outside := func() bool { // refused by the other laptop, and not stopped on the way
		ok, _ := say("curl -s -m 2 http://192.0.2.2:1; [ $? = 7 ]")
		return ok
	}
	see := func(what string, web, other bool) {
		t.Helper()
		if is := reached("8080"); is != web {
			t.Errorf("%s: port 8080 is reached: %t; expected %t", what, is, web)
		}
		if is := reached("9090"); is != other {
			t.Errorf("%s: port 9090 is reached: %t; expected %t", what, is, other)
		}
	}
	see("without a firewall", true, true)
	apply(t, h, "network.firewall.public", setting.BoolValue(true))
	see("on in public", false, false)
	row := setting.Row{"name": setting.TextValue("web"), "direction": setting.TextValue("in"), "action": setting.TextValue("allow"),
		"protocol": setting.TextValue("tcp"), "ports": setting.TextValue("8080")}
	apply(t, h, "network.firewall.rules", setting.TableValue([]setting.Row{row}))
	see("with a rule", true, false)
	row["remote"] = setting.ListValue([]string{"192.0.2.77"})
	apply(t, h, "network.firewall.rules", setting.TableValue([]setting.Row{row}))
	see("with a rule for another address", false, false)
	row["remote"] = setting.ListValue([]string{"192.0.2.0/29", "2001:db8::/32"})
	row["networks"] = setting.TextValue("company")
	apply(t, h, "network.firewall.rules", setting.TableValue([]setting.Row{row}))
	see("with a rule for the company", false, false)
	apply(t, h, "network.firewall.company", setting.BoolValue(true))
	must(t, `nft add element inet zridge company '{ "here" }'`) // as NetworkManager's dispatcher does
	see("in the company", true, false)
	if v, err := owner(h, "network.firewall.public").Read("network.firewall.public"); err != nil || v.IsNothing() {
		t.Errorf("after the network is known, it reads %s, %v", v, err)
	}
	apply(t, h, "network.firewall.company", setting.BoolValue(false))
	must(t, `nft add element inet zridge company '{ "here" }'`)
	see("off in the company", true, true)
	apply(t, h, "network.firewall.inbound", setting.TextValue("allow"))
	see("all is let in", true, true)
	apply(t, h, "network.firewall.logging", setting.TextValue("everything"))
	apply(t, h, "network.firewall.outbound", setting.TextValue("block"))
	if outside() {
		t.Error("what goes out is not stopped")
	}
	apply(t, h, "network.firewall.outbound", setting.TextValue("allow"))
	if !outside() {
		t.Error("what goes out is stopped")
	}
	must(t, "nft flush chain inet zridge inbound")
	if v, err := owner(h, "network.firewall.public").Read("network.firewall.public"); err != nil || !v.IsNothing() {
		t.Errorf("after somebody altered the table, it reads %s, %v", v, err)
	}
	apply(t, h, "network.firewall.public", setting.BoolValue(true))
	withdraw(t, h, owner(h, "network.firewall.public").Settings()...)
	if ok, _ := say("nft list table inet zridge"); ok {
		t.Error("the table is still there")
	}
	see("withdrawn", true, true)
}

// TestSignInOnARealRoot lets people sign in through the machine's own PAM.
func TestSignInOnARealRoot(t *testing.T) {
	t.Parallel()
	if inCopy(t, "pam-auth-update", "su", "chpasswd", "faillock") {
		return
	}
	h := realHost(t)
	// The files of PAM as the system makes them, wherever somebody wrote them otherwise.
	must(t, `DEBIAN_FRONTEND=noninteractive pam-auth-update --force
		useradd -m tove; useradd -m arvid; printf 'tove:first one\narvid:other one\n' | chpasswd; mkdir -p /run/faillock`)
	before := must(t, "cat /etc/pam.d/common-* | sha256sum")
	signsIn := func(who, password string) bool {
		ok, _ := say(`printf '%s\n' "$2" | setpriv --reuid 65534 --regid 65534 --clear-groups su "$1" -c true`, who, password)
		return ok
	}
	see := func(what string, tove, arvid bool) {
		t.Helper()
		if is := signsIn("tove", "first one"); is != tove {
			t.Errorf("%s: tove signs in: %t; expected %t", what, is, tove)
		}
		if is := signsIn("arvid", "other one"); is != arvid {
			t.Errorf("%s: arvid signs in: %t; expected %t", what, is, arvid)
		}
	}
	see("before", true, true)
	apply(t, h, "signin.denied", setting.ListValue([]string{"tove"}))
	see("denied", false, true)
	apply(t, h, "signin.allowed", setting.ListValue([]string{"tove"}))
	see("allowed and denied", false, false)
	withdraw(t, h, "signin.denied")
	see("allowed", true, false)
	must(t, "usermod -aG sudo arvid")
	see("an administrator", true, true)
	apply(t, h, "accounts.local_administrators", setting.ListValue([]string{"tove"}))
	see("no administrator any more", true, false)
	withdraw(t, h, "accounts.local_administrators", "signin.allowed")
	see("withdrawn", true, true)

	apply(t, h, "accounts.lockout_failures", setting.IntegerValue(2))
	apply(t, h, "accounts.lockout_minutes", setting.IntegerValue(10))
	for range 2 {
		if signsIn("tove", "wrong") {
			t.Error("signed in with a wrong password")
		}
	}
	see("locked", false, true)
	must(t, "faillock --user tove --reset")
	see("reset", true, true)
	withdraw(t, h, "accounts.lockout_minutes", "accounts.lockout_failures")

	for _, n := range []int64{7, 3} {
		apply(t, h, "accounts.password_history", setting.IntegerValue(n))
	}
	change := func(to string) bool {
		ok, _ := say(`printf 'tove:%s\n' "$1" | chpasswd`, to)
		return ok
	}
	if !change("second one") || !change("third one") {
		t.Error("a new password is refused")
	}
	if change("second one") {
		t.Error("an earlier password is not refused")
	}
	withdraw(t, h, "accounts.password_history")
	if after := must(t, "cat /etc/pam.d/common-* | sha256sum"); after != before {
		t.Errorf("the files of PAM differ from before:\n%s", must(t, "cat /etc/pam.d/common-*"))
	}
}

// TestAdministratorsOnARealRoot asks sudo who may do what.
func TestAdministratorsOnARealRoot(t *testing.T) {
	t.Parallel()
	if inCopy(t, "sudo", "visudo") {
		return
	}
	h := realHost(t)
	must(t, "useradd -m tove; useradd -m arvid; groupadd charts; usermod -aG charts arvid; useradd -m ines; usermod -aG sudo ines")
	before := must(t, "cat /etc/group /etc/gshadow; ls -l /etc/group /etc/gshadow | cut -c1-30; ls /etc/sudoers.d")
	may := func(who string) (root, asked bool) {
		_, said := say(`sudo -l -U "$1"`, who)
		root = strings.Contains(said, ") ALL") || strings.Contains(said, "NOPASSWD: ALL")
		return root, !strings.Contains(said, "NOPASSWD: ALL")
	}
	see := func(what string, wanted ...string) {
		t.Helper()
		must(t, "visudo -c -q")
		for _, who := range []string{"arvid", "ines", "tove"} {
			if root, _ := may(who); root != slices.Contains(wanted, who) {
				t.Errorf("%s: %s is an administrator: %t", what, who, root)
			}
		}
	}
	see("before", "ines")
	apply(t, h, "accounts.local_administrators", setting.ListValue([]string{"tove"}))
	see("tove alone", "tove")
	apply(t, h, "accounts.local_administrators", setting.ListValue([]string{"charts", "ines"}))
	see("a group and ines", "arvid", "ines")
	must(t, "usermod -aG sudo tove")
	if v, err := owner(h, "accounts.local_administrators").Read("accounts.local_administrators"); err != nil || !v.IsNothing() {
		t.Errorf("with one more it reads %s, %v", v, err)
	}
	apply(t, h, "accounts.local_administrators", setting.ListValue([]string{"charts", "ines"}))
	apply(t, h, "accounts.elevation", setting.TextValue("silent"))
	if _, asked := may("ines"); asked {
		t.Error("administrators are asked for their password")
	}
	apply(t, h, "accounts.elevation", setting.TextValue("password"))
	if _, asked := may("ines"); !asked {
		t.Error("administrators are not asked for their password")
	}
	withdraw(t, h, "accounts.elevation", "accounts.local_administrators")
	see("withdrawn", "ines")
	if after := must(t, "cat /etc/group /etc/gshadow; ls -l /etc/group /etc/gshadow | cut -c1-30; ls /etc/sudoers.d"); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
}

// TestProgramsOnARealRoot runs fapolicyd with a rule set, and starts programs as somebody.
func TestProgramsOnARealRoot(t *testing.T) {
	t.Parallel()
	if inCopy(t, "fapolicyd", "fagenrules") {
		return
	}
	h := realHost(t)
	// Here the root is an overlay, which it does not watch by itself, and there is no package to trust.
	must(t, `sed -i 's/^watch_fs = /watch_fs = overlay,/; s/^trust = .*/trust = file/; s/^[ug]id = .*//' /etc/fapolicyd/fapolicyd.conf
		mkdir -p /run/fapolicyd /opt/new; chown -R root /var/lib/fapolicyd; cp /bin/echo /opt/new/echo; cp /bin/echo /usr/bin/bc`)
	before := must(t, "cat /etc/fapolicyd/fapolicyd.conf; find /etc/fapolicyd -type f | sort")
	starts := func(program string) bool {
		ok, _ := say(`setpriv --reuid 65534 --regid 65534 --clear-groups "$1" hello`, program)
		return ok
	}
	see := func(what string, allowed, named, other bool) {
		t.Helper()
		for program, wanted := range map[string]bool{"/usr/bin/echo": allowed, "/usr/bin/bc": named, "/opt/new/echo": other} {
			if is := starts(program); is != wanted {
				t.Errorf("%s: %s starts: %t; expected %t", what, program, is, wanted)
			}
		}
		if ok, _ := say("/usr/bin/bc hello && /opt/new/echo hello"); !ok {
			t.Errorf("%s: root cannot start a program", what)
		}
	}
	see("before", true, true, true)
	own := owner(h, "applications.control")
	if err := own.Apply("applications.control_rules", fileOf(texts[2])); err != nil {
		t.Fatal(err)
	}
	if err := own.Apply("applications.control", setting.TextValue("enforce")); err != nil {
		t.Fatal(err)
	}
	if v, err := own.Read("applications.control"); err != nil || !v.IsNothing() {
		t.Errorf("while fapolicyd does not run it reads %s, %v", v, err)
	}
	daemon := func() (stop func()) { // systemd does not run here
		c := exec.Command("fapolicyd", "--debug")
		out, err := os.Create("/tmp/t/log")
		if err != nil {
			t.Fatal(err)
		}
		c.Stdout, c.Stderr = out, out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		deadline := time.Now().Add(3 * time.Minute)
		for {
			log, err := os.ReadFile("/tmp/t/log")
			if err == nil && strings.Contains(string(log), "Starting to listen for events") {
				break
			}
			if strings.Contains(string(log), "initializing fanotify") {
				t.Skipf("the kernel asks nobody whether a program may start: %s", log)
			}
			if time.Now().After(deadline) {
				t.Fatalf("fapolicyd does not run: %s", log)
			}
		}
		return func() {
			if err := c.Process.Signal(os.Interrupt); err != nil {
				t.Error(err)
			}
			_ = c.Wait()
			_ = out.Close()
		}
	}
	stop := daemon()
	see("enforced", true, false, false)
	if v, err := own.Read("applications.control"); err != nil || v.Text() != "enforce" {
		t.Errorf("it reads %s, %v", v, err)
	}
	stop()
	if err := own.Apply("applications.control", setting.TextValue("audit")); err != nil {
		t.Fatal(err)
	}
	stop = daemon()
	see("only recorded", true, true, true)
	if log, err := os.ReadFile("/tmp/t/log"); err != nil || !strings.Contains(string(log), "path=/usr/bin/bc") {
		t.Errorf("what would be stopped is not recorded: %v", err)
	}
	stop()
	withdraw(t, h, own.Settings()...)
	if after := must(t, "cat /etc/fapolicyd/fapolicyd.conf; find /etc/fapolicyd -type f | sort"); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
}

// TestNeverTrustedOnARealRoot refuses a certificate that came with the system.
func TestNeverTrustedOnARealRoot(t *testing.T) {
	t.Parallel()
	if inCopy(t, "update-ca-certificates") {
		return
	}
	h := realHost(t)
	chosen := strings.Fields(must(t, "grep -v '^[#!]' /etc/ca-certificates.conf"))
	data, err := os.ReadFile("/usr/share/ca-certificates/" + chosen[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := adapter.WriteFile(filepath.Join(h.Files, sumOf(data)), data, 0o600); err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(data)
	if _, err := x509.ParseCertificate(block.Bytes); err != nil {
		t.Fatal(err)
	}
	trusted := func() bool {
		ok, _ := say("openssl verify -CAfile /etc/ssl/certs/ca-certificates.crt /usr/share/ca-certificates/" + chosen[0])
		return ok
	}
	must(t, "update-ca-certificates --fresh")
	if !trusted() {
		t.Fatal("it is not trusted before")
	}
	apply(t, h, "trust.never", trusts(sumOf(data)))
	if trusted() {
		t.Error("it is trusted")
	}
	apply(t, h, "trust.machine_roots", trusts(sumOf(data))) // a policy trusts it: what is never trusted counts more
	if trusted() {
		t.Error("it is trusted as a certificate of ours")
	}
	must(t, fmt.Sprintf("cp /usr/share/ca-certificates/%s /usr/local/share/ca-certificates/by-hand.crt; update-ca-certificates", chosen[0]))
	if v, err := owner(h, "trust.never").Read("trust.never"); err != nil || !v.IsNothing() {
		t.Errorf("trusted by hand, it reads %s, %v", v, err)
	}
	must(t, "rm /usr/local/share/ca-certificates/by-hand.crt")
	withdraw(t, h, "trust.never", "trust.machine_roots")
	if !trusted() {
		t.Error("it is not trusted after")
	}
}

// serve answers on an address until the test ends.
func serve(t *testing.T, address string) {
	t.Helper()
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "hello") })}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
}
