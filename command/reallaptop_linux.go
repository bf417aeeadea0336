package command

import (
	"fmt"
	"net"
	"os"
	"runtime"

	"golang.org/x/sys/unix"
)

// listenInNetworkOf listens in the network namespace of a process, whose loopback it brings up.
func listenInNetworkOf(pid int, address string) (net.Listener, error) {
	type outcome struct {
		listener net.Listener
		err      error
	}
	done := make(chan outcome)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine, and with it its namespace
		listener, err := listenIn(fmt.Sprintf("/proc/%d/ns/net", pid), address)
		done <- outcome{listener, err}
	}()
	is := <-done
	return is.listener, is.err
}

func listenIn(namespace, address string) (net.Listener, error) {
	f, err := os.Open(namespace)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := unix.Setns(int(f.Fd()), unix.CLONE_NEWNET); err != nil {
		return nil, fmt.Errorf("entering the network: %w", err)
	}
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(socket)
	loopback, err := unix.NewIfreq("lo")
	if err != nil {
		return nil, err
	}
	loopback.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	if err := unix.IoctlIfreq(socket, unix.SIOCSIFFLAGS, loopback); err != nil {
		return nil, fmt.Errorf("bringing loopback up: %w", err)
	}
	return net.Listen("tcp", address)
}
