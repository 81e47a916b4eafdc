package lifetime

import (
	"testing"
	"time"
)

// TestDeadline moves either clock alone, and both.
func TestDeadline(t *testing.T) {
	t.Parallel()
	begin := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for _, row := range []struct {
		name             string
		calendar, uptime time.Duration // by how much they have moved
		left             time.Duration
	}{
		{"at once", 0, 0, time.Hour},
		{"both go on", 59 * time.Minute, 59 * time.Minute, time.Minute},
		{"both have passed it", time.Hour, time.Hour, 0},
		{"the calendar is set back by a year", -365 * 24 * time.Hour, time.Hour, 0},
		{"the calendar is set back a little", -time.Minute, 30 * time.Minute, 30 * time.Minute},
		{"the calendar is set forward", 48 * time.Hour, time.Minute, -47 * time.Hour},
		{"the calendar alone goes on", time.Hour, 0, 0},
	} {
		now, up := begin, 5*time.Hour
		c := Clock{Now: func() time.Time { return now }, Uptime: func() time.Duration { return up }}
		d := c.In(time.Hour)
		now, up = now.Add(row.calendar), up+row.uptime
		if c.Left(d) != row.left || c.Passed(d) != (row.left <= 0) || !c.Date(d).Equal(now.Add(row.left)) {
			t.Errorf("%s: %s left, passed %v", row.name, c.Left(d), c.Passed(d))
		}
		if !c.Before(d, c.In(2*time.Hour+row.left)) || c.Before(c.In(2*time.Hour+row.left), d) {
			t.Errorf("%s: the order", row.name)
		}
	}
	if c := System(nil); !c.Passed(Deadline{}) || c.Passed(c.In(time.Hour)) || c.Uptime() <= 0 {
		t.Error("the computer's clock")
	}
}
