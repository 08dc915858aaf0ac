package culprit_test

import (
	"fmt"
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/culprit"
)

// broken tells the truth of a machine: it is broken where all units of any one of its causes are suspects.
func broken(causes [][]int, suspects []int) culprit.Answer {
	for _, cause := range causes {
		if !slices.ContainsFunc(cause, func(u int) bool { return !slices.Contains(suspects, u) }) {
			return culprit.Broken
		}
	}
	return culprit.Works
}

// run searches a machine to the end; change may change the answer of a round.
func run(t testing.TB, n int, causes [][]int, change func(round int, truth culprit.Answer) culprit.Answer) (
	culprit.Verdict, int) {
	s := culprit.Search{Units: make([]culprit.Unit, n)}
	for len(s.Rounds) < 20*n+50 {
		next := s.Next()
		if next.Verdict != nil {
			return *next.Verdict, len(s.Rounds)
		}
		require.True(t, slices.IsSorted(next.Suspects))
		answer := broken(causes, next.Suspects)
		if change != nil {
			answer = change(len(s.Rounds), answer)
		}
		s.Rounds = append(s.Rounds, culprit.Round{Suspects: next.Suspects, Purpose: next.Purpose, Answer: answer})
	}
	require.Fail(t, "it does not end", "%d units, %v", n, causes)
	return culprit.Verdict{}, 0
}

func units(v culprit.Verdict) []int {
	var all []int
	for _, f := range v.Found {
		all = append(all, f.Unit)
	}
	slices.Sort(all)
	return all
}

// draw draws some different units of n.
func draw(rng *rand.Rand, n, some int) []int {
	all := rng.Perm(n)[:some]
	slices.Sort(all)
	return all
}

// each makes of each unit a cause of its own.
func each(units []int) (causes [][]int) {
	for _, u := range units {
		causes = append(causes, []int{u})
	}
	return causes
}

// What a search does with thousands of drawn machines. The numbers stand in docs/performance.md.
func TestDrawnMachines(t *testing.T) {
	const machines = 2000
	rng := rand.New(rand.NewPCG(16, 1))
	for some := 1; some <= 3; some++ {
		rounds, most := 0, 0
		for range machines {
			n := some + rng.IntN(60)
			causes := draw(rng, n, some)
			v, took := run(t, n, each(causes), nil)
			require.Equal(t, causes, units(v), "%d units", n)
			require.True(t, v.Confirmed)
			require.Empty(t, v.Mistakes)
			if some == 1 {
				require.LessOrEqual(t, took, bits.Len(uint(n-1))+1, "%d units", n)
			}
			rounds, most = rounds+took, max(most, took)
		}
		t.Logf("%d of up to %d: all found, %.1f rounds on average, %d at most", some, some+59, float64(rounds)/machines,
			most)
	}
	t.Run("two that break it only together", func(t *testing.T) {
		for range machines {
			n := 2 + rng.IntN(60)
			pair := draw(rng, n, 2)
			v, took := run(t, n, [][]int{pair}, nil)
			require.True(t, v.Confirmed)
			require.Len(t, v.Found, 1)
			require.Contains(t, pair, v.Found[0].Unit)
			require.LessOrEqual(t, took, bits.Len(uint(n-1))+1)
		}
	})
	t.Run("none of them", func(t *testing.T) {
		for n := 1; n < 70; n++ {
			v, _ := run(t, n, [][]int{{}}, nil) // broken whatever is done
			require.True(t, v.None)
			require.Empty(t, v.Found)
		}
	})
	t.Run("one wrong answer", func(t *testing.T) {
		right, noticed, unnoticed := 0, 0, 0
		for range machines {
			n := 2 + rng.IntN(60)
			cause := draw(rng, n, 1)
			wrong := rng.IntN(bits.Len(uint(n-1)) + 1)
			last := 0
			v, _ := run(t, n, each(cause), func(round int, truth culprit.Answer) culprit.Answer {
				last = round
				if round != wrong {
					return truth
				}
				return map[culprit.Answer]culprit.Answer{culprit.Works: culprit.Broken,
					culprit.Broken: culprit.Works}[truth]
			})
			switch {
			case slices.Equal(units(v), cause):
				right++
				if wrong < last {
					require.NotEmpty(t, v.Mistakes, "%d units, round %d", n, wrong)
					noticed++
				}
			default:
				unnoticed++
			}
		}
		t.Logf("of %d: right all the same %d, noticed %d, wrong and not noticed %d", machines, right, noticed,
			unnoticed)
		require.Zero(t, unnoticed)
	})
	t.Run("some could not be told", func(t *testing.T) {
		groups := 0
		for range machines {
			n := 2 + rng.IntN(60)
			cause := draw(rng, n, 1)
			v, _ := run(t, n, each(cause), func(_ int, truth culprit.Answer) culprit.Answer {
				if rng.IntN(4) == 0 {
					return culprit.Skipped
				}
				return truth
			})
			if len(v.Group) > 0 {
				groups++
				require.Subset(t, v.Group, cause)
				continue
			}
			require.Subset(t, units(v), cause)
			if v.Confirmed {
				require.Equal(t, cause, units(v))
			}
		}
		t.Logf("of %d: %d ended with a group", machines, groups)
	})
}

// Entries that were uninstalled while the search went on are tried no more.
func TestUninstalledMeanwhile(t *testing.T) {
	s := culprit.Search{Units: make([]culprit.Unit, 4)}
	s.Rounds = []culprit.Round{{Suspects: []int{0, 1}, Answer: culprit.Works}}
	s.Units[2].Gone = true
	next := s.Next()
	require.Equal(t, culprit.Confirm, next.Purpose)
	require.Equal(t, []int{0, 1}, next.Suspects)
	s.Units[3].Gone = true
	require.Equal(t, &culprit.Verdict{}, s.Next().Verdict)
	s.Units = nil
	require.NotNil(t, s.Next().Verdict)
}

// Who cannot tell is asked in another way.
func TestSkipAsksInAnotherWay(t *testing.T) {
	s := culprit.Search{Units: make([]culprit.Unit, 6)}
	asked := map[string]bool{}
	for range 4 {
		next := s.Next()
		require.Nil(t, next.Verdict)
		asked[fmt.Sprint(next.Suspects)] = true
		s.Rounds = append(s.Rounds, culprit.Round{Suspects: next.Suspects, Answer: culprit.Skipped})
	}
	require.Len(t, asked, 4)
	require.Equal(t, []int{0, 1, 2, 3, 4, 5}, s.Next().Verdict.Group)
}

// What a person is told beforehand: of n units, log2 n rounds and one.
func TestRoundsTold(t *testing.T) {
	for n, left := range map[int]int{1: 1, 2: 2, 3: 3, 4: 3, 10: 5, 16: 5, 17: 6} {
		s := culprit.Search{Units: make([]culprit.Unit, n)}
		require.Equal(t, left, s.Next().Left, fmt.Sprint(n))
	}
}
