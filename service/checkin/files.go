// This file hands files to laptops.

package checkin

import (
	"context"
	"crypto/subtle"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
)

// File gives a file's bytes to a laptop whose settings name it, and to no other. The error is
// ErrRefused when the secret is wrong.
func (d *Server) File(ctx context.Context, device, secret, sha256 string) ([]byte, error) {
	laptop, ok := d.enrolled(ctx, device)
	if !ok || subtle.ConstantTimeCompare([]byte(laptop.credential), []byte(syncml.UserDigest(device, secret))) != 1 {
		return nil, ErrRefused
	}
	return d.flow.FileOfLaptop(ctx, estate.DeviceID(device), sha256)
}
