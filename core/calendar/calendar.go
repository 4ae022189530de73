// Package calendar reckons when schedules start: cron expressions in a time
// zone. No clock is read here.
package calendar

import (
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Cron is a cron expression in a time zone.
type Cron struct {
	schedule cron.Schedule
	zone     *time.Location
}

// Parse reads a cron expression of five fields (minute, hour, day of month,
// month, day of week) and the name of a zone such as Europe/Oslo.
func Parse(expression, zone string) (Cron, error) {
	expression = strings.TrimSpace(expression)
	if zone == "" {
		zone = "UTC"
	}
	loc, err := time.LoadLocation(zone)
	if err != nil || zone == "Local" {
		return Cron{}, fmt.Errorf("the time zone %q is not known; write it as Europe/Oslo or UTC", zone)
	}
	if len(strings.Fields(expression)) != 5 {
		return Cron{}, fmt.Errorf("%q is not a cron expression; five parts are needed (minute, hour, day, month, weekday), such as 30 5 * * *", expression)
	}
	schedule, err := cron.ParseStandard(expression)
	if err != nil {
		return Cron{}, fmt.Errorf("%q is not a cron expression: %s", expression, err)
	}
	return Cron{schedule, loc}, nil
}

// Next gives the first time after a time; zero when there is none within five
// years. An hour that the clocks skip in spring is passed over.
func (c Cron) Next(after time.Time) time.Time { return c.schedule.Next(after.In(c.zone)) }

// Times gives the next n times.
func (c Cron) Times(after time.Time, n int) []time.Time {
	out := make([]time.Time, 0, n)
	for len(out) < n {
		after = c.Next(after)
		if after.IsZero() {
			break
		}
		out = append(out, after)
	}
	return out
}
