//go:build !unix

package store

import "os"

// Lock keeps other services from the database until it is closed, by a file that none but one can
// make.
func Lock(path string) (unlock func() error, err error) {
	file, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	return func() error {
		file.Close()
		return os.Remove(path + ".lock")
	}, nil
}

// CheckModes does nothing: this system has no modes.
func CheckModes(string) error { return nil }
