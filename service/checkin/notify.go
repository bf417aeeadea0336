// This file tells laptops to check in: each may hold a connection over which it is sent the notification
// message of the standard. Nothing is lost where none is held: a laptop checks in at its interval anyway.

package checkin

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/workflow"
)

// serverID names the service in notifications.
const serverID = "zridge"

// tellEach is the pause between two laptops that are told by themselves, because a wave opened: they do
// not all check in at once.
const tellEach = 20 * time.Millisecond

// Listener is a connection that a laptop holds.
type Listener struct {
	Nonce    []byte      // with which the digests of its notifications are made
	Messages chan []byte // notifications; closed when another connection of the laptop takes its place

	credential string
}

// Listen takes a connection of a laptop for notifications, in the place of an earlier one. from is the address
// of who asks. stop ends it. The error is ErrRefused when the proof is wrong.
func (d *Server) Listen(ctx context.Context, p Proof, from string) (l *Listener, stop func(), err error) {
	device := p.Device
	credential, ok := d.proven(ctx, p)
	if !ok {
		d.flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "device"}, "connection for notifications refused", from)
		return nil, nil, ErrRefused
	}
	l = &Listener{Nonce: make([]byte, 16), Messages: make(chan []byte, 1), credential: credential}
	rand.Read(l.Nonce)
	d.mu.Lock()
	defer d.mu.Unlock()
	if before := d.listeners[device]; before != nil {
		close(before.Messages)
	}
	d.listeners[device] = l
	return l, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.listeners[device] == l {
			delete(d.listeners, device)
			close(l.Messages)
		}
	}, nil
}

// Tell tells a laptop to check in. told is false where it holds no connection.
func (d *Server) Tell(device string, byServer bool) (told bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	l := d.listeners[device]
	if l == nil {
		return false
	}
	var id [2]byte
	rand.Read(id[:])
	message, err := syncml.EncodeNotification(
		syncml.Notification{SessionID: binary.BigEndian.Uint16(id[:]), Server: serverID, ByServer: byServer}, l.credential, l.Nonce,
	)
	if err != nil {
		d.log.Error("writing a notification", "error", err)
		return false
	}
	select {
	case l.Messages <- message:
	default: // one waits to be sent already
	}
	return true
}

// CheckInNow has a laptop told to check in. told is false where it holds no connection: it checks in as
// usual.
func (d *Server) CheckInNow(ctx context.Context, by workflow.Actor, device string) (told bool, err error) {
	if err := d.flow.MayTouch(ctx, by, access.Devices, device); err != nil {
		return false, err
	}
	told = d.Tell(device, false)
	return told, d.flow.Record(ctx, by, "check in now", device)
}

// TellDue tells laptops for which a wave opened to check in, one after the other.
func (d *Server) TellDue(ctx context.Context, devices []string) {
	tick := time.NewTicker(tellEach)
	defer tick.Stop()
	for _, device := range devices {
		if d.Tell(device, true) {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	}
}

// Listens tells whether a laptop holds a connection.
func (d *Server) Listens(device estate.DeviceID) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.listeners[string(device)] != nil
}
