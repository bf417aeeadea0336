// This file has the settings of encryption: what policies say, and what is in force.

package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// errLater says that a value is taken, and will be in force later.
var errLater = errors.New("it is put into force later")

// encryptionSettings are the settings of encryption as an adapter.
type encryptionSettings struct{ *Encryption }

// Settings gives the settings of encryption as an adapter.
func (e *Encryption) Settings() adapter.Adapter { return encryptionSettings{e} }

// said are the settings that say how volumes are encrypted and keys are handled. They are in force as soon as they are
// written down: what they do shows with the volumes.
var said = []setting.ID{
	recovery.EscrowTo, recovery.AddressOfEscrow, recovery.RecipientsOfEscrow, recovery.EscrowFirst, recovery.MaxAgeDays, recovery.SecondPerson,
	recovery.OwnKeyShown, recovery.NewKeyAfterUse, recovery.HideChoices, recovery.KeyPerDevice, recovery.MethodOfSystem,
	recovery.MethodOfFixed,
	recovery.MethodOfRemovable, recovery.Scope, recovery.Silent, recovery.StartupExtra, recovery.PINLength,
}

// done are the settings that are in force when volumes are so.
var done = []setting.ID{recovery.EncryptionRequired, recovery.StartupChip, recovery.StartupPIN}

// Settings implements adapter.Adapter.
func (a encryptionSettings) Settings() []setting.ID { return slices.Concat(said, done) }

// Read implements adapter.Adapter.
func (a encryptionSettings) Read(id setting.ID) (v setting.Value, err error) {
	err = a.locked(func(s *encryptionState) error {
		wanted := s.Wants[id]
		switch {
		case slices.Contains(said, id):
			v = wanted
		case id == recovery.EncryptionRequired && a.allEncrypted(context.Background(), s):
			v = setting.BoolValue(true)
		case id == recovery.EncryptionRequired && !wanted.IsNothing() && !wanted.Bool(): // nothing is decrypted by itself
			v = wanted
		case id != recovery.EncryptionRequired && a.startupInForce(context.Background(), s):
			v = wanted
		}
		return nil
	})
	return v, err
}

// Apply implements adapter.Adapter. The error is errLater where the value is taken and not in force yet.
func (a encryptionSettings) Apply(id setting.ID, v setting.Value) error {
	refuse := &adapter.ValueError{Setting: id, Value: v}
	switch {
	case id == recovery.KeyPerDevice && !v.Bool(), // every laptop has a key of its own here
		id == recovery.HideChoices && !v.Bool(): // nobody is asked to print a key
		return refuse
	case id == recovery.Scope && v.Text() != "used-space": // what was deleted on a disk that is blank now is not written over
		return refuse
	case id == recovery.AddressOfEscrow && !strings.HasPrefix(v.Text(), "https://"):
		return refuse
	}
	if err := a.locked(func(s *encryptionState) error {
		s.Wants[id] = v
		return nil
	}); err != nil || slices.Contains(said, id) {
		return err
	}
	if is, err := a.Read(id); err != nil || is.Equal(v) {
		return err
	}
	return errLater
}

// Withdraw implements adapter.Adapter. Volumes that are encrypted stay so.
func (a encryptionSettings) Withdraw(id setting.ID) error {
	return a.locked(func(s *encryptionState) error {
		delete(s.Wants, id)
		return nil
	})
}

// atAddress is what is sent to a company's own address, and its answer.
type atAddress struct {
	Device string `json:"device"`
	recovery.SealedKey
}

const addressAnswer = 64 << 10 // bytes

// StoreElsewhere sends keys to the company's address where policies say so (docs/recovery-keys.md, "An address of your
// own"). The laptop shows its certificate.
func (e *Encryption) StoreElsewhere(ctx context.Context, device string, client *http.Client) error {
	type sending struct {
		to  string
		key atAddress
	}
	var list []sending
	err := e.locked(func(s *encryptionState) error {
		for _, v := range s.Volumes {
			if p := v.Pending; p != nil && p.Elsewhere && !p.Stored {
				list = append(list, sending{s.Wants[recovery.AddressOfEscrow].Text(), atAddress{device, recovery.SealedKey{
					Volume: v.UUID, Name: v.Name, Identifier: p.Identifier, Sealed: p.Sealed, Recipients: p.Recipients, MadeAt: p.MadeAt,
				}}})
			}
		}
		return nil
	})
	errs := []error{err}
	for _, each := range list {
		if err := post(ctx, client, each.to, each.key); err != nil {
			errs = append(errs, fmt.Errorf("sending a recovery key to %s: %w", each.to, err))
			continue
		}
		e.Heard(syncml.WriteSealedKey(each.key.SealedKey), syncml.OK)
	}
	return errors.Join(errs...)
}

func post(ctx context.Context, client *http.Client, to string, key atAddress) error {
	text, err := json.Marshal(key)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(text))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	var said struct {
		Stored recovery.Identifier `json:"stored"`
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, addressAnswer))
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusCreated {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	if json.Unmarshal(data, &said) != nil || said.Stored != key.Identifier {
		return errors.New("it did not say that it stored the key")
	}
	return nil
}
