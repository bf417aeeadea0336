// Package agent is the laptop's side on real laptops: it keeps what the service told it, puts it into force through
// adapters, and checks in.
package agent

import (
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
)

// Identity is how the laptop knows the service, and proves itself to it. It is secret.
type Identity struct {
	Base  string `json:"base"`         // address of the service
	Roots string `json:"ca,omitempty"` // certificates by which the service is trusted, in PEM; empty: those of the machine

	Certified *endpoint.Certified `json:"certified,omitempty"` // nil: not enrolled yet
	Request   *endpoint.Request   `json:"request,omitempty"`   // that waits for an approval
	Code      string              `json:"code,omitempty"`      // with which it was sent
	Device    string              `json:"device,omitempty"`    // that it was sent for; empty: the service knows by the serial number
}

// State is what the laptop has been told, and what was done of it.
type State struct {
	Revision string                       `json:"revision,omitempty"`
	Managed  map[setting.ID]setting.Value `json:"managed"` // what is wanted
	// Doing is a setting whose value is being put into force: after an interruption it is done again.
	Doing  setting.ID              `json:"doing,omitempty"`
	Offers map[string]syncml.Offer `json:"offers,omitempty"` // policies that are offered to the laptop's person
	Taken  map[string]bool         `json:"taken,omitempty"`  // what the person chose, of all that was ever offered
	Last   time.Time               `json:"last,omitzero"`    // the last session that came to its end
	Failed map[setting.ID]string   `json:"failed,omitempty"` // why a value is not in force

	Why     map[setting.ID]syncml.Why    `json:"why,omitempty"`     // why settings are managed
	Since   map[setting.ID]time.Time     `json:"since,omitempty"`   // when each got its value
	Drifts  []syncml.Drift               `json:"drifts,omitempty"`  // what was altered and the service does not know yet
	Altered map[setting.ID]setting.Value `json:"altered,omitempty"` // what was altered and is left so, as it was found
	Boot    string                       `json:"boot,omitempty"`    // the start of the system at which values were put into force last
	Later   map[setting.ID]bool          `json:"later,omitempty"`   // what is taken, and not in force yet
	Facts   map[string]setting.Value     `json:"facts,omitempty"`   // what the service was told of the laptop
}

// Folder is where the agent keeps what it knows, for root alone.
type Folder string

func (f Folder) identity() string { return filepath.Join(string(f), "identity.json") }
func (f Folder) state() string    { return filepath.Join(string(f), "state.json") }

// Kept is where adapters keep what was there before.
func (f Folder) Kept() string { return filepath.Join(string(f), "before") }

// Files is where the files that values name are kept.
func (f Folder) Files() string { return filepath.Join(string(f), "files") }

// ReadIdentity reads the identity; one that is not there is empty.
func (f Folder) ReadIdentity() (id Identity, err error) { return id, readJSON(f.identity(), &id) }

// WriteIdentity replaces the identity.
// The certificate and its key are beside it for programs of the system that join networks with them; without a
// certificate they are not there.
func (f Folder) WriteIdentity(id Identity) error {
	certificate, key := filepath.Join(string(f), "certificate.pem"), filepath.Join(string(f), "key.pem")
	if err := writeJSON(f.identity(), id); err != nil {
		return err
	}
	if id.Certified == nil {
		for _, path := range []string{certificate, key} {
			if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		return nil
	}
	return errors.Join(
		adapter.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: id.Certified.Key}), 0o600),
		adapter.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: id.Certified.Certificate}), 0o600),
	)
}

// ReadState reads the state; one that is not there is empty.
func (f Folder) ReadState() (s State, err error) {
	err = readJSON(f.state(), &s)
	if s.Managed == nil {
		s.Managed = map[setting.ID]setting.Value{}
	}
	if s.Offers == nil {
		s.Offers = map[string]syncml.Offer{}
	}
	if s.Taken == nil {
		s.Taken = map[string]bool{}
	}
	if s.Failed == nil {
		s.Failed = map[setting.ID]string{}
	}
	if s.Why == nil {
		s.Why = map[setting.ID]syncml.Why{}
	}
	if s.Since == nil {
		s.Since = map[setting.ID]time.Time{}
	}
	if s.Altered == nil {
		s.Altered = map[setting.ID]setting.Value{}
	}
	if s.Later == nil {
		s.Later = map[setting.ID]bool{}
	}
	if s.Facts == nil {
		s.Facts = map[string]setting.Value{}
	}
	return s, err
}

// WriteState replaces the state.
func (f Folder) WriteState(s State) error { return writeJSON(f.state(), s) }

func readJSON(file string, into any) error {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	return nil
}

func writeJSON(file string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return adapter.WriteFile(file, append(data, '\n'), 0o600)
}

// Lock makes sure that only one process at a time checks in or alters the state. It waits for its turn.
func (f Folder) Lock() (unlock func() error, err error) {
	if err := os.MkdirAll(string(f), 0o700); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(string(f), "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file.Close, nil
}

// managedIDs lists what is managed, by id.
func (s *State) managedIDs() []setting.ID {
	out := make([]setting.ID, 0, len(s.Managed))
	for id := range s.Managed {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}
