// This file keeps what is known of a laptop's volumes, and lets somebody at the laptop say what only they can say.

package agent

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
)

// Encryption encrypts the volumes of a laptop. It is safe for concurrent use.
type Encryption struct {
	Folder Folder
	Tool   *volume.Tool
	Log    *slog.Logger
	// Discovers gives the volumes that the system has besides those that were named; nil: none.
	Discovers func() ([]Found, error)

	mu   sync.Mutex      // held while the state is read, altered and written
	busy map[string]bool // volumes that are being encrypted in place, by UUID
	jobs sync.WaitGroup
}

// Found is a volume of the system.
type Found struct {
	Path    string
	Name    string // as people know it
	Kind    recovery.VolumeKind
	Mounted bool // as it is, without encryption
}

// encryptionState is what is known of volumes. It is kept in a file, for root alone: it has keys in it while they are made.
type encryptionState struct {
	Wants   map[setting.ID]setting.Value `json:"wants,omitempty"` // the settings that say how volumes are encrypted
	Volumes []*managedVolume             `json:"volumes,omitempty"`
	Told    string                       `json:"told,omitempty"` // how volumes were when the service was told last
}

// managedVolume is a volume that is encrypted, or is to be.
type managedVolume struct {
	Path    string              `json:"path"`
	Name    string              `json:"name"`
	Kind    recovery.VolumeKind `json:"kind"`
	UUID    string              `json:"uuid"`              // of its header, which it may not have yet
	Named   bool                `json:"named,omitempty"`   // somebody at the laptop said that it is to be encrypted
	Formats bool                `json:"formats,omitempty"` // it was blank, and is being formatted
	Pending *pendingKey         `json:"pending,omitempty"`
	Renew   bool                `json:"renew,omitempty"`  // another key is to take the place of the one in force
	Failed  string              `json:"failed,omitempty"` // why the last step did not succeed
}

// pendingKey is a key that is not in force yet, or not alone.
type pendingKey struct {
	Key        string              `json:"key"`
	Identifier recovery.Identifier `json:"identifier"`
	MadeAt     time.Time           `json:"made_at"`
	Recipients []string            `json:"recipients"`
	Sealed     []byte              `json:"sealed"`
	Stored     bool                `json:"stored"`
	Elsewhere  bool                `json:"elsewhere,omitempty"` // at an address of the company
}

func (e *Encryption) stateFile() string { return filepath.Join(string(e.Folder), "volumes.json") }
func (e *Encryption) keyFile(uuid string) string {
	return filepath.Join(string(e.Folder), "volumes", uuid+".key")
}

// locked lets f alter the state; what it altered is on the disk when locked returns, after an error of f, too. Processes
// take turns.
func (e *Encryption) locked(f func(s *encryptionState) error) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := os.MkdirAll(filepath.Join(string(e.Folder), "volumes"), 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(string(e.Folder), "volumes.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	var s encryptionState
	if err := readJSON(e.stateFile(), &s); err != nil {
		return err
	}
	if s.Wants == nil {
		s.Wants = map[setting.ID]setting.Value{}
	}
	before, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = f(&s)
	if after, same := json.Marshal(s); same == nil && bytes.Equal(before, after) {
		return err
	}
	return errors.Join(err, s.save(e))
}

func (s *encryptionState) save(e *Encryption) error { return writeJSON(e.stateFile(), s) }

// Name says that a volume is to be encrypted where policies demand it. Only volumes that somebody named are ever
// formatted.
func (e *Encryption) Name(path, name string) error {
	return e.locked(func(s *encryptionState) error {
		if v := s.at(path); v != nil {
			v.Named = true
			return nil
		}
		s.Volumes = append(s.Volumes, &managedVolume{Path: path, Name: name, Kind: recovery.FixedVolume, UUID: newUUID(), Named: true})
		return nil
	})
}

func (s *encryptionState) at(path string) *managedVolume {
	i := slices.IndexFunc(s.Volumes, func(v *managedVolume) bool { return v.Path == path })
	if i < 0 {
		return nil
	}
	return s.Volumes[i]
}

// newUUID makes a random UUID (RFC 9562, version 4).
func newUUID() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&15|64, b[8]&63|128
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// discover adds the volumes of the system that are not known yet.
func (e *Encryption) discover(s *encryptionState) error {
	if e.Discovers == nil {
		return nil
	}
	found, err := e.Discovers()
	for _, f := range found {
		if v := s.at(f.Path); v != nil {
			v.Name, v.Kind = f.Name, f.Kind
		} else {
			s.Volumes = append(s.Volumes, &managedVolume{Path: f.Path, Name: f.Name, Kind: f.Kind, UUID: newUUID()})
		}
	}
	return err
}

// wanted tells whether policies demand that volumes are encrypted.
func (s *encryptionState) wanted() bool { return s.Wants[recovery.EncryptionRequired].Bool() }

func (s *encryptionState) recipients() []string { return s.Wants[recovery.RecipientsOfEscrow].Items() }

// escrows tells whether keys are stored somewhere, and can be sealed.
func (s *encryptionState) escrows() bool {
	to := s.Wants[recovery.EscrowTo].Text()
	return (to == recovery.EscrowService || to == recovery.EscrowAddress) && len(s.recipients()) > 0
}

func (s *encryptionState) elsewhere() bool {
	return s.Wants[recovery.EscrowTo].Text() == recovery.EscrowAddress
}

func (s *encryptionState) method(v *managedVolume) string {
	switch v.Kind {
	case recovery.SystemVolume:
		return s.Wants[recovery.MethodOfSystem].Text()
	case recovery.RemovableVolume:
		return s.Wants[recovery.MethodOfRemovable].Text()
	}
	return s.Wants[recovery.MethodOfFixed].Text()
}

// Adopt lets the agent into a volume that somebody else encrypted, with a passphrase that opens it.
func (e *Encryption) Adopt(ctx context.Context, path string, passphrase []byte) error {
	return e.locked(func(s *encryptionState) error {
		if err := e.discover(s); err != nil {
			return err
		}
		v := s.at(path)
		if v == nil {
			v = &managedVolume{Path: path, Name: filepath.Base(path), Kind: recovery.FixedVolume, UUID: newUUID(), Named: true}
			s.Volumes = append(s.Volumes, v)
		}
		slot, err := e.Tool.Opens(ctx, path, passphrase)
		if err != nil {
			return err
		}
		if slot < 0 {
			return errors.New("the passphrase does not open the volume")
		}
		_, err = e.addOwn(ctx, v, passphrase)
		return err
	})
}

// Forget takes the agent's own key out of every volume. Volumes stay encrypted, and their recovery keys stay.
func (e *Encryption) Forget(ctx context.Context) error {
	return e.locked(func(s *encryptionState) error {
		var errs []error
		for _, v := range s.Volumes {
			own, err := os.ReadFile(e.keyFile(v.UUID))
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			h, readErr := e.Tool.Read(ctx, v.Path)
			if err = errors.Join(err, readErr); err != nil {
				errs = append(errs, err)
				continue
			}
			if t := h.Token(volume.AgentToken); t != nil && len(h.Slots) > 1 {
				errs = append(errs, e.Tool.DropKey(ctx, v.Path, own), e.Tool.DropToken(ctx, v.Path, t.ID))
			}
			errs = append(errs, os.Remove(e.keyFile(v.UUID)))
		}
		*s = encryptionState{}
		return errors.Join(errs...)
	})
}
