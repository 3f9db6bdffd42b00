package heat

import (
	"fmt"
	"math"
	"time"
)

// GuardName names a rule by which a heater is watched.
type GuardName string

// The guards. docs/heat.md says of each what it looks at and why.
const (
	NoRise  GuardName = "no-rise" // full duty without a rise
	Falling GuardName = "falling" // falls away while it should hold
	TooHot  GuardName = "too-hot" // above the printer's limit
	Runaway GuardName = "runaway" // rises and nobody heats it
	Jump    GuardName = "jump"    // changes as no heater can
	Sensor  GuardName = "sensor"  // the sensor's wire is open or shorted
	Silence GuardName = "silence" // no readings while it heats
	Unused  GuardName = "unused"  // on, and nobody uses it
	NoFlow  GuardName = "no-flow" // filament should flow and carries no heat away
)

// Action is what the host does by itself when a guard raises an alarm.
type Action string

// The actions, from the mildest on.
const (
	Tell    Action = "tell" // a person, and nothing else
	HoldRun Action = "hold" // the run
	CoolOff Action = "cool" // hold the run and turn every heater off
	HaltAll Action = "halt" // the emergency stop
)

// actions is what each guard does.
var actions = map[GuardName]Action{
	NoRise: CoolOff, Falling: HoldRun, TooHot: HaltAll, Runaway: HaltAll, Jump: HoldRun, Sensor: CoolOff, Silence: Tell, Unused: CoolOff,
}

// ActionOf returns what a guard's alarm does by itself.
func ActionOf(g GuardName) Action { return actions[g] }

// An Alarm is what a guard has found.
type Alarm struct {
	ID     string // the host's
	At     time.Time
	Heater Heater
	Guard  GuardName
	Action Action
	Text   string // what was seen, what was expected, what to look at

	Acknowledged time.Time // by a person; zero: not yet
	By           string    // who that was
}

// The guards' fixed bounds: what holds where nothing has been learned, and
// whatever has been learned.
const (
	overLimit    = 12.0             // K above the limit before a heater is too hot: an overshoot is not
	offScaleLow  = -10.0            // °C that an open wire reads as
	offScale     = 60.0             // K above the limit that a shorted one reads as
	fallBand     = 7.0              // K below its setpoint to which a heater that held may fall
	fallFor      = 8 * time.Second  // for so long
	jumpLeast    = 15.0             // K between two readings that may happen
	fullDutyAt   = 0.95             // duty that counts as full
	strangeFor   = 8.0              // s over which heat that nobody gives is added up, at least
	strangeShare = 0.45             // of what full duty would give, that it must be
	overshot     = 8.0              // K above its setpoint that a heater does not get by itself
	fallLeast    = 4.0              // K that it must be expected to fall there without duty, before that is judged
	fallShare    = 0.3              // of which it must fall
	noDutyAt     = 0.02             // duty that counts as none
	riseShare    = 0.3              // of the expected rise that must be there
	riseLeast    = 4.0              // K that must be expected before it is judged
	spareShare   = 0.25             // of the heat given that the expected rise must be: near full duty a little more loss is no fault
	coldFor      = 25 * time.Second // at full duty before a nozzle is judged that nothing is known of; a bed gets three times that
	coldRise     = 2.0              // K that it must have risen by then

	// SilentFor is how long a heater may be on without a reading.
	SilentFor = 15 * time.Second
)

// A Guard watches one heater from reading to reading.
type Guard struct {
	Heater Heater
	Limit  float64 // highest setpoint, °C

	past     []moment
	setpoint float64
	since    float64 // s since which the setpoint holds
	held     bool    // it has been at this setpoint
	low      float64 // s since which it has been too far below; 0: it is not
	odd      int     // readings off the scale in a row
	raised   map[GuardName]bool
}

// Note takes a reading at a time on a clock that never jumps, and returns what is
// wrong: each thing once, until it is over.
func (g *Guard) Note(at time.Duration, r Reading, m Model, c Conditions) []Alarm {
	if g.raised == nil {
		g.raised = map[GuardName]bool{}
	}
	now := moment{at.Seconds(), r.Actual, r.Duty, c}
	if n := len(g.past); n > 0 && (now.at <= g.past[n-1].at || now.at-g.past[n-1].at > fullRate.Seconds()) {
		g.past, g.low, g.odd = g.past[:0], 0, 0
	}
	if r.HasSetpoint && r.Setpoint != g.setpoint {
		g.setpoint, g.since, g.held, g.low = r.Setpoint, now.at, false, 0
		g.raised[Falling], g.raised[NoRise] = false, false
	}
	g.held = g.held || g.setpoint > 0 && math.Abs(r.Actual-g.setpoint) <= holdBand
	var alarms []Alarm
	judge := func(name GuardName, wrong bool, text func() string) {
		if wrong && !g.raised[name] {
			alarms = append(alarms, Alarm{Heater: g.Heater, Guard: name, Action: ActionOf(name), Text: text()})
		}
		g.raised[name] = wrong
	}

	if r.Actual < offScaleLow || r.Actual > g.Limit+offScale {
		g.odd++
	} else {
		g.odd = 0
	}
	judge(Sensor, g.odd >= 2, func() string {
		return fmt.Sprintf("the %s reads %.0f °C, which its sensor says when its wire is open or shorted: look at the plug and the wire", g.Heater, r.Actual)
	})
	if g.odd > 0 { // nothing else can be told from it
		return alarms
	}
	judge(TooHot, r.Actual > g.Limit+overLimit, func() string {
		return fmt.Sprintf("the %s is at %.0f °C and its limit is %g °C: switch the printer off at its plug", g.Heater, r.Actual, g.Limit)
	})
	if n := len(g.past); n > 0 {
		last := g.past[n-1]
		most := jumpLeast + max(now.at-last.at, 1)*max(3*m.Rise, 6) // readings that were held up come in a bunch
		change := r.Actual - last.actual
		judge(Jump, math.Abs(change) > most, func() string {
			return fmt.Sprintf("the %s went from %.0f to %.0f °C in %.0f s, which no heater does: is its sensor loose?", g.Heater, last.actual, r.Actual, now.at-last.at)
		})
		if math.Abs(change) > most { // what was before tells nothing about what comes
			g.past, g.held = g.past[:0], false
		}
	}
	if len(g.past) == history {
		g.past = append(g.past[:0], g.past[1:]...)
	}
	g.past = append(g.past, now)

	if below := g.setpoint - r.Actual; g.held && g.setpoint > 0 && below > g.fallBand(m, c) {
		if g.low == 0 {
			g.low = now.at
		}
		judge(Falling, now.at-g.low >= fallFor.Seconds(), func() string {
			return fmt.Sprintf("the %s has fallen to %.0f °C and should hold %g °C (duty %.0f %%): is its heater or its sensor loose, or a fan blowing at it?", g.Heater, r.Actual, g.setpoint, 100*r.Duty)
		})
	} else {
		g.low = 0
		judge(Falling, false, nil)
	}
	if r.HasDuty {
		g.judgeRise(m, judge)
		g.judgeRunaway(m, judge)
	}
	return alarms
}

// fallBand is how far below its setpoint a heater may be, in K: more where it is
// known to have little power to spare.
func (g *Guard) fallBand(m Model, c Conditions) float64 {
	if m.Known() && m.Holding(g.setpoint, c) > 0.9 {
		return 2 * fallBand
	}
	return fallBand
}

// at returns the first of the readings not older than so many seconds, if there
// are that many.
func (g *Guard) before(seconds float64) (moment, int, bool) {
	end := g.past[len(g.past)-1].at
	for i, m := range g.past {
		if end-m.at <= seconds {
			return m, i, i > 0
		}
	}
	return moment{}, 0, false
}

// lasting is for how many seconds a condition has held without a break.
func (g *Guard) lasting(holds func(moment) bool) float64 {
	end := g.past[len(g.past)-1].at
	from := end
	for i := len(g.past) - 1; i >= 0 && holds(g.past[i]); i-- {
		from = g.past[i].at
	}
	return end - from
}

// judgeRise compares the rise at full duty with what the model expects, or with
// fixed bounds.
func (g *Guard) judgeRise(m Model, judge func(GuardName, bool, func() string)) {
	full := g.lasting(func(x moment) bool { return x.duty >= fullDutyAt })
	last := g.past[len(g.past)-1]
	if g.setpoint-last.actual < holdBand || full == 0 {
		judge(NoRise, false, nil)
		return
	}
	if !m.Known() {
		wait := coldFor.Seconds()
		if _, nozzle := g.Heater.Tool(); !nozzle {
			wait *= 3
		}
		from, _, ok := g.before(wait)
		judge(NoRise, ok && full >= wait && last.actual-from.actual < coldRise, func() string {
			return fmt.Sprintf("the %s has had full duty for %.0f s and rose by %.1f K: is its heater connected, and its sensor in its place?", g.Heater, full, last.actual-from.actual)
		})
		return
	}
	settled := 3*m.Dead.Seconds() + 3 // until the rise is there
	from, i, ok := g.before(full - settled)
	if !ok || full <= settled {
		judge(NoRise, false, nil)
		return
	}
	expected, given := 0.0, (last.at-from.at)*m.Rise
	for ; i+1 < len(g.past); i++ {
		a, b := g.past[i], g.past[i+1]
		expected += (b.at - a.at) * max(m.Rise-m.lost(a.actual, b.conditions), 0)
	}
	rose := last.actual - from.actual
	judge(NoRise, expected >= riseLeast && expected >= spareShare*given && rose < riseShare*expected, func() string {
		return fmt.Sprintf("the %s has had full duty for %.0f s and rose by %.1f K, where it usually rises by %.0f K: is its heater connected, and its sensor in its place?", g.Heater, full, max(rose, 0), expected)
	})
}

// judgeRunaway looks for heat that nobody gives: where the model is known, more of
// a rise than the duty accounts for; otherwise a rise without any duty.
func (g *Guard) judgeRunaway(m Model, judge func(GuardName, bool, func() string)) {
	last := g.past[len(g.past)-1]
	tell := func(from moment, why string) func() string {
		return func() string {
			return fmt.Sprintf("the %s went from %.0f to %.0f °C in %.0f s %s: its switch may be stuck. Switch the printer off at its plug", g.Heater, from.actual, last.actual, last.at-from.at, why)
		}
	}
	if !m.Seasoned() {
		rise, dead := 1.0, 6.0
		if _, nozzle := g.Heater.Tool(); !nozzle {
			rise, dead = 0.25, 15
		}
		window := min(max(3/rise, 5), 20)
		off := g.lasting(func(x moment) bool { return x.duty <= noDutyAt })
		from, _, ok := g.before(window)
		judge(Runaway, ok && off >= 2*dead+4+window && last.actual-from.actual >= max(0.4*rise*window, 1.5), tell(from, "without any duty"))
		return
	}
	dead := m.Dead.Seconds()
	window := max(strangeFor, 2*dead)
	from, i, ok := g.before(window)
	if !ok || from.at-dead < g.past[0].at {
		judge(Runaway, false, nil)
		return
	}
	given, gone := integral(g.past, from.at-dead, last.at-dead), 0.0
	for ; i+1 < len(g.past); i++ {
		a, b := g.past[i], g.past[i+1]
		gone += (b.at - a.at) * m.lost((a.actual+b.actual)/2, b.conditions)
	}
	off := g.lasting(func(x moment) bool { return x.duty <= noDutyAt })
	if off >= 2*dead+window && last.actual > g.setpoint+overshot && gone >= fallLeast && from.actual-last.actual < fallShare*gone {
		judge(Runaway, true, tell(from, fmt.Sprintf("without any duty, where it should have lost %.0f K", gone)))
		return
	}
	explained := m.Rise*given - gone
	strange := last.actual - from.actual - explained
	judge(Runaway, last.actual-from.actual >= 0.2*m.Rise*(last.at-from.at) && strange >= max(strangeShare*m.Rise*(last.at-from.at), 1.5), tell(from, fmt.Sprintf("with %.0f %% duty", 100*given/(last.at-from.at))))
}

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
