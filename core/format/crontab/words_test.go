package crontab_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/crontab"
)

func TestWords(t *testing.T) {
	for schedule, want := range map[string]string{
		"@reboot": "at startup", "@daily": "every day at 00:00",
		"* * * * *": "every minute", "*/10 * * * *": "every 10 minutes", "*/7 * * * *": "every 7 minutes of each hour",
		"30 18 * * 1-5": "Monday to Friday at 18:30", "0 7 * * 1": "every Monday at 07:00",
		"0 7 * * sun": "every Sunday at 07:00",
		"0 7 * * 7":   "every Sunday at 07:00", "0 7 * * 5-7": "every Sunday, Friday, Saturday at 07:00",
		"17 * * * *":   "every hour at minute 17",
		"5,35 * * * *": "every hour at the minutes 5, 35", "0 */6 * * *": "every 6 hours at minute 0",
		"15 6,18 * * *":   "every day at 06:15, 18:15",
		"0 3 1 * *":       "on day 1 of the month at 03:00",
		"0 3 1,15 * 1":    "on day 1, 15 of the month and every Monday at 03:00",
		"0 3 */10 * 1":    "on day 1, 11, 21, 31 of the month if it is every Monday at 03:00",
		"0 3 * jan,JUL *": "every day in January, July at 03:00",
		"*/10 * * * 1-5":  "every 10 minutes, Monday to Friday", "0\t4 * * *": "every day at 04:00",
		"*/0 * * * *": "on the schedule */0 * * * *", "0 25 * * *": "on the schedule 0 25 * * *",
		"0~9 4 * * *":       "on the schedule 0~9 4 * * *",
		"0-59/2 1-20 * * *": "on the schedule 0-59/2 1-20 * * *", "5/10 * * * *": "on the schedule 5/10 * * * *",
		"0 4 L * *": "on the schedule 0 4 L * *",
	} {
		require.Equal(t, want, crontab.Words(schedule), schedule)
	}
}

func FuzzWords(f *testing.F) {
	for _, s := range []string{"@daily", "*/10 * * * *", "30 18 * * 1-5", "0-59/2 1-20 1,2 jan-dec sun", "*/0 * * * *",
		"5-1 * * * *"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, schedule string) {
		words := crontab.Words(schedule)
		require.NotEmpty(t, words)
		require.Equal(t, words, crontab.Words(schedule))
	})
}
