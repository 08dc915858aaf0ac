// Package draw makes the choices of tests that try cases at random: a tenth of the cases on each run, all of them where
// LOCKBACK_LONG is set, as make test-long sets it.
//
// Which cases are drawn is another matter each time. A test that fails prints the seed; with LOCKBACK_SEED set to it
// the same cases are drawn again.
package draw

import (
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
)

// Source returns random numbers, and prints the seed where the test fails.
func Source(t testing.TB) *rand.Rand {
	t.Helper()
	seed := rand.Uint64N(1 << 32)
	if s, err := strconv.ParseUint(os.Getenv("LOCKBACK_SEED"), 10, 64); err == nil {
		seed = s
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("LOCKBACK_SEED=%d", seed)
		}
	})
	return rand.New(rand.NewPCG(seed, 1889))
}

// Long says that every case is tried.
func Long() bool { return os.Getenv("LOCKBACK_LONG") != "" }

// Count is how many of all cases this run tries, at least one.
func Count(all int) int {
	if Long() {
		return all
	}
	return max(1, all/10)
}

// Seeds returns the numbers of the cases that this run tries, out of those from 0 up to all.
func Seeds(t testing.TB, all int) []uint64 {
	t.Helper()
	seeds := make([]uint64, all)
	for k := range seeds {
		seeds[k] = uint64(k)
	}
	return Some(t, seeds, Count(all))
}

// Some returns n of all, in their order; everything where that is no more, or where every case is tried.
func Some[T any](t testing.TB, all []T, n int) []T {
	t.Helper()
	if Long() || n >= len(all) {
		return all
	}
	drawn := Source(t).Perm(len(all))[:n]
	slices.Sort(drawn)
	some := make([]T, n)
	for k, at := range drawn {
		some[k] = all[at]
	}
	return some
}
