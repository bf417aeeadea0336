// This file breaks connections and processes while volumes are encrypted.

package service_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"zenithridge.example/zridge/formats/wire"
)

// rounds is how often connections are cut and the agent is killed; ZRIDGE_CUTS says more.
func rounds() int {
	n := 8
	if text := os.Getenv("ZRIDGE_CUTS"); text != "" {
		fmt.Sscan(text, &n)
	}
	return n
}

// cutter lets connections to a service through, until so many bytes have gone one way or the other.
type cutter struct {
	listener net.Listener
	mu       sync.Mutex
	left     int64 // bytes until all connections are cut
	open     []net.Conn
}

func cutting(t *testing.T, to string) *cutter {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c := &cutter{listener: l, left: 1 << 62}
	t.Cleanup(func() { l.Close(); c.cut() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			c.mu.Lock()
			c.open = append(c.open, in, out)
			c.mu.Unlock()
			go c.pass(in, out)
			go c.pass(out, in)
		}
	}()
	return c
}

func (c *cutter) pass(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	data := make([]byte, 256)
	for {
		n, err := from.Read(data)
		c.mu.Lock()
		c.left -= int64(n)
		over := c.left < 0
		c.mu.Unlock()
		if over {
			c.cut()
			return
		}
		if _, failed := to.Write(data[:n]); failed != nil || err != nil {
			return
		}
	}
}

func (c *cutter) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, each := range c.open {
		each.Close()
	}
	c.open = nil
}

func (c *cutter) after(bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.left = bytes
}

// passed gives how many bytes went through since after was called with many.
func (c *cutter) passed(many int64) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return many - c.left
}

// next makes a round's work for the laptop: the first key of a new disk, or another key in the place of one.
func (v *vault) next(t *testing.T, n int) {
	t.Helper()
	if n%4 == 0 {
		v.blank(t)
		return
	}
	posted[wire.RenewalsAsked](t, v.clerk, "/devices/L0/recovery-keys/renewal", wire.KeyRenewal{})
}

// TestConnectionsThatBreak cuts connections after random numbers of bytes: there is never a volume that no stored key
// opens, and the next check-in finishes what was begun.
func TestConnectionsThatBreak(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	at, err := url.Parse(v.Base)
	if err != nil {
		t.Fatal(err)
	}
	c := cutting(t, at.Host)
	direct := v.Base
	v.Base = "https://localhost:" + fmt.Sprint(c.listener.Addr().(*net.TCPAddr).Port)
	v.enrol(t)
	v.Base = direct
	if err := v.agent.Encryption.Name(v.volume, "soundings"); err != nil {
		t.Fatal(err)
	}
	v.demands(t, nil)
	const many = 1 << 40
	c.after(many)
	v.checkIn(t)
	whole := c.passed(many)
	v.settled(t)
	r, broken := rand.New(rand.NewPCG(3, 3)), 0
	for n := range rounds() {
		v.next(t, n)
		c.after(r.Int64N(whole))
		if _, err := v.agent.CheckIn(t.Context(), false); err != nil {
			broken++
		}
		if _, ok := v.opened(t); !ok {
			t.Fatalf("round %d: no stored key opens the volume", n)
		}
		c.after(many)
		v.checkIn(t)
		v.checkIn(t) // what was told last may have been lost
		if _, ok := v.opened(t); !ok {
			t.Fatalf("round %d, after the next check-in: no stored key opens the volume", n)
		}
		v.settled(t)
	}
	if broken == 0 {
		t.Error("no check-in broke: the test shows nothing")
	}
	t.Logf("%d of %d check-ins broke", broken, rounds())
}

// TestTheAgentIsKilledWhileItEncrypts kills the agent, with the programs that it runs, at random moments.
func TestTheAgentIsKilledWhileItEncrypts(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	program := filepath.Join(t.TempDir(), "zridge-agent")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/zridge-agent").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	begin := func(arguments ...string) (*exec.Cmd, *strings.Builder) {
		c := exec.Command(program, append([]string{"--root", v.agent.Host.Root, "--state", string(v.agent.Folder)}, arguments...)...)
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		said := &strings.Builder{}
		c.Stdout, c.Stderr = said, said
		c.WaitDelay = time.Second
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		return c, said
	}
	must := func(arguments ...string) {
		t.Helper()
		if c, said := begin(arguments...); c.Wait() != nil {
			t.Fatalf("%v: %s", arguments, said)
		}
	}
	must("enrol", v.Base, "--code", v.invites(t, wire.NewInvitation{Device: "L0"})[0], "--ca", filepath.Join(v.folder, "server.pem"))
	must("encrypt", v.volume, "--name", "soundings")
	v.demands(t, nil)
	began := time.Now()
	must("check-in")
	whole := time.Since(began)
	v.settled(t)
	r, killed := rand.New(rand.NewPCG(5, 5)), 0
	for n := range rounds() {
		v.next(t, n)
		c, _ := begin("check-in")
		timer := time.AfterFunc(time.Duration(r.Int64N(int64(whole))), func() { syscall.Kill(-c.Process.Pid, syscall.SIGKILL) })
		if c.Wait() != nil {
			killed++
		}
		timer.Stop()
		if _, ok := v.opened(t); !ok {
			t.Fatalf("round %d: no stored key opens the volume", n)
		}
		must("check-in")
		must("check-in")
		v.settled(t)
	}
	if killed == 0 {
		t.Error("no check-in was killed: the test shows nothing")
	}
	t.Logf("%d of %d check-ins were killed", killed, rounds())
}
