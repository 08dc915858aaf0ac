package files

// WithoutDirect runs a test as on a kernel that knows no openat2.
func WithoutDirect(without bool, do func()) {
	before := noDirect.Load()
	noDirect.Store(without)
	defer noDirect.Store(before)
	do()
}
