// Package lifetime says when something that is held has to be forgotten: by the calendar, or by a
// clock that nobody sets and that counts while the computer sleeps, whichever comes first. A laptop
// that slept over night has forgotten in the morning, and setting the calendar back gains nothing.
package lifetime

import "time"

// A Clock tells both times.
type Clock struct {
	Now    func() time.Time     // the calendar
	Uptime func() time.Duration // since the computer was started, sleep included
}

// System is the clock of this computer, with a calendar of the caller's; nil is the computer's.
func System(now func() time.Time) Clock {
	if now == nil {
		now = time.Now
	}
	return Clock{Now: now, Uptime: uptime}
}

// A Deadline is an instant by both. The zero value has passed.
type Deadline struct {
	calendar time.Time
	uptime   time.Duration
}

// calendar is the time without the clock of the process, which stands still in sleep.
func (c Clock) calendar() time.Time { return c.Now().Round(0) }

// In is the deadline after a time.
func (c Clock) In(d time.Duration) Deadline { return Deadline{c.calendar().Add(d), c.Uptime() + d} }

// Left is how long it is until a deadline, by the clock that gets there first; 0 or less when it
// has passed.
func (c Clock) Left(d Deadline) time.Duration {
	return min(d.calendar.Sub(c.calendar()), d.uptime-c.Uptime())
}

// Passed tells whether a deadline has passed.
func (c Clock) Passed(d Deadline) bool { return c.Left(d) <= 0 }

// Date is when a deadline will pass, as the calendar is now.
func (c Clock) Date(d Deadline) time.Time { return c.calendar().Add(c.Left(d)) }

// Before tells whether this deadline passes before another.
func (c Clock) Before(a, b Deadline) bool { return c.Left(a) < c.Left(b) }
