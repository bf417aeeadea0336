// This file hands files to laptops.

package checkin

import (
	"context"
	"crypto/subtle"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
)

// Proof is by what a laptop shows who it is, outside of sessions.
type Proof struct {
	Device    string
	Secret    string
	Certified bool // its connection has a certificate for the device; there is no secret
}

// proven gives with what a laptop's notifications are signed; ok is false where the proof is wrong, or the
// laptop has left the estate.
func (d *Server) proven(ctx context.Context, p Proof) (credential string, ok bool) {
	if p.Certified {
		return syncml.UserDigest(p.Device, ""), d.flow.Live().Plan.Device(estate.DeviceID(p.Device)) != nil
	}
	laptop, ok := d.enrolled(ctx, p.Device)
	is := syncml.UserDigest(p.Device, p.Secret)
	return laptop.credential, ok && subtle.ConstantTimeCompare([]byte(laptop.credential), []byte(is)) == 1
}

// File gives a file's bytes to a laptop whose settings name it, and to no other. The error is
// ErrRefused when the proof is wrong.
func (d *Server) File(ctx context.Context, p Proof, sha256 string) ([]byte, error) {
	if _, ok := d.proven(ctx, p); !ok {
		return nil, ErrRefused
	}
	return d.flow.FileOfLaptop(ctx, estate.DeviceID(p.Device), sha256)
}
