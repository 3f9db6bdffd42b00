package heat

import "slices"

// A Verdict is what a person says an alarm was, as it is acknowledged; empty: that it was seen.
type Verdict string

// The verdicts.
const (
	Sound Verdict = "sound" // nothing was wrong
	Fault Verdict = "fault" // something was
)

// Said is what a person has said of an alarm, for persons; empty while it waits.
func (a Alarm) Said() string {
	if a.Acknowledged.IsZero() {
		return ""
	}
	said := "seen"
	switch a.Verdict {
	case Sound:
		said = "nothing was wrong"
	case Fault:
		said = "a fault"
	}
	if a.Reason != "" {
		said += ": " + a.Reason
	}
	return said
}

const (
	mostAllowed = 1.5 // of what a guard calls wrong, that a person's word makes ordinary at the most
	allowedMore = 1.2 // times as much as what was said to be nothing, that is wrong then
)

// Told takes what a person says of the last alarm that a guard has raised. What was nothing is
// ordinary from then on, as far as it came, and the guard is on trial again; a fault leaves it
// what it had earned, and counts for it.
func (g *Guard) Told(name GuardName, v Verdict) {
	s := g.Standing(name)
	switch v {
	case Sound:
		s.Sound++
		s.Quiet, s.Had, s.coming, s.proved = 0, 0, false, false
		s.Allowed = min(max(s.Allowed, 1, g.reach(name)), mostAllowed)
	case Fault:
		s.Faults++
		s.Quiet, s.Had = max(s.Quiet, s.Had)+earnings[0].after.Seconds(), 0
		s.proved = s.coming
	}
}

// Claims counts an alarm of a guard that judges no reading.
func (g *Guard) Claims(name GuardName) { g.Standing(name).claims() }

// claims counts an alarm, and keeps what was earned before it.
func (s *Standing) claims() {
	s.Claimed++
	s.Had = s.Quiet
}

// reach is how far what a guard has raised last has come, of what it calls wrong.
func (g *Guard) reach(name GuardName) float64 {
	if i := slices.Index(judged[:], name); i >= 0 {
		return g.reached[i]
	}
	return 1
}

// Standing is that of a guard, to be changed.
func (g *Guard) Standing(name GuardName) *Standing {
	if g.Standings == nil {
		g.Standings = map[GuardName]*Standing{}
	}
	s := g.Standings[name]
	if s == nil {
		s = &Standing{}
		g.Standings[name] = s
	}
	return s
}

// allowance is how many times as far as it calls wrong a guard lets a heater go, by what
// persons have said.
func (s *Standing) allowance() float64 {
	if s.Allowed == 0 {
		return 1
	}
	return allowedMore * s.Allowed
}
