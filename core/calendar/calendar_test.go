package calendar_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/calendar"
)

func TestTimesAreThoseOfTheZone(t *testing.T) {
	for name, c := range map[string]struct{ cron, zone, after, want string }{
		"every day":                         {"10 5 * * *", "Europe/Oslo", "2026-11-23T12:00:00Z", "2026-11-24T04:10:00Z"},
		"summer time":                       {"10 5 * * *", "Europe/Oslo", "2026-07-01T12:00:00Z", "2026-07-02T03:10:00Z"},
		"working days":                      {"0 6 * * 1-5", "UTC", "2026-11-20T07:00:00Z", "2026-11-23T06:00:00Z"},
		"an hour that is skipped in spring": {"30 2 * * *", "Europe/Oslo", "2026-03-28T12:00:00Z", "2026-03-30T00:30:00Z"},
		"no zone is UTC":                    {"0 0 1 * *", "", "2026-11-23T00:00:00Z", "2026-12-01T00:00:00Z"},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := calendar.Parse(c.cron, c.zone)
			require.NoError(t, err)
			after, _ := time.Parse(time.RFC3339, c.after)
			assert.Equal(t, c.want, s.Next(after).UTC().Format(time.RFC3339))
			times := s.Times(after, 10)
			require.Len(t, times, 10)
			for i := 1; i < 10; i++ {
				assert.True(t, times[i].After(times[i-1]))
			}
		})
	}
}

func TestWhatIsNoScheduleIsSaid(t *testing.T) {
	_, err := calendar.Parse("10 5 * *", "UTC")
	assert.ErrorContains(t, err, "five parts are needed")
	_, err = calendar.Parse("99 5 * * *", "UTC")
	assert.ErrorContains(t, err, "is not a cron expression")
	_, err = calendar.Parse("10 5 * * *", "Larkfell")
	assert.ErrorContains(t, err, `the time zone "Larkfell" is not known`)
	never, err := calendar.Parse("0 0 30 2 *", "UTC")
	require.NoError(t, err)
	assert.Empty(t, never.Times(time.Now(), 3))
}
