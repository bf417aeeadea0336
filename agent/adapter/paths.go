package adapter

// Paths implements Located.
func (d *dropIn) Paths() []string { return []string{d.path} }

// Paths implements Located.
func (s *shared) Paths() []string { return []string{s.path} }

// Paths implements Located.
func (w *whole) Paths() []string { return w.paths }

// Paths implements Located: of the files that are there now.
func (b *bundle) Paths() []string {
	s, err := b.state()
	if err != nil {
		return nil // what cannot be read shows when the values are read
	}
	return s.Paths
}

// Paths implements Located.
func (d *desktop) Paths() []string {
	return append(append(d.values.Paths(), d.locks.Paths()...), d.profile.path())
}

// Paths implements Located.
func (b *background) Paths() []string { return append(b.desktop.Paths(), b.picture.Paths()...) }

// Paths implements Located.
func (b *managedBrowser) Paths() []string { return []string{browserPolicies} }

// Paths implements Located.
func (d *drivers) Paths() []string { return []string{moduleFile} }

// Paths implements Located.
func (z *zoneOf) Paths() []string { return []string{localTime} }

// Paths implements Located.
func (r *roots) Paths() []string { return []string{rootsFolder + rootsPrefix, rootsBundle} }

// Paths implements Located.
func (a *administrators) Paths() []string { return append(a.rules.Paths(), groupFile) }

// Paths implements Located.
func (c *counted) Paths() []string { return append(c.shared.Paths(), c.steps.Paths()...) }

// Paths implements Located.
func (u *units) Paths() (paths []string) {
	for i := range u.of {
		for path := range u.of[i].links {
			paths = append(paths, path)
		}
		for path := range u.of[i].runs {
			paths = append(paths, path)
		}
	}
	return paths
}
