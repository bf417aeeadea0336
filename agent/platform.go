package agent

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// platform puts values into force through adapters. It is an endpoint.Platform, Observer and Chooser.
type platform struct {
	folder   Folder
	state    State
	host     *adapter.Host
	adapters map[setting.ID]adapter.Adapter
	log      *slog.Logger

	encryption *Encryption // nil: no volumes are encrypted
}

// open reads the state and does again what was interrupted: each setting is then either as before or as wanted.
func open(folder Folder, host *adapter.Host, log *slog.Logger, encryption *Encryption) (*platform, error) {
	state, err := folder.ReadState()
	if err != nil {
		return nil, err
	}
	p := &platform{folder: folder, state: state, host: host, adapters: map[setting.ID]adapter.Adapter{}, log: log, encryption: encryption}
	all := adapter.All(host)
	if encryption != nil {
		all = append(all, encryption.Settings())
	}
	for _, a := range all {
		for _, id := range a.Settings() {
			p.adapters[id] = a
		}
	}
	if id := p.state.Doing; id != "" {
		if code := p.Apply(id, p.state.Managed[id]); code != syncml.OK && code != syncml.Accepted {
			log.Warn("what was interrupted can't be done again", "setting", id, "status", code)
		}
	}
	return p, nil
}

// Supports implements endpoint.Supporter.
func (p *platform) Supports(id setting.ID) bool { return p.adapters[id] != nil }

// Apply implements endpoint.Platform. What is to be done is on the disk before it is begun.
func (p *platform) Apply(id setting.ID, v setting.Value) (code string) {
	a := p.adapters[id]
	if a == nil {
		return syncml.NotSupported
	}
	was, managed := p.state.Managed[id]
	if p.state.Managed[id], p.state.Doing = v, id; v.IsNothing() {
		delete(p.state.Managed, id)
	}
	if err := p.folder.WriteState(p.state); err != nil {
		p.log.Error("writing the state", "error", err)
		return syncml.Failed
	}
	err := put(a, id, v)
	if code := codeOf(err); code != syncml.OK && code != syncml.Accepted && code != syncml.WrongFormat { // it may be half done
		if undone := put(a, id, was); undone != nil {
			p.log.Error("going back to what was before", "setting", id, "error", undone)
		}
	}
	p.state.Doing = ""
	delete(p.state.Failed, id)
	delete(p.state.Altered, id)
	delete(p.state.Later, id)
	if errors.Is(err, errLater) {
		p.state.Later[id], err = true, nil
		defer func() { code = later(code) }()
	}
	if v.IsNothing() {
		delete(p.state.Since, id)
	} else if !v.Equal(was) {
		p.state.Since[id] = time.Now().UTC()
	}
	if err != nil {
		p.log.Warn("putting a value into force", "setting", id, "error", err)
		p.state.Failed[id] = err.Error()
		if p.state.Managed[id] = was; !managed { // what was in force before stays
			delete(p.state.Managed, id)
		}
	}
	if kept := p.folder.WriteState(p.state); kept != nil {
		p.log.Error("writing the state", "error", kept)
		return syncml.Failed
	}
	return codeOf(err)
}

// later gives the code of a value that is taken, and not in force yet.
func later(code string) string {
	if code == syncml.OK {
		return syncml.Accepted
	}
	return code
}

// put applies a value, or withdraws the setting where there is none.
func put(a adapter.Adapter, id setting.ID, v setting.Value) error {
	if v.IsNothing() {
		return a.Withdraw(id)
	}
	return a.Apply(id, v)
}

// codeOf gives the status of the protocol for what an adapter says.
func codeOf(err error) string {
	var value *adapter.ValueError
	switch {
	case err == nil:
		return syncml.OK
	case errors.Is(err, errLater):
		return syncml.Accepted
	case errors.As(err, &value):
		return syncml.WrongFormat
	case errors.Is(err, fs.ErrPermission):
		return syncml.Denied
	}
	return syncml.Failed
}

// Reported implements endpoint.Platform: what is in force now, read from where it really lives.
func (p *platform) Reported() map[setting.ID]setting.Value {
	out := map[setting.ID]setting.Value{}
	for _, id := range p.state.managedIDs() {
		v, err := p.adapters[id].Read(id)
		if err != nil {
			p.log.Warn("reading what is in force", "setting", id, "error", err)
			continue
		}
		if !v.IsNothing() {
			out[id] = v
		}
	}
	return out
}

// Observe implements endpoint.Observer.
func (p *platform) Observe(id setting.ID) (setting.Value, bool) {
	a := p.adapters[id]
	if a == nil {
		return setting.Value{}, false
	}
	v, err := a.Read(id)
	return v, err == nil && !v.IsNothing()
}

// KeepFile implements endpoint.Keeper.
func (p *platform) KeepFile(sha256 string, data io.Reader) error {
	folder := p.folder.Files()
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	fresh := filepath.Join(folder, ".fresh")
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(fresh)
	_, err = io.Copy(f, data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(fresh, filepath.Join(folder, sha256))
}

// HasFile implements endpoint.Keeper.
func (p *platform) HasFile(sha256 string) bool {
	if !filepath.IsLocal(sha256) {
		return false
	}
	_, err := os.Stat(filepath.Join(p.folder.Files(), sha256))
	return err == nil
}

// ShowOffer implements endpoint.Chooser: the person takes it with `zridge-agent take`, or leaves it.
func (p *platform) ShowOffer(policy string, o syncml.Offer) { p.state.Offers[policy] = o }

// HideOffer implements endpoint.Chooser.
func (p *platform) HideOffer(policy string) { delete(p.state.Offers, policy) }

// Taken implements endpoint.Chooser.
func (p *platform) Taken() []string {
	var out []string
	for policy, is := range p.state.Taken {
		if is {
			out = append(out, policy)
		}
	}
	slices.Sort(out)
	return out
}

// ShowWhy implements endpoint.Explainer.
func (p *platform) ShowWhy(id setting.ID, w syncml.Why) { p.state.Why[id] = w }

// HideWhy implements endpoint.Explainer.
func (p *platform) HideWhy(id setting.ID) { delete(p.state.Why, id) }

// Tells implements endpoint.KeyHolder.
func (p *platform) Tells() []syncml.Item {
	if p.encryption == nil {
		return nil
	}
	return p.encryption.Tells(context.Background())
}

// Heard implements endpoint.KeyHolder.
func (p *platform) Heard(item syncml.Item, code string) { p.encryption.Heard(item, code) }

// RenewKey implements endpoint.KeyHolder.
func (p *platform) RenewKey(id recovery.Identifier) (code string) {
	if p.encryption == nil {
		return syncml.NotFound
	}
	return p.encryption.RenewKey(context.Background(), id)
}
