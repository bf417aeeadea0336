//go:build !linux

package command

import (
	"errors"
	"net"
)

func listenInNetworkOf(int, string) (net.Listener, error) {
	return nil, errors.New("a copy of a machine's root needs linux")
}
