// This file runs a real laptop beside the simulated ones of the demo: the agent in a copy of this machine's root, with
// a network of its own in which nothing is but the service.

package command

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// realLaptop is the agent in a copy of this machine's root.
type realLaptop struct {
	device    string
	root      *exec.Cmd      // keeps the copy; nil: there is none
	folder    string         // where the copy is
	listeners []net.Listener // of the service, in the laptop's network
	stops     []func()       // in the order in which they are called
}

// noLaptop is what there is where a machine allows no copy of its root.
var noLaptop = &realLaptop{}

const (
	realDevice     = "LT-0072" // of the demo estate, with Debian
	serviceAddress = "127.0.0.1:8470"
)

// makeRoot makes a copy of this machine's root, with the agent in it, and keeps it until its standard input ends. What
// is written in it is kept in memory. Fields of its own for what tells machines apart.
const makeRoot = `set -eu
mount --make-rprivate /
mount -t tmpfs -o size=512m none "$FOLDER"
mkdir "$FOLDER/upper" "$FOLDER/work" "$FOLDER/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$FOLDER/upper,workdir=$FOLDER/work" "$FOLDER/root"
cd "$FOLDER/root"
mount -t proc proc proc
mount --rbind /dev dev
mount -t tmpfs none run
mount -t tmpfs none tmp
chmod 1777 tmp
cp "$AGENT" usr/bin/zridge-agent
echo "$DEVICE" | tr A-Z a-z > etc/hostname
echo ready
read -r stop || true
`

// startRealLaptop makes the copy and its network. The error says why the machine does not allow it.
func startRealLaptop(ctx context.Context, folder string) (*realLaptop, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, err
	}
	agent := filepath.Join(filepath.Dir(own), "zridge-agent")
	if _, err := os.Stat(agent); err != nil {
		return nil, fmt.Errorf("%s is missing; make build makes it", agent)
	}
	if os.Geteuid() != 0 {
		return nil, errors.New("a copy of this machine's root needs root's rights")
	}
	at, err := filepath.Abs(filepath.Join(folder, realDevice))
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(at, 0o700); err != nil {
		return nil, err
	}
	l := &realLaptop{device: realDevice, folder: at}
	c := exec.CommandContext(ctx, "unshare", "-m", "-n", "-p", "-u", "-f", "--kill-child", "sh", "-c", makeRoot)
	c.Env = append(os.Environ(), "FOLDER="+at, "AGENT="+agent, "DEVICE="+realDevice)
	var said strings.Builder
	c.Stderr = &said
	lasts, err := c.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.Start(); err != nil {
		return nil, err
	}
	l.root = c
	l.stops = append(l.stops, func() { _ = lasts.Close(); _ = c.Wait() })
	ready := make([]byte, 6)
	if n, _ := out.Read(ready); n == 0 {
		l.stop()
		return nil, fmt.Errorf("this machine allows no copy of its root: %s", strings.TrimSpace(said.String()))
	}
	listener, err := listenInNetworkOf(c.Process.Pid, serviceAddress)
	if err != nil {
		l.stop()
		return nil, fmt.Errorf("the laptop gets no network: %w", err)
	}
	l.listeners = []net.Listener{listener}
	return l, nil
}

// inside gives a command that runs in the copy.
func (l *realLaptop) inside(ctx context.Context, name string, arguments ...string) *exec.Cmd {
	enter := append([]string{"-t", fmt.Sprint(l.inner()), "-m", "-n", "-p", "-u", "chroot", filepath.Join(l.folder, "root"), name},
		arguments...)
	return exec.CommandContext(ctx, "nsenter", enter...)
}

// inner is the process that keeps the copy: the child of the one that made its namespaces.
func (l *realLaptop) inner() int {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", l.root.Process.Pid, l.root.Process.Pid))
	inner := 0
	if _, scanned := fmt.Sscan(string(data), &inner); err != nil || scanned != nil {
		return l.root.Process.Pid
	}
	return inner
}

// enrol takes the laptop in, in place of the simulated one, and lets its agent run. It gives the laptops that are left to
// simulate.
func (l *realLaptop) enrol(ctx context.Context, api *client.Client, ids []endpoint.Identity,
	certificate string) ([]endpoint.Identity, error) {
	at := slices.IndexFunc(ids, func(id endpoint.Identity) bool { return id.Device == l.device })
	if at < 0 {
		return ids, fmt.Errorf("the estate has no laptop %s", l.device)
	}
	made, err := client.Post[wire.Invitation](ctx, api, "/invitations", wire.NewInvitation{Device: l.device, Days: 1})
	if err != nil {
		return ids, err
	}
	data, err := os.ReadFile(certificate)
	if err != nil {
		return ids, err
	}
	put := l.inside(ctx, "sh", "-c", "mkdir -p /etc/zridge-agent && cat > /etc/zridge-agent/service.pem")
	put.Stdin = strings.NewReader(string(data))
	if out, err := put.CombinedOutput(); err != nil {
		return ids, fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	base := (&url.URL{Scheme: "https", Host: serviceAddress}).String()
	enrols := l.inside(ctx, "zridge-agent", "enrol", base, "--code", made.Codes[0], "--device", l.device, "--ca",
		"/etc/zridge-agent/service.pem")
	if out, err := enrols.CombinedOutput(); err != nil {
		return ids, fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	// A volume that policies want encrypted; without cryptsetup on this machine the laptop has none.
	disk := l.inside(ctx, "sh", "-c", "command -v cryptsetup >/dev/null || exit 0; truncate -s 48M /srv/soundings.img && "+
		"zridge-agent encrypt /srv/soundings.img --name soundings")
	if out, err := disk.CombinedOutput(); err != nil {
		return ids, fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	log, err := os.OpenFile(filepath.Join(filepath.Dir(l.folder), "agent.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return ids, err
	}
	run := l.inside(ctx, "zridge-agent", "run", "--interval", "30s")
	run.Stdout, run.Stderr = log, log
	if err := run.Start(); err != nil {
		return ids, errors.Join(err, log.Close())
	}
	l.stops = slices.Insert(l.stops, 0, func() { _ = run.Process.Signal(os.Interrupt); _ = run.Wait(); _ = log.Close() })
	return slices.Delete(slices.Clone(ids), at, at+1), nil
}

// stop ends the laptop; what was written in its copy is gone.
func (l *realLaptop) stop() {
	for _, stop := range l.stops {
		stop()
	}
	l.stops = nil
}

// line says how to look into the laptop, or why there is none.
func (l *realLaptop) line(why string) string {
	switch {
	case why != "":
		return "  Laptop    no real one: " + why + "\n"
	case l == noLaptop:
		return ""
	}
	return fmt.Sprintf("  Laptop    %s is real: this machine's Debian in a namespace. Look into it with\n"+
		"            sudo nsenter -t %d -m -n -p -u chroot %s zridge-agent show\n",
		l.device, l.inner(), filepath.Join(l.folder, "root"))
}
