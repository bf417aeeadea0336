// This file lets the security chip open the system disk, alone or with a PIN.

package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
)

// startup puts the rules of startup protection into force that need nobody at the laptop: the chip alone opens the system
// disk where that is required and no PIN is, and does not where it is forbidden.
func (e *Encryption) startup(ctx context.Context, s *encryptionState, v *managedVolume, auth []byte) error {
	if v.Kind != recovery.SystemVolume || !s.Wants[recovery.StartupExtra].Bool() {
		return nil
	}
	h, err := e.Tool.Read(ctx, v.Path)
	if err != nil {
		return err
	}
	has := h.Startup()
	chip, pin := slices.Contains(has, "chip"), slices.Contains(has, "pin")
	wants := s.Wants[recovery.StartupChip].Text()
	wantsPIN := s.Wants[recovery.StartupPIN].Text() == recovery.Require
	switch {
	case wants == recovery.Forbid && (chip || pin):
		return e.Tool.WipeChip(ctx, v.Path, auth)
	case wants == recovery.Require && !wantsPIN && !chip:
		return e.Tool.SealToChip(ctx, v.Path, auth, nil)
	}
	return nil
}

// SetPIN lets the chip open the system disk with a PIN that the person chose, and with nothing else but the recovery key
// and passphrases of people.
func (e *Encryption) SetPIN(ctx context.Context, pin string) error {
	return e.locked(func(s *encryptionState) error {
		v := s.system()
		if v == nil {
			return errors.New("the laptop has no system disk that the agent knows")
		}
		least := max(int(s.Wants[recovery.PINLength].Integer()), leastPIN)
		if len(pin) < least || strings.Trim(pin, "0123456789") != "" {
			return fmt.Errorf("the PIN has %d characters, expected at least %d digits", len(pin), least)
		}
		if s.Wants[recovery.StartupPIN].Text() == recovery.Forbid || s.Wants[recovery.StartupChip].Text() == recovery.Forbid {
			return errors.New("policies of your company forbid a PIN")
		}
		own, err := os.ReadFile(e.keyFile(v.UUID))
		if err != nil {
			return fmt.Errorf("the agent does not manage the system disk; run first: zridge-agent adopt %s", v.Path)
		}
		return e.Tool.SealToChip(ctx, v.Path, own, []byte(pin))
	})
}

const leastPIN = 4 // digits

func (s *encryptionState) system() *managedVolume {
	at := slices.IndexFunc(s.Volumes, func(v *managedVolume) bool { return v.Kind == recovery.SystemVolume })
	if at < 0 {
		return nil
	}
	return s.Volumes[at]
}

// startupInForce tells whether the system disk is opened as policies want it.
func (e *Encryption) startupInForce(ctx context.Context, s *encryptionState) bool {
	v := s.system()
	if v == nil {
		return false
	}
	h, err := e.Tool.Read(ctx, v.Path)
	if errors.Is(err, volume.ErrPlain) || err != nil {
		return false
	}
	has := h.Startup()
	chip, pin := s.Wants[recovery.StartupChip].Text(), s.Wants[recovery.StartupPIN].Text()
	switch {
	case pin == recovery.Require:
		return slices.Contains(has, "pin") && !slices.Contains(has, "chip")
	case chip == recovery.Require:
		return slices.Contains(has, "chip")
	case chip == recovery.Forbid:
		return !slices.Contains(has, "chip") && !slices.Contains(has, "pin")
	}
	return pin != recovery.Forbid || !slices.Contains(has, "pin")
}
