package files

// Canonical gives a path the case that the disk has, so that one file has
// one name.
func (f *Files) Canonical(name string) string {
	f.mu.Lock()
	known, ok := f.canonical[name]
	f.mu.Unlock()
	if ok {
		return known
	}
	out := name
	if local, err := f.names.Local(f, name); err == nil && f.isDirect(name) {
		out = f.names.Named(local)
	} else if full, err := f.resolve(name, false); err == nil {
		out = f.names.Named(full)
	}
	f.mu.Lock()
	f.canonical[name] = out
	f.mu.Unlock()
	return out
}

// actual finds the name that a folder has for one that the machine takes for the
// same.
func (f *Files) actual(plain, base string) (string, bool) {
	f.mu.Lock()
	names, ok := f.listed[plain]
	f.mu.Unlock()
	if !ok {
		names = map[string]string{}
		if entries, err := f.readPlainDir(plain); err == nil {
			for _, e := range entries {
				names[f.names.Same(e.Name())] = e.Name()
			}
		}
		f.mu.Lock()
		f.listed[plain] = names
		f.mu.Unlock()
	}
	name, ok := names[f.names.Same(base)]
	return name, ok
}

// ForgetNames drops what is remembered of the names in folders.
func (f *Files) ForgetNames() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.listed)
	clear(f.canonical)
}
