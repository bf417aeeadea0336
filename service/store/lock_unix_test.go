//go:build unix

package store_test

import (
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"zenithridge.example/zridge/service/store"
)

// TestTheLockEndsWhileProgramsStart: one that is being started has a copy of what is open until its own code
// begins, and must not keep the lock.
func TestTheLockEndsWhileProgramsStart(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "z.db")
	stop := make(chan struct{})
	var starting sync.WaitGroup
	for range 4 {
		starting.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					if err := exec.Command("true").Run(); err != nil {
						t.Error(err)
						return
					}
				}
			}
		})
	}
	for n := range 2000 {
		unlock, err := store.Lock(path)
		if err != nil {
			t.Errorf("the lock was taken and given back %d times, then: %v", n, err)
			break
		}
		if _, err := store.Lock(path); err == nil {
			t.Error("two have the lock")
			break
		}
		if err := unlock(); err != nil {
			t.Error(err)
			break
		}
	}
	close(stop)
	starting.Wait()
}
