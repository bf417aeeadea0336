// This file finds certificates that are in the wrong list, and authorities whose only certificate
// is replaced.
//
// Both are mistakes that take effect at once, on every laptop of the policy: connections fail that
// worked before. They are told while the policy is written.

package review

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// certificates looks at the columns whose certificates a laptop takes for authorities. What is in a
// file was read when it was stored; nothing is parsed here.
func (f *finder) certificates(known Known) {
	for _, e := range f.policy.Entries {
		d := f.side.Plan.Definition(e.Setting)
		if d == nil {
			continue
		}
		for i := range d.Columns {
			if c := &d.Columns[i]; c.Store != "" {
				f.wrongStore(d, c, &e, known)
				f.replaced(d, c, &e, known)
			}
		}
	}
}

// wrongStore finds intermediate authorities among roots, and roots among intermediate ones. A
// certificate that may not sign others is not looked at.
func (f *finder) wrongStore(d *setting.Definition, c *setting.Column, e *estate.Entry, known Known) {
	belongs := setting.StoreRoots
	if c.Store == setting.StoreRoots {
		belongs = setting.StoreIntermediates
	}
	for _, row := range e.Value.Rows() {
		// A file that was not read as a certificate is left to the checks of contents.
		is, read := known.certificate(row[c.Name].File().SHA256)
		if !read || !is.Authority || is.Root == (c.Store == setting.StoreRoots) {
			continue
		}
		f.add(Finding{
			Kind: WrongStore, Settings: []setting.ID{e.Setting}, Found: is.Subject, Message: is.Rank,
			Known: string(f.settingWith(belongs, d.Side)), Warning: true,
		})
	}
}

// settingWith gives the setting of the dictionary whose certificates are taken so; that of the same
// side, where there is one.
func (f *finder) settingWith(store setting.Store, side setting.Side) setting.ID {
	var found setting.ID
	definitions := f.side.Plan.Snapshot().Settings
	for i := range definitions {
		d := &definitions[i]
		if slices.ContainsFunc(d.Columns, func(c setting.Column) bool { return c.Store == store }) && (found == "" || d.Side == side) {
			found = d.ID
		}
	}
	return found
}

// replaced finds subjects of which the live policy has certificates, and the policy as it would be
// has others only: what the earlier ones signed would no longer be trusted. Each subject is named
// once.
func (f *finder) replaced(d *setting.Definition, c *setting.Column, e *estate.Entry, known Known) {
	if known.Before == nil {
		return
	}
	was := known.Before.Entry(d.ID)
	if was == nil {
		return
	}
	var kept []string // SHA-256 of the files of certificates
	now := map[string]bool{}
	for _, row := range e.Value.Rows() {
		file := row[c.Name].File().SHA256
		kept = append(kept, file)
		if is, read := known.certificate(file); read {
			now[is.Subject] = true
		}
	}
	// Certificates that laptops have today, and would no longer have, although there is another one
	// of the same subject.
	said := map[string]bool{}
	for _, row := range was.Value.Rows() {
		file := row[c.Name].File().SHA256
		is, read := known.certificate(file)
		if !read || !now[is.Subject] || slices.Contains(kept, file) || said[is.Subject] {
			continue
		}
		// Another certificate of the subject is kept: there is still one that laptops had before.
		others := slices.ContainsFunc(was.Value.Rows(), func(other setting.Row) bool {
			file := other[c.Name].File().SHA256
			beside, read := known.certificate(file)
			return read && beside.Subject == is.Subject && slices.Contains(kept, file)
		})
		if !others {
			said[is.Subject] = true
			f.add(Finding{Kind: Replaced, Settings: []setting.ID{e.Setting}, Found: is.Subject, Known: string(is.NotAfter), Warning: true})
		}
	}
}
