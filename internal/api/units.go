package api

import "time"

// Moment is a time as the contract tells it; nil: it has not come.
func Moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// Seconds is a duration that the contract tells in seconds.
func Seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
