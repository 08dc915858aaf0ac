package machine

// withoutDirect runs a test as on a kernel that knows no openat2.
func withoutDirect(without bool, do func()) {
	before := noDirect.Load()
	noDirect.Store(without)
	defer noDirect.Store(before)
	do()
}

// WithoutDirect is withoutDirect for the tests outside the package.
var WithoutDirect = withoutDirect
