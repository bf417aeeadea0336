// This file hands files to laptops.

package checkin

import (
	"crypto/subtle"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/workflow"
)

// File gives a file's bytes to a laptop whose settings name it, and to no other. The error is ErrRefused when the secret is wrong.
func (d *Server) File(device, secret, sha256 string) ([]byte, error) {
	laptop, err := d.store.Laptop(device)
	if err != nil || laptop.Credential == "" ||
		subtle.ConstantTimeCompare([]byte(laptop.Credential), []byte(syncml.UserDigest(device, secret))) != 1 {
		return nil, ErrRefused
	}
	if !d.flow.NeedsFile(estate.DeviceID(device), sha256) {
		return nil, &workflow.NotFoundError{Kind: "file that this laptop needs", ID: sha256}
	}
	return d.flow.FileData(sha256)
}
