//go:build unix

package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// Lock keeps other services from the database until it is closed: two on one file would each
// publish what the other does not know. The file beside the database holds the lock; it ends with
// the process, whatever ends it.
func Lock(path string) (unlock func() error, err error) {
	file, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the database %s: %w", path, err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("another service runs on the database %s; stop it first", path)
		}
		return nil, fmt.Errorf("locking the database %s: %w", path, err)
	}
	return func() error {
		// Closing is not enough: a program that is being started has a copy of the descriptor until its own
		// code begins, and the lock would last as long.
		return errors.Join(syscall.Flock(int(file.Fd()), syscall.LOCK_UN), file.Close())
	}, nil
}

// CheckModes refuses a database that other accounts of the machine can read, and a folder in which
// they can replace it. A new database is made readable by its owner alone when it is opened.
func CheckModes(path string) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return err
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return fmt.Errorf("the database %s can be read by others (mode %#o); run: chmod 600 %s", path, mode, path)
	}
	folder := filepath.Dir(path)
	if info, err = os.Stat(folder); err != nil {
		return err
	}
	if mode := info.Mode(); mode.Perm()&0o022 != 0 && mode&os.ModeSticky == 0 {
		return fmt.Errorf("the folder %s of the database can be written by others (mode %#o); run: "+
			"chmod 700 %s", folder, mode.Perm(), folder)
	}
	return nil
}
