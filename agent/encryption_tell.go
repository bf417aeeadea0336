// This file tells the service of recovery keys and of how volumes are.

package agent

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/syncml"
)

// Tells gives what the service does not know yet: keys that are to be stored there, and how volumes are.
func (e *Encryption) Tells(ctx context.Context) (items []syncml.Item) {
	err := e.locked(func(s *encryptionState) error {
		for _, v := range s.Volumes {
			if p := v.Pending; p != nil && !p.Stored && !p.Elsewhere {
				items = append(items, syncml.WriteSealedKey(recovery.SealedKey{
					Volume: v.UUID, Name: v.Name, Identifier: p.Identifier, Sealed: p.Sealed, Recipients: p.Recipients, MadeAt: p.MadeAt,
				}))
			}
		}
		volumes := e.volumes(ctx, s)
		if is := syncml.WriteVolumes(volumes); is.Data != s.Told && (len(volumes) > 0 || s.Told != "") {
			items = append(items, is)
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("reading how volumes are", "error", err)
	}
	return items
}

// Heard notes that a key is stored, or that the service knows how volumes are.
func (e *Encryption) Heard(item syncml.Item, code string) {
	err := e.locked(func(s *encryptionState) error {
		if code != syncml.OK {
			return fmt.Errorf("the service answered %s to %s", code, item.Meta.Type)
		}
		if item.Meta.Type == syncml.VolumesType {
			s.Told = item.Data
			return nil
		}
		key, err := syncml.ReadSealedKey(item.Data)
		if err != nil {
			return err
		}
		for _, v := range s.Volumes {
			if v.UUID == key.Volume && v.Pending != nil && v.Pending.Identifier == key.Identifier {
				v.Pending.Stored = true
			}
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("telling the service of keys and volumes", "error", err)
	}
}

// RenewKey notes that another key is to take the place of one. It gives a status code.
func (e *Encryption) RenewKey(ctx context.Context, id recovery.Identifier) (code string) {
	code = syncml.NotFound
	err := e.locked(func(s *encryptionState) error {
		for _, v := range s.Volumes {
			h, err := e.Tool.Read(ctx, v.Path)
			if err == nil && slices.ContainsFunc(h.Recovery(), func(t volume.Token) bool { return t.Identifier == string(id) }) {
				v.Renew, code = true, syncml.Accepted
			}
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("noting that a key is to be replaced", "error", err)
		return syncml.Failed
	}
	return code
}

// Volumes says how volumes are.
func (e *Encryption) Volumes(ctx context.Context) (out []recovery.Volume) {
	if err := e.locked(func(s *encryptionState) error {
		out = e.volumes(ctx, s)
		return nil
	}); err != nil {
		e.Log.Warn("reading how volumes are", "error", err)
	}
	return out
}

// volumes says how volumes are.
func (e *Encryption) volumes(ctx context.Context, s *encryptionState) (out []recovery.Volume) {
	for _, v := range s.Volumes {
		out = append(out, e.volume(ctx, s, v))
	}
	system := slices.IndexFunc(out, func(v recovery.Volume) bool { return v.Kind == recovery.SystemVolume })
	if system >= 0 && out[system].State != recovery.Encrypted {
		for i := range out {
			if out[i].State == recovery.Encrypted && out[i].Weak == "" {
				out[i].Weak = "The key by which it is managed lies on a system disk that is not encrypted."
			}
		}
	}
	return out
}

func (e *Encryption) volume(ctx context.Context, s *encryptionState, v *managedVolume) recovery.Volume {
	out := recovery.Volume{ID: v.UUID, Name: v.Name, Kind: v.Kind, State: recovery.Plain, Reason: cut(v.Failed)}
	h, err := e.Tool.Read(ctx, v.Path)
	switch {
	case e.busy[v.UUID] || err == nil && h.Reencrypting:
		out.State = recovery.Encrypting
		return out
	case errors.Is(err, volume.ErrPlain):
		out.State, out.Reason = s.whyPlain(v, out.Reason)
		return out
	case err != nil:
		out.State, out.Reason = recovery.Cannot, cut(err.Error())
		return out
	}
	out.State, out.Method, out.Startup = recovery.Encrypted, h.Method(), h.Startup()
	for _, t := range h.Recovery() {
		if out.Identifier == "" || v.Pending != nil && t.Identifier == string(v.Pending.Identifier) {
			out.Identifier, out.Elsewhere = recovery.Identifier(t.Identifier), t.Elsewhere
		}
	}
	if out.Identifier == "" && h.Token(volume.AgentToken) == nil && out.Reason == "" {
		out.Reason = "Somebody else encrypted it. Run at the laptop: zridge-agent adopt " + v.Path
	}
	if wanted := s.method(v); volume.Weaker(out.Method, wanted) {
		out.Weak = "It is encrypted with " + out.Method + ", and policies want " + wanted + "."
	}
	for _, slot := range h.People() {
		if slot.KDF == "pbkdf2" {
			out.Weak = "A passphrase is quick to try (pbkdf2). Run at the laptop: cryptsetup luksConvertKey --pbkdf argon2id " + v.Path
		}
	}
	return out
}

// whyPlain says why a volume is not encrypted.
func (s *encryptionState) whyPlain(v *managedVolume, failed string) (recovery.VolumeState, string) {
	switch {
	case !s.wanted():
		return recovery.Plain, failed
	case v.Kind == recovery.SystemVolume:
		return recovery.Cannot, "The system disk was installed without encryption. Install the laptop anew on an encrypted disk."
	case !v.Named:
		return recovery.Waiting, "Somebody at the laptop has to say so. Unmount it and run: zridge-agent encrypt " + v.Path
	case !s.escrows():
		return recovery.Waiting, "Policies name nobody who could open it with a recovery key."
	case failed != "":
		return recovery.Waiting, failed
	}
	return recovery.Waiting, "Its recovery key is not stored yet."
}

const mostReason = 180 // bytes

func cut(text string) string { return text[:min(len(text), mostReason)] }

// allEncrypted tells whether every volume of the laptop itself is encrypted with a recovery key in force.
func (e *Encryption) allEncrypted(ctx context.Context, s *encryptionState) bool {
	own := 0
	for _, v := range e.volumes(ctx, s) {
		if v.Kind == recovery.RemovableVolume {
			continue
		}
		if own++; v.State != recovery.Encrypted || v.Identifier == "" {
			return false
		}
	}
	return own > 0
}
