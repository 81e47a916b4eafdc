package expiry

import (
	"errors"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 23, 9, 30, 0, 0, time.FixedZone("", 3600))

func TestEnd(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		text, want string
		err        error
	}{
		{"2026-11-23", "2026-11-23T23:59:59+01:00", nil},
		{"2027-03-31", "2027-03-31T23:59:59+01:00", nil},
		{"90d", "2027-02-21T09:30:00+01:00", nil},
		{"2w", "2026-12-07T09:30:00+01:00", nil},
		{"1y", "2027-11-23T09:30:00+01:00", nil},
		{"2026-11-22", "", ErrPast}, {"0d", "", ErrPast},
		{"", "", ErrForm}, {"d", "", ErrForm}, {"90", "", ErrForm}, {"-3d", "", ErrForm}, {"3dd", "", ErrForm},
		{"d3", "", ErrForm},
		{"90 d", "", ErrForm}, {"3m", "", ErrForm}, {"2026-02-30", "", ErrForm}, {"31.12.2026", "", ErrForm},
		{"999999999999y", "", ErrForm}, {"1000y", "", ErrForm},
	} {
		got, err := End(row.text, now)
		if !errors.Is(err, row.err) || (err == nil && got.Format(time.RFC3339) != row.want) {
			t.Errorf("%q: %s, %v; want %s, %v", row.text, got.Format(time.RFC3339), err, row.want, row.err)
		}
	}
}

func FuzzEnd(f *testing.F) {
	for _, text := range []string{"90d", "1y", "2027-03-31", "", "9999-12-31"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		end, err := End(text, now)
		if err == nil && end.Before(now) {
			t.Errorf("%q ends before it begins: %s", text, end)
		}
		if err != nil && !errors.Is(err, ErrForm) && !errors.Is(err, ErrPast) {
			t.Errorf("%q: %v", text, err)
		}
	})
}
