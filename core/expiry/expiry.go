// Package expiry reads the ends that people give: a day, or a time from now.
package expiry

import (
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/fault"
)

// Reasons for which [End] does not accept an end, for errors.Is.
var (
	ErrForm = fault.New("date-form", fault.Misused, "an end is a day such as 2027-03-31, or a time from now such as 90d, 12w or 1y")
	ErrPast = fault.New("date-past", fault.Misused, "an expiry date is in the future")
)

// furthest bounds a time from now, in days: a key for a century is one without an end.
const furthest = 36525

// day is the layout of a day (RFC 3339, full-date).
const day = "2006-01-02"

// End reads an end. A day is meant to its last second, in the time zone of now.
func End(text string, now time.Time) (time.Time, error) {
	if date, err := time.ParseInLocation(day, text, now.Location()); err == nil {
		end := date.AddDate(0, 0, 1).Add(-time.Second)
		if end.Before(now) {
			return time.Time{}, ErrPast
		}
		return end, nil
	}
	number, unit := strings.TrimRight(text, "dwmy"), strings.TrimLeft(text, "0123456789")
	n, err := strconv.Atoi(number)
	days, known := map[string]int{"d": 1, "w": 7, "y": 365}[unit]
	if err != nil || !known || n > furthest/days {
		return time.Time{}, ErrForm
	}
	if n == 0 {
		return time.Time{}, ErrPast
	}
	if unit == "y" { // the same day of another year
		return now.AddDate(n, 0, 0).Truncate(time.Second), nil
	}
	return now.AddDate(0, 0, n*days).Truncate(time.Second), nil
}
