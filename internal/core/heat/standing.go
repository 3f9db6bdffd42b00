package heat

import "time"

// A Standing is what a guard of one heater may do by itself, and why: it is on trial,
// and only tells, until this very heater has been on for long enough without coming
// near what the guard would call wrong.
type Standing struct {
	Quiet     float64   // s that the heater was on since something came near
	Closest   float64   // how near ordinary life has come to an alarm, of 1
	ClosestAt time.Time // when that was; zero: never
	Fixed     Action    // what a keeper lets it do at the most; empty: what it has earned

	Seen    float64 // s that it has watched the heater while it was on
	Claimed int     // alarms that it has raised
	Sound   int     // of them that a person said were nothing
	Faults  int     // and that a person said were faults
	Allowed float64 // how far the furthest of those that were nothing came, of what it calls wrong; 0: none
	Had     float64 // Quiet, as it last raised an alarm

	coming bool    // something is near; its trial begins anew when that is over, so that an alarm finds what was earned before
	proved bool    // what is near is a fault, so that it does not
	calm   float64 // s since it was near
}

// near is the share of an alarm from which on a guard begins its trial anew.
const near = 0.7

// calmAfter is for how long nothing must be near until what was near is over, s.
const calmAfter = 600.0

// earnings are how long a heater must have been on without coming near before a guard
// of it may do more than tell.
var earnings = []struct {
	after  time.Duration
	action Action
}{{10 * time.Hour, HoldRun}, {20 * time.Hour, CoolOff}, {50 * time.Hour, HaltAll}}

// Note takes how near to an alarm a reading has come, some seconds after the last
// one, and whether the heater was on.
func (s *Standing) Note(wall time.Time, seconds, share float64, on bool) {
	if share > s.Closest {
		s.Closest, s.ClosestAt = min(share, 1), wall
	}
	if on {
		s.Seen += seconds
	}
	switch {
	case share >= near:
		s.coming, s.calm = true, 0
	case s.coming: // what comes near and goes back a little may come again, and be it
		if s.calm += seconds; s.calm >= calmAfter {
			if !s.proved {
				s.Quiet = 0
			}
			s.coming, s.proved = false, false
		}
	case on:
		s.Quiet += seconds
	}
}

// May is the most that the guard may do by itself, of what it does at all.
func (s Standing) May(g GuardName) Action {
	most := Most(g)
	if rules[g].certain {
		return most
	}
	return milder(most, s.earned())
}

// earned is what a guard that needs a trial may do, if it does so much.
func (s Standing) earned() Action {
	if s.Fixed != "" {
		return s.Fixed
	}
	allowed := Tell
	for _, e := range earnings {
		if s.Quiet >= e.after.Seconds() {
			allowed = e.action
		}
	}
	return allowed
}

// Next is how long the heater must still be on without coming near until the guard
// may do more, and what; zero and what it may do now if that is all.
func (s Standing) Next(g GuardName) (time.Duration, Action) {
	may := s.May(g)
	if s.Fixed != "" || rules[g].certain || may == Most(g) {
		return 0, may
	}
	for _, e := range earnings {
		if left := e.after - inSeconds(s.Quiet); left > 0 {
			return left, milder(Most(g), e.action)
		}
	}
	return 0, may
}

// Actions lists what a guard may do, the mildest first.
func Actions() []Action { return []Action{Tell, HoldRun, CoolOff, HaltAll} }

// milder returns the milder of two actions.
func milder(a, b Action) Action {
	for _, x := range Actions() {
		if a == x || b == x {
			return x
		}
	}
	return Tell
}
