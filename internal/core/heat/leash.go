package heat

import "time"

// A Leash finds heaters that are on while nobody uses them.
type Leash struct {
	After time.Duration // for so long; 0: for ever
	since time.Duration
	used  bool
	told  bool
}

// LeashWarning is how long before its end a person is told.
const LeashWarning = 5 * time.Minute

// Look says, at a time, whether a person should be warned now and whether the
// heaters should be turned off now. In use means that a run or a soak goes on or
// that a person has just done something.
func (l *Leash) Look(now time.Duration, on, inUse bool) (warn, off bool) {
	if !on || inUse || l.After <= 0 {
		l.used, l.told = false, false
		return false, false
	}
	if !l.used {
		l.used, l.since = true, now
	}
	left := l.After - (now - l.since)
	switch {
	case left <= 0:
		l.used, l.told = false, false
		return false, true
	case left <= LeashWarning && !l.told:
		l.told = true
		return true, false
	}
	return false, false
}
