package heat

import (
	"fmt"
	"math"
	"time"
)

// bounds are what a kind of heater is judged by before anything is known of it.
type bounds struct {
	stored float64 // K that it may rise without duty, by what its masses hold
	within float64 // s within which it must have risen by that: rooms warm slowly
	rest   float64 // s without duty after which a heater falls, whatever its masses hold
	above  float64 // K above its setpoint at which no firmware heats

	cold      float64 // °C up to which a rise is sure to come
	coldFor   float64 // s of full duty without any rise
	settle    float64 // s of full duty until the rise is there
	rises     float64 // K/s by which a heater of this kind rises at full duty at the least, where it is cold
	pace      float64 // K/s by which a cold heater of this kind comes to its setpoint at full duty at the least
	weakest   float64 // °C that every heater of this kind comes to at full duty, in every room
	slowAfter float64 // s of a warm-up after which its pace is looked at
	slowSure  float64 // and after which one that is far slower is turned off
	expects   float64 // K that it must be expected to rise before it is judged by what it has shown
	sinks     float64 // K by which it falls at full duty
	sinksOver float64 // s in which it must have gone on falling

	low     float64 // K below its setpoint to which a heater that held may fall
	lowFor  float64 // s
	lowSure float64 // s after which it is no cold thing that was laid on it

	window float64 // s over which a jump is looked for
	jump   float64 // K that one may be where nothing is known
	least  float64 // and at the least
	drop   float64 // K that it may fall at the least while its duty does not let up; 0: filament and fan make it fall
	stands float64 // s for which it may read the same at the least
	cools  float64 // s without duty after which it reads less where it is hot, however coarse its steps are
}

var (
	nozzleBounds = bounds{
		stored: 40, within: 120, rest: 90, above: 15, cold: 70, coldFor: 40, settle: 12, rises: 0.5,
		pace: 0.45, weakest: 140, slowAfter: 40, slowSure: 60, expects: 8, sinks: 15, sinksOver: 10,
		low: 14, lowFor: 12, lowSure: 12, window: 6, jump: 45, least: 22, stands: 45, cools: 60,
	}
	bedBounds = bounds{
		stored: 25, within: 600, rest: 900, above: 10, cold: 40, coldFor: 180, settle: 45, rises: 0.15,
		pace: 0.045, weakest: 45, slowAfter: 90, slowSure: 180, expects: 4, sinks: 8, sinksOver: 60,
		low: 8, lowFor: 45, lowSure: 120, window: 12, jump: 20, least: 8, drop: 5, stands: 120, cools: 600,
	}
)

func boundsOf(h Heater) *bounds {
	if _, nozzle := h.Tool(); nozzle {
		return &nozzleBounds
	}
	return &bedBounds
}

// What holds for every heater.
const (
	overLimit    = 12.0  // K above the limit before a heater is too hot: an overshoot is not
	offScaleLow  = -10.0 // °C that an open wire reads as
	offScale     = 60.0  // K above the limit that a shorted one reads as
	fullDutyAt   = 0.95  // of the most duty that a heater was given, that counts as full
	noDutyAt     = 0.02  // duty that counts as none
	provenDuty   = 0.2   // duty that must have been told before one of nought is believed
	leastStored  = 10.0  // K that a heater may always rise without duty
	learnedTimes = 1.6   // as far as ever: what ordinary life has shown may come again, and some more
	unsureTimes  = 1.1   // as much, that is told though nothing can be done
	grewTimes    = 1.4   // as much more as it ever needed
	longTimes    = 5.0   // as long as it ever stood still
	riseShare    = 0.45  // of the slowest rise that it has shown, that must be there
	plainlyHot   = 60.0  // °C above which no room is, and few chambers
	warmest      = 90.0  // °C up to which a room or a chamber may warm what is in it
	beside       = 10.0  // K by which what a hot neighbour warms may read more than the neighbour
	neededDuty   = 0.05  // with which a heater must be hotter than what is about it
	neededFor    = 240.0 // s after which a room may have become so much warmer
	untold       = 60.0  // s without a duty after which the firmware tells none
	stillRises   = 5.0   // K that a heater has risen on after it was turned off, before the printer is halted
	stillAfter   = 8.0   // s
	stillFor     = 600.0 // s for which that is looked at
	learnsAfter  = 300.0 // s without an alarm until what was seen counts as ordinary
	warmUpLeast  = 20.0  // K from where a setpoint was given to it that make a warm-up
	heldUp       = 3.0   // s by which a reading may come late though none is missed
	longSilence  = 8.0   // s without a reading, after which it is not known how far a heater should have risen
	letsUp       = 0.05  // of the duty that counts as letting up
	lowerBy      = 0.5   // K that are another low
	soaksFor     = 2400  // s for which what is cold behind a bed, or on it, takes heat
	laidOn       = 0.35  // of what a bed is warmer than the room, that something cold takes from it within its window
	movedDuty    = 0.3   // by which the duty moves while a reading stands still
	movedShare   = 0.7   // or of itself
	risesLeast   = 2.0   // K that are a rise at all
	mostlySlow   = 0.5   // of how far an ordinary heater of its kind would have risen, below which one is slow
	surelySlow   = 0.4   // of the slowest pace of its kind, below which no heater is

	// SilentFor is how long a heater may be on without a reading.
	SilentFor = 15 * time.Second
)

// A Guard watches one heater from reading to reading. It judges by temperatures,
// duties and setpoints alone, so that a log tells what it would have said.
type Guard struct {
	Heater Heater
	Limit  float64 // highest setpoint, °C
	Growth Growth  // of the duty that it needs; a log does not tell it
	Apart  bool    // the firmware has the heater to itself, as it tunes it: only what is certain without its setpoint is judged
	Experience

	past     []moment
	bursts   burst
	steps    steps
	setpoint float64
	set      float64 // s since which the setpoint holds
	from     float64 // °C at which it was given
	held     bool    // it has been at this setpoint
	odd      int     // readings off the scale in a row
	told     float64 // s when a duty was last told
	needed   float64 // s when it last needed a duty to hold its setpoint; 0: never
	proven   bool    // the firmware has told a duty that was not nought

	low     float64 // s since which it has been too far below; 0: it is not
	lowest  moment  // since then
	dipped  float64 // s when it was last by holdBand below its setpoint
	full    phase   // of full duty
	idle    phase   // of no heat that anyone has asked for
	still   phase   // of one and the same reading
	climb   climbing
	rise    passage
	slow    expectation
	grew    float64 // by how much more it needed in this run
	ago     trail   // temperatures of long before
	cooling map[GuardName]moment
	mild    [len(judged)]bool    // what was raised was only told
	raised  [len(judged)]int     // 0: not; otherwise at which level
	reached [len(judged)]float64 // how far what was raised last came, of what is wrong

	lately  Ways    // what has not become Ways yet
	quietAt float64 // s since which no alarm is raised
}

// The levels at which an alarm is raised: at a higher one it is raised anew.
const (
	unsureLevel  = iota + 1 // it is only told
	sureLevel               // it does what the guard has earned
	certainLevel            // it cannot be anything else
)

// phase is a stretch in which a condition has held without a break.
type phase struct {
	on          bool
	begun       float64 // s
	from        float64 // °C at its beginning
	low, high   float64 // °C since
	least, most float64 // duty since
}

// note lets the phase go on with a reading, or end.
func (p *phase) note(holds bool, now moment) {
	if !holds {
		p.on = false
		return
	}
	if !p.on {
		*p = phase{on: true, begun: now.at, from: now.actual, low: now.actual, high: now.actual, least: now.duty, most: now.duty}
	}
	p.low, p.high = min(p.low, now.actual), max(p.high, now.actual)
	p.least, p.most = min(p.least, now.duty), max(p.most, now.duty)
}

// lasts is how long it has gone on, s.
func (p *phase) lasts(now moment) float64 {
	if !p.on {
		return 0
	}
	return now.at - p.begun
}

// passage is the way through one band of temperature at full duty.
type passage struct {
	on    bool
	band  int
	begun moment
}

// expectation is how far a heater has risen and how far it should have.
type expectation struct {
	on       bool
	begun    float64 // s
	from     float64 // °C
	expected float64 // K
	gap      float64 // s, the longest between two readings: those behind it may have been held up as long
}

// finding is what one guard makes of a reading: how near it is to an alarm, of 1, and
// what to say if it is there.
type finding struct {
	share   float64
	text    func() string
	certain bool // it cannot be anything else, whatever the guard has earned

	doubtful bool // it rests on a duty that is not told, so that only what was earned counts
	unsure   bool // what else could be it is not surely excluded, so that it is only told
	blind    bool // nothing could be told, so that nothing is earned
}

// findings are those of all guards, as they stand in judged.
type findings [len(judged)]finding

// Note takes a reading made at a time, with that time on a clock that never jumps, and
// how hot the hottest of its neighbours is. It returns what is wrong: each thing once,
// until it is over.
func (g *Guard) Note(wall time.Time, at time.Duration, r Reading, around float64) []Alarm {
	if g.cooling == nil {
		g.cooling = map[GuardName]moment{}
	}
	now := moment{at: at.Seconds(), actual: r.Actual, duty: r.Duty}
	passed := 0.0
	if n := len(g.past); n > 0 {
		passed = now.at - g.past[n-1].at
	}
	if passed < 0 || passed > fullRate.Seconds() {
		g.lose()
		passed = 0
	}
	if g.bursts.goesOn(now.at) {
		g.together()
	}
	if r.HasSetpoint && r.Setpoint != g.setpoint {
		g.lately.Grew, g.grew = max(g.lately.Grew, g.grew), 0 // it was ordinary
		g.setpoint, g.set, g.from, g.held, g.low = r.Setpoint, now.at, r.Actual, false, 0
		g.full.on, g.idle.on, g.still.on, g.slow.on, g.rise.on = false, false, false, false, false
	}
	var found findings
	found[atSensor] = g.offScale(r)
	if g.odd == 0 { // otherwise nothing else can be told from it
		found[atTooHot] = g.tooHot(r)
		if g.Apart {
			g.lose()
		} else {
			g.judge(now, r, passed, around, &found)
		}
	}
	return g.conclude(wall, now, passed, found)
}

// lose drops what is only true of readings without a gap.
func (g *Guard) lose() {
	g.past, g.low, g.held = g.past[:0], 0, false
	if g.raised[atSensor] == 0 { // otherwise it goes on being off the scale
		g.odd = 0
	}
	g.full.on, g.idle.on, g.still.on, g.slow.on, g.rise.on = false, false, false, false, false
	g.ago.clear()
	g.lately = Ways{Most: g.lately.Most}
}

// together drops the reading before, which came together with this one, and what began
// with it.
func (g *Guard) together() {
	g.past = g.past[:max(len(g.past)-1, 0)]
	for _, p := range []*phase{&g.full, &g.idle, &g.still} {
		p.on = p.on && p.begun < g.bursts.began
	}
	g.slow.on = g.slow.on && g.slow.begun < g.bursts.began && g.slow.gap < longSilence
	g.rise.on = g.rise.on && g.rise.begun.at < g.bursts.began
}

// judge lets every guard look at a reading, so many seconds after the last one.
func (g *Guard) judge(now moment, r Reading, passed, around float64, found *findings) {
	b := boundsOf(g.Heater)
	if len(g.past) == history {
		g.past = append(g.past[:0], g.past[1:]...)
	}
	if g.held {
		g.goesBy(g.steps.note(r.Actual))
	}
	if n := len(g.past); !r.HasDuty && n > 0 { // what it was before is the best there is
		now.duty = g.past[n-1].duty
	}
	g.past = append(g.past, now)
	if r.HasDuty {
		g.told = now.at
		g.lately.Most = max(g.lately.Most, r.Duty)
		g.proven = g.proven || g.most() >= provenDuty
	}
	tells := g.proven && now.at-g.told <= untold
	if below := math.Abs(r.Actual - g.setpoint); g.setpoint > 0 && below <= holdBand {
		g.held = true
		if tells && now.duty >= neededDuty {
			g.needed = now.at
		}
	}

	if g.setpoint-now.actual > holdBand {
		g.dipped = now.at
	}
	found[atFalling] = g.falling(b, now)
	found[atJump] = g.jumps(b, now)
	if r.HasDuty || !tells { // a reading without a duty between others says nothing of it
		g.full.note(g.isFull(b, r, tells, now), now)
		g.idle.note(g.isIdle(b, r, tells), now)
	}
	if g.climb.note(now, g.setpoint); g.climb.at == now.at { // also where it was on before it was read
		g.climb.on = g.setpoint > now.actual
	}
	found[atNoRise] = g.noRise(b, now)
	found[atNoRise].doubtful = !tells
	found[atSlowRise] = g.slowRise(b, now, passed, tells)
	found[atRunaway] = g.runaway(b, now, around)
	found[atFrozen] = g.frozen(b, now, r, tells)
	found[atGrowing] = g.grows(now)
	g.ago.note(now, max(b.rest, b.within))
	if g.held && g.from < g.setpoint-holdBand {
		g.lately.Overshoot = max(g.lately.Overshoot, r.Actual-g.setpoint)
	}
}

// goesBy takes the step by which readings go, K, as soon as that is known. By other steps
// they stand still for other times.
func (g *Guard) goesBy(step float64) {
	if step == 0 {
		return
	}
	if otherStep(step, g.Ways.Step) {
		g.Ways.Stand, g.Ways.Moved, g.lately.Stand, g.lately.Moved = 0, 0, 0, 0
		g.Standing(Frozen).Quiet = 0 // its trial begins anew
	}
	g.Ways.Step = step
}

// conclude raises what is new, and keeps how near ordinary life has come.
func (g *Guard) conclude(wall time.Time, now moment, passed float64, found findings) []Alarm {
	var alarms []Alarm
	alarm := false
	if g.setpoint > 0 {
		g.Standing(Silence).Seen += passed // whose readings come
	}
	for i, name := range judged {
		f, s := &found[i], g.Standing(name)
		came := f.share
		if !f.certain && !rules[name].certain {
			f.share /= s.allowance()
		}
		wrong, level := f.share >= 1, 0
		if alarm = alarm || wrong; wrong {
			switch level = sureLevel; {
			case f.certain:
				level = certainLevel
			case f.unsure:
				level = unsureLevel
			}
		}
		if level > g.raised[i] {
			if g.raised[i] == 0 {
				s.claims()
				g.reached[i] = 0
			}
			a := Alarm{Heater: g.Heater, Guard: name, Action: milder(rules[name].action, s.May(name)), Text: f.text()}
			switch {
			case f.certain:
				a.Action = rules[name].action
			case f.doubtful:
				a.Action = milder(a.Action, s.earned())
			case f.unsure:
				a.Action = Tell
			}
			alarms, g.mild[i] = append(alarms, a), a.Action == Tell
			if rules[name].rising && a.Action == CoolOff && s.May(name) == HaltAll {
				g.cooling[name] = now
			}
		}
		if wrong {
			g.reached[i] = max(g.reached[i], came)
		}
		if cooled, ok := g.cooling[name]; ok {
			switch since := now.at - cooled.at; {
			case since > stillFor:
				delete(g.cooling, name)
			case since >= stillAfter && now.actual >= cooled.actual+stillRises:
				alarms = append(alarms, Alarm{Heater: g.Heater, Guard: name, Action: HaltAll, Text: fmt.Sprintf("the %s rose from %.0f to %.0f °C after it was turned off: switch the printer off at its plug", g.Heater, cooled.actual, now.actual)})
				delete(g.cooling, name)
			}
		}
		// What did something may do it again as soon as it has gone back; what was only
		// told is over when nothing is near.
		if g.raised[i] = max(g.raised[i], level); !wrong && (!g.mild[i] || f.share < near) {
			g.raised[i] = 0
		}
		s.Note(wall, passed, f.share, g.setpoint > 0 && !f.blind)
	}
	switch {
	case alarm:
		g.quietAt, g.lately, g.grew = now.at, Ways{Most: g.lately.Most}, 0
	case now.at-g.quietAt >= learnsAfter:
		g.Ways, g.lately, g.quietAt = g.Ways.with(g.lately), Ways{}, now.at
	}
	return alarms
}

// trail is how hot the heater was over a long time, in steps of a share of it.
type trail struct {
	steps [16]struct {
		at       float64
		low, was float64
	}
	n int
}

func (t *trail) clear() { t.n = 0 }

// note takes a reading into a trail of some seconds.
func (t *trail) note(now moment, seconds float64) {
	step := seconds / float64(len(t.steps)-2)
	if t.n > 0 && now.at-t.steps[t.n-1].at < step {
		t.steps[t.n-1].low = min(t.steps[t.n-1].low, now.actual)
		return
	}
	if t.n == len(t.steps) {
		copy(t.steps[:], t.steps[1:])
		t.n--
	}
	t.steps[t.n].at, t.steps[t.n].low, t.steps[t.n].was = now.at, now.actual, now.actual
	t.n++
}

// before is the temperature so many seconds before a reading, or a little earlier, and how
// long ago that was, s.
func (t *trail) before(now moment, seconds float64) (then, ago float64, ok bool) {
	for i := t.n - 1; i >= 0; i-- {
		if ago := now.at - t.steps[i].at; ago >= seconds {
			return t.steps[i].was, ago, true
		}
	}
	return 0, 0, false
}

// lowest is the lowest temperature of so many seconds before a reading.
func (t *trail) lowest(now moment, seconds float64) (float64, bool) {
	low := math.Inf(1)
	for i := t.n - 1; i >= 0 && now.at-t.steps[i].at <= seconds; i-- {
		low = min(low, t.steps[i].low)
	}
	return low, !math.IsInf(low, 1)
}
