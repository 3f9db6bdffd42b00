package heat

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// EpisodeKind tells what an Episode is about.
type EpisodeKind string

// The kinds of episode.
const (
	WarmingUp EpisodeKind = "warm-up" // from switching on to the setpoint
	HoldingOn EpisodeKind = "hold"    // up to an hour at it
)

// An Episode is what one warm-up, or one hour of holding, tells of a heater's
// health.
type Episode struct {
	Heater   Heater
	Kind     EpisodeKind
	At       time.Time // when it began
	Took     time.Duration
	Setpoint float64 // °C
	From     float64 // °C at its beginning
	// Of a warm-up:
	Rise      float64 // K/s at full duty, what the room takes put back: the same at any ambient; 0 where the heater was not known
	Overshoot float64 // K above the setpoint in the minutes after
	// Of holding:
	Duty   float64 // mean, 0 to 1
	Ripple float64 // standard deviation of the temperature, K
}

// A Checkup finds episodes in a heater's readings.
type Checkup struct {
	Heater Heater

	setpoint float64
	begun    time.Time
	mono     time.Duration
	from     float64
	last     moment
	given    float64 // duty at near full power, s
	seconds  float64 // of it
	gained   float64 // K over the same stretch, and what the room took meanwhile
	rising   bool
	known    bool // the model, when it began
	there    bool
	episode  Episode // the warm-up that is waiting for its overshoot
	waiting  bool
	hold     tally
}

// tally adds up an hour of holding.
type tally struct {
	at            time.Time
	from          time.Duration
	n             float64
	sum, sq, duty float64
}

// overshootFor is how long after its end a warm-up's overshoot is looked for, and
// holdFor how long an hour of holding is; a stretch of at least holdLeast counts.
const (
	overshootFor = 3 * time.Minute
	holdFor      = time.Hour
	holdLeast    = 10 * time.Minute
)

// Note takes a reading made at a time, with that time on a clock that never
// jumps, and returns the episodes that it brings to an end.
func (c *Checkup) Note(wall time.Time, at time.Duration, r Reading, m Model, k Conditions) []Episode {
	var out []Episode
	now := moment{at.Seconds(), r.Actual, r.Duty, k}
	lost := c.last.at > 0 && now.at-c.last.at > fullRate.Seconds()
	if r.Setpoint != c.setpoint || lost {
		out = c.end(out, at)
		c.setpoint, c.begun, c.mono, c.from = r.Setpoint, wall, at, r.Actual
		c.rising = !lost && r.Setpoint > r.Actual+20
		c.there, c.given, c.seconds, c.gained = false, 0, 0, 0
		c.known = m.Known()
		c.last = now
		return out
	}
	defer func() { c.last = now }()
	if r.Setpoint <= 0 {
		return out
	}
	dt := now.at - c.last.at
	dead := max(2*m.Dead.Seconds(), 6)
	if c.rising && !c.there && r.Duty >= fullDutyAt && at-c.mono > inSeconds(dead) {
		c.seconds += dt
		c.given += dt * r.Duty
		c.gained += r.Actual - c.last.actual + dt*m.lost(r.Actual, k)
	}
	if !c.there && math.Abs(r.Actual-c.setpoint) <= holdBand {
		c.there = true
		if c.rising && c.seconds > 5 {
			c.waiting = true
			c.episode = Episode{Heater: c.Heater, Kind: WarmingUp, At: c.begun, Took: at - c.mono, Setpoint: c.setpoint, From: c.from}
			if c.known { // otherwise the room's share of it could not be told
				c.episode.Rise = c.gained / c.given
			}
		}
		c.hold = tally{at: wall.Add(overshootFor), from: at + overshootFor}
	}
	if c.waiting {
		c.episode.Overshoot = max(c.episode.Overshoot, r.Actual-c.setpoint)
		if at-c.mono-c.episode.Took >= overshootFor {
			out, c.waiting = append(out, c.episode), false
		}
	}
	if c.there && at >= c.hold.from {
		c.hold.n++
		off := r.Actual - c.setpoint
		c.hold.sum, c.hold.sq, c.hold.duty = c.hold.sum+off, c.hold.sq+off*off, c.hold.duty+r.Duty
		if at-c.hold.from >= holdFor {
			out = c.endHold(out, at)
			c.hold = tally{at: wall, from: at}
		}
	}
	return out
}

// end closes what goes on as the setpoint changes.
func (c *Checkup) end(out []Episode, at time.Duration) []Episode {
	if c.waiting {
		out, c.waiting = append(out, c.episode), false
	}
	if c.there {
		out = c.endHold(out, at)
	}
	return out
}

func (c *Checkup) endHold(out []Episode, at time.Duration) []Episode {
	h := c.hold
	if h.n < 2 || at-h.from < holdLeast {
		return out
	}
	mean := h.sum / h.n
	return append(out, Episode{
		Heater: c.Heater, Kind: HoldingOn, At: h.at, Took: at - h.from, Setpoint: c.setpoint, From: c.setpoint + mean,
		Duty: h.duty / h.n, Ripple: math.Sqrt(max(h.sq/h.n-mean*mean, 0)),
	})
}

// Aspect is what of a heater has changed.
type Aspect string

// The aspects.
const (
	RiseTime  Aspect = "rise"
	Overshoot Aspect = "overshoot"
	Ripple    Aspect = "ripple"
	HoldsWith Aspect = "duty" // it takes another duty to hold it
)

// A Finding is a sentence about how a heater has changed.
type Finding struct {
	Heater Heater
	What   Aspect
	Change float64 // as a share of what it was; for overshoot and ripple in K
	Worse  bool
	Text   string
}

// What is compared: the last few episodes with those of some weeks before.
const (
	lately     = 5                   // episodes
	comparable = 3                   // at least as many before
	monthFrom  = 20 * 24 * time.Hour // before now
	monthTo    = 60 * 24 * time.Hour
)

// Findings says what has changed in a heater's episodes, the oldest first, of the
// same heater, by what its model says of this room. Nothing is said of what has
// not changed beyond its own scatter.
func Findings(episodes []Episode, m Model, now time.Time) []Finding {
	var out []Finding
	compare := func(kind EpisodeKind, value func(Episode) float64, tell func(before, after Episode, was, is float64) (Finding, bool)) {
		var before, after []Episode
		for _, e := range episodes {
			if e.Kind == WarmingUp && e.Rise <= 0 {
				continue
			}
			age := now.Sub(e.At)
			if e.Kind == kind && age >= monthFrom && age < monthTo {
				before = append(before, e)
			}
			if e.Kind == kind && age < monthFrom {
				after = append(after, e)
			}
		}
		if len(after) > lately {
			after = after[len(after)-lately:]
		}
		if len(before) < comparable || len(after) < comparable {
			return
		}
		was, scatter := middle(before, value)
		is, _ := middle(after, value)
		if math.Abs(is-was) < 3*scatter/math.Sqrt(float64(len(after))) {
			return
		}
		if f, worth := tell(before[len(before)-1], after[len(after)-1], was, is); worth {
			f.Heater = after[0].Heater
			out = append(out, f)
		}
	}
	compare(WarmingUp, func(e Episode) float64 { return e.Rise }, func(_, e Episode, was, is float64) (Finding, bool) {
		slow, ok := m.atRise(was).reaching(m.Ambient, e.Setpoint)
		slower, still := m.atRise(is).reaching(m.Ambient, e.Setpoint)
		if !ok || !still {
			return Finding{}, false
		}
		change := float64(slower)/float64(slow) - 1
		f := Finding{What: RiseTime, Change: change, Worse: change > 0}
		word := "longer"
		if change < 0 {
			word = "less long"
		}
		f.Text = fmt.Sprintf("the %s takes %.0f %% %s to %g °C than a month ago at the same ambient (%.0f s instead of %.0f)", e.Heater, 100*math.Abs(change), word, e.Setpoint, slower.Seconds(), slow.Seconds())
		if f.Worse {
			f.Text += ". Look at its connections, its element and the supply"
		}
		f.Text += "."
		return f, math.Abs(change) >= 0.08
	})
	compare(WarmingUp, func(e Episode) float64 { return e.Overshoot }, func(_, e Episode, was, is float64) (Finding, bool) {
		return Finding{What: Overshoot, Change: is - was, Worse: is > was, Text: fmt.Sprintf("the %s goes %.1f K beyond its setpoint at the end of a warm-up, and went %.1f K a month ago. Tune its PID.", e.Heater, is, was)}, math.Abs(is-was) >= 1.5
	})
	compare(HoldingOn, func(e Episode) float64 { return e.Ripple }, func(_, e Episode, was, is float64) (Finding, bool) {
		return Finding{What: Ripple, Change: is - was, Worse: is > was, Text: fmt.Sprintf("the %s swings by %.2f K about its setpoint, and swung by %.2f K a month ago. Is its sensor tight, and its PID tuned?", e.Heater, is, was)}, is > 1.5*was && is-was >= 0.3
	})
	compare(HoldingOn, func(e Episode) float64 { return e.Duty / max(e.Setpoint-m.Ambient, 5) }, func(_, e Episode, was, is float64) (Finding, bool) {
		change := is/was - 1
		word := "more"
		if change < 0 {
			word = "less"
		}
		return Finding{What: HoldsWith, Change: change, Worse: change > 0, Text: fmt.Sprintf("holding the %s at its setpoint takes %.0f %% %s duty than a month ago. Has its insulation, the room or its element changed?", e.Heater, 100*math.Abs(change), word)}, math.Abs(change) >= 0.12
	})
	return out
}

// atRise is the model with another rise at full duty.
func (m Model) atRise(rise float64) Model {
	m.Rise = rise
	return m
}

// reaching is how long full duty takes from one temperature to another.
func (m Model) reaching(from, to float64) (time.Duration, bool) {
	top := m.Ambient + m.Gain()
	if m.Loss <= 0 || top <= to || from >= to {
		return 0, false
	}
	return m.Dead + inSeconds(math.Log((top-from)/(top-to))/m.Loss), true
}

// middle is the median of a value and its scatter: 1.48 times the median distance
// from it, which is a standard deviation that outliers do not move.
func middle(episodes []Episode, value func(Episode) float64) (median, scatter float64) {
	values := make([]float64, len(episodes))
	for i, e := range episodes {
		values[i] = value(e)
	}
	slices.Sort(values)
	median = values[len(values)/2]
	for i := range values {
		values[i] = math.Abs(values[i] - median)
	}
	slices.Sort(values)
	return median, 1.48 * values[len(values)/2]
}
