package linux

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/location"
)

// Cron says what it can, and no other interval for one that it cannot.
func TestCronSchedule(t *testing.T) {
	t.Parallel()
	for every, want := range map[time.Duration]string{
		time.Minute: "*/1 * * * *", 15 * time.Minute: "*/15 * * * *", time.Hour: "0 */1 * * *",
		8 * time.Hour: "0 */8 * * *", 24 * time.Hour: "0 0 * * *",
		7 * time.Minute: "", 90 * time.Minute: "", 5 * time.Hour: "", 48 * time.Hour: "", 61 * time.Second: "",
	} {
		require.Equal(t, want, cronSchedule(location.New{Every: every}), every)
	}
	require.Equal(t, "5 23 * * *", cronSchedule(location.New{Daily: true, At: 23*time.Hour + 5*time.Minute}))
}
