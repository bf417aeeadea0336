// Package e2e is the real thing on loopback: the service as a process, the command line as a
// process, simulated laptops over the network, and the console in headless Chromium.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/demo"
	"zenithridge.example/zridge/formats/wire"
)

var pictures = flag.String("pictures", "", "write pictures of the console into this `FOLDER`")

// binary is the program under test, built once.
var binary string

func TestMain(m *testing.M) {
	flag.Parse()
	dir, err := os.MkdirTemp("", "zridge-e2e")
	if err == nil {
		binary = filepath.Join(dir, "zridge")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", binary, "../cmd/zridge").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	if err == nil { // the agent beside it, for the demo's real laptop
		build := exec.Command("go", "build", "-o", filepath.Join(dir, "zridge-agent"), "../cmd/zridge-agent")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, failed := build.CombinedOutput(); failed != nil {
			err = fmt.Errorf("%w: %s", failed, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		os.Exit(1)
	}
	status := m.Run()
	closeBrowser()
	os.RemoveAll(dir)
	os.Exit(status)
}

const (
	adminName     = "ines.okafor"
	adminPassword = "a password of the tests"
)

// running is a service as a process.
type running struct {
	t        testing.TB
	cmd      *exec.Cmd
	address  string
	code     string // of the first administrator; empty when there is one
	database string
	log      *bytes.Buffer
	config   string   // of the command line
	said     []string // lines, until it was ready
}

// serve starts a service over a database file, which may be new.
func serve(t testing.TB, database string, options ...string) *running {
	t.Helper()
	r := started(t, "Ready", append([]string{"serve", "--listen", "127.0.0.1:0", "--database", database, "--date", demo.Day}, options...)...)
	r.database = database
	return r
}

// started starts a command that runs a service, and waits for the line that says that it answers.
func started(t testing.TB, ready string, args ...string) *running {
	t.Helper()
	r := &running{t: t, log: &bytes.Buffer{}, config: filepath.Join(t.TempDir(), "sign-in.json")}
	r.cmd = exec.Command(binary, args...)
	r.cmd.Stderr = r.log
	out, err := r.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.kill)
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		r.said = append(r.said, line)
		for _, before := range []string{"answers at ", "Console   "} {
			if _, address, ok := strings.Cut(line, before); ok {
				r.address = address
			}
		}
		if _, code, ok := strings.Cut(line, "good for a day: "); ok {
			r.code = code
		}
		if strings.HasPrefix(line, ready) {
			break
		}
	}
	if r.address == "" {
		t.Fatalf("the service did not start: %s", r.log)
	}
	go io.Copy(io.Discard, out)
	return r
}

// kill ends the process at once, as a power cut of it would.
func (r *running) kill() {
	if r.cmd.ProcessState == nil {
		r.cmd.Process.Signal(syscall.SIGKILL)
		r.cmd.Wait()
	}
}

// stop ends the process as Ctrl-C does.
func (r *running) stop() {
	r.t.Helper()
	r.cmd.Process.Signal(os.Interrupt)
	if err := r.cmd.Wait(); err != nil {
		r.t.Errorf("the service did not stop cleanly: %v\n%s", err, r.log)
	}
}

// admin makes the first administrator and gives a client signed in as such.
func (r *running) admin() *client.Client {
	r.t.Helper()
	api := &client.Client{Base: r.address}
	ctx := context.Background()
	if r.code != "" {
		if _, err := api.Call(
			ctx,
			http.MethodPost,
			"/setup",
			nil,
			wire.SetUp{Code: r.code, Name: adminName, Password: adminPassword},
			nil,
		); err != nil {
			r.t.Fatal(err)
		}
		r.code = ""
	}
	token, err := api.SignIn(ctx, adminName, adminPassword, "tests", 1)
	if err != nil {
		r.t.Fatal(err)
	}
	api.Token = token.Secret
	return api
}

// run runs the command line, signed in where that was done before, and gives its output and status.
func (r *running) run(input string, args ...string) (out, errOut string, status int) {
	r.t.Helper()
	return runWith(r.t, []string{"ZRIDGE_CONFIG=" + r.config}, input, args...)
}

func runWith(t testing.TB, env []string, input string, args ...string) (out, errOut string, status int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append(append(os.Environ(), "COLUMNS=400"), env...) // wide, so that no cell goes on in a further line
	cmd.Stdin = strings.NewReader(input)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// must runs the command line and expects status 0.
func (r *running) must(args ...string) string {
	r.t.Helper()
	out, errOut, status := r.run("", args...)
	if status != 0 {
		r.t.Fatalf("zridge %s: status %d\n%s%s", strings.Join(args, " "), status, out, errOut)
	}
	return out
}

// signIn signs the command line in.
func (r *running) signIn() {
	r.t.Helper()
	if _, errOut, status := r.run(adminPassword+"\n", "sign-in", r.address, "--name", adminName); status != 0 {
		r.t.Fatalf("sign-in: status %d: %s", status, errOut)
	}
}

// published has the files of a service that has published the demo estate, made once for the whole
// run. nil: not yet.
var published struct {
	sync.Mutex
	files map[string][]byte
}

// withDemo gives a service with the demo estate published, over a database of its own, with the
// command line signed in.
func withDemo(t testing.TB, options ...string) (*running, *client.Client) {
	t.Helper()
	folder := t.TempDir()
	for name, data := range publishedDemo(t) {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	r := serve(t, filepath.Join(folder, "zridge.db"), options...)
	api := r.admin()
	signedIn, err := json.Marshal(map[string]string{"service": r.address, "token": api.Token, "name": adminName})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(r.config, signedIn, 0o600); err != nil {
		t.Fatal(err)
	}
	return r, api
}

// publishedDemo gives the files of a service on which the demo estate is published, by name. It is
// published once for all tests.
func publishedDemo(t testing.TB) map[string][]byte {
	t.Helper()
	published.Lock()
	defer published.Unlock()
	if published.files == nil {
		published.files = publishDemo(t)
	}
	return published.files
}

// publishDemo publishes the demo estate on a new service, and gives the service's database with the
// keys that sign its audit log.
func publishDemo(t testing.TB) map[string][]byte {
	t.Helper()
	r := serve(t, filepath.Join(t.TempDir(), "zridge.db"))
	r.admin()
	r.signIn()
	r.must("import", "--publish", "--title", "The estate as it was found", "../demo/estate")
	r.stop()
	if _, err := os.Stat(r.database + "-wal"); err == nil {
		t.Fatal("the service stopped and left a write-ahead log")
	}
	files := map[string][]byte{}
	for _, name := range []string{"zridge.db", "audit.key", "audit.pub"} {
		data, err := os.ReadFile(filepath.Join(filepath.Dir(r.database), name))
		if err != nil {
			t.Fatal(err)
		}
		files[name] = data
	}
	return files
}

// patience bounds every wait. It is many times what a wait takes on a quiet machine, so that a busy
// one passes, too.
const patience = 3 * time.Minute

// await asks until what is asked holds.
func await(t testing.TB, what string, holds func() bool) {
	t.Helper()
	limit := time.After(patience)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for !holds() {
		select {
		case <-limit:
			t.Fatalf("waited in vain until %s", what)
		case <-tick.C:
		}
	}
}
