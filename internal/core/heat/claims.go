package heat

import (
	"fmt"
	"math"
)

// most is the most duty that the heater was given.
func (g *Guard) most() float64 { return max(g.Ways.Most, g.lately.Most) }

// isFull reports whether the heater is given all that it is ever given: where the
// duty is told by that, otherwise because it is far below its setpoint.
func (g *Guard) isFull(b *bounds, r Reading, tells bool, now moment) bool {
	if g.setpoint <= 0 {
		return false
	}
	if tells {
		return r.Duty >= fullDutyAt*g.most() && g.setpoint-r.Actual > holdBand
	}
	return g.setpoint-r.Actual > b.low && now.at-g.set > 3
}

// isIdle reports whether no firmware heats it: it is off, or above its setpoint and
// its duty is nought, or, where no duty is told, beyond all overshoot that it has
// shown.
func (g *Guard) isIdle(b *bounds, r Reading, tells bool) bool {
	if tells {
		return r.Duty <= noDutyAt && (g.setpoint <= 0 || r.Actual > g.setpoint+holdBand)
	}
	return g.setpoint <= 0 || r.Actual > g.setpoint+max(b.above, learnedTimes*g.Ways.Overshoot)
}

func (g *Guard) offScale(r Reading) finding {
	if r.Actual < offScaleLow || r.Actual > g.Limit+offScale {
		g.odd++
	} else {
		g.odd = 0
	}
	return finding{share: float64(g.odd) / 2, text: func() string {
		return fmt.Sprintf("the %s reads %.0f °C, which its sensor says when its wire is open or shorted: look at the plug and the wire", g.Heater, r.Actual)
	}}
}

func (g *Guard) tooHot(r Reading) finding {
	return finding{share: (r.Actual - g.Limit) / overLimit, text: func() string {
		return fmt.Sprintf("the %s is at %.0f °C and its limit is %g °C", g.Heater, r.Actual, g.Limit)
	}}
}

// falling claims that a heater that has held its setpoint does not hold it any more.
func (g *Guard) falling(b *bounds, now moment) finding {
	below := g.setpoint - now.actual
	switch {
	case !g.held || g.setpoint <= 0:
		g.low = 0
		return finding{}
	case below < near*b.low:
		g.low = 0
		return finding{share: below / b.low}
	}
	if g.low == 0 {
		g.low, g.lowest = now.at, now
	}
	if now.actual <= g.lowest.actual-lowerBy {
		g.lowest = now
	}
	// What rises again has a heater that works: something cold was laid on it.
	recovers := now.actual >= g.lowest.actual+2*lowerBy
	return finding{
		unsure: recovers || now.at-g.low < b.lowSure,
		share:  min(below/b.low, max((now.at-g.low)/b.lowFor, 0.5)),
		text: func() string {
			return fmt.Sprintf("the %s has fallen to %.0f °C and should hold %g °C: is its heater or its sensor loose, or a fan blowing at it?", g.Heater, now.actual, g.setpoint)
		},
	}
}

// jumps claims that the reading changed as this heater never has, over a window that
// is long enough for readings that were held up.
func (g *Guard) jumps(b *bounds, now moment) finding {
	then, gap := now, 0.0
	for i := len(g.past) - 1; i >= 0 && now.at-g.past[i].at <= b.window; i-- {
		gap = max(gap, then.at-g.past[i].at)
		then = g.past[i]
	}
	change := now.actual - then.actual
	size, most, certain := math.Abs(change), 2*b.jump, false
	if change < 0 {
		most = b.jump
		_, nozzle := g.Heater.Tool()
		certain = nozzle && size >= b.jump && gap <= heldUp // no block loses its heat so fast
		g.lately.Fall = max(g.lately.Fall, size)
		if g.warmed() {
			most = max(learnedTimes*g.Ways.Fall, b.least)
		}
	}
	if dropped := g.dropped(b, now); dropped > 0 {
		g.lately.Drop = max(g.lately.Drop, dropped)
		if bound := max(learnedTimes*g.Ways.Drop, b.drop); g.warmed() && dropped/bound > size/most {
			size, most, then.actual = dropped, bound, now.actual+dropped
		}
	}
	// Readings may have been held up for as long as the gap.
	most *= 1 + max(gap-heldUp, 0)/b.window
	// Nothing falls while it is heated up.
	if g.warms() && g.full.lasts(now) >= b.settle && g.full.high-now.actual > 0 {
		size, most = g.full.high-now.actual, min(most, b.least/3+2)
		then = moment{at: g.full.begun, actual: g.full.high}
	}
	// What is cold and laid on a bed takes so much heat from it in that time, and no more.
	unsure := b.drop > 0 && now.actual < then.actual && size < laidOn*(then.actual-room)
	return finding{share: size / most, certain: certain, unsure: unsure, text: func() string {
		return fmt.Sprintf("the %s went from %.0f to %.0f °C in %.0f s, which it never has: is its sensor loose?", g.Heater, then.actual, now.actual, max(now.at-then.at, 1))
	}}
}

// dropped is by how many K the reading fell within the window while the heater, which
// held its setpoint, was given no less than before: no element cools then.
func (g *Guard) dropped(b *bounds, now moment) float64 {
	if b.drop == 0 || !g.proven || !g.held || g.setpoint <= 0 {
		return 0
	}
	most, least := 0.0, now.duty
	for i := len(g.past) - 1; i >= 0 && now.at-g.past[i].at <= b.window; i-- {
		m := g.past[i]
		if least < m.duty-letsUp {
			break
		}
		least, most = min(least, m.duty), max(most, m.actual-now.actual)
	}
	return most
}

// warms reports whether the heater is on its way to a setpoint that it was given when
// it was far below.
func (g *Guard) warms() bool { return !g.held && g.setpoint > 0 && g.from < g.setpoint-warmUpLeast }

// warmed reports whether the heater has been seen to warm up and to hold.
func (g *Guard) warmed() bool {
	n := 0
	for _, speed := range g.Ways.Slowest {
		if speed > 0 {
			n++
		}
	}
	return n >= 3 && g.Ways.Carry > 0
}

// noRise claims that current does not become heat that the sensor feels: at full duty
// a cold heater does not rise at all, or one that is warm goes on falling.
func (g *Guard) noRise(b *bounds, now moment) finding {
	lasts := g.full.lasts(now)
	if lasts == 0 {
		return finding{}
	}
	if sunk := g.full.high - now.actual; sunk > near*b.sinks {
		if then, ok := g.agoIn(b.sinksOver); ok && lasts >= 2*b.sinksOver && then-now.actual >= 1 && now.actual <= g.full.low+0.5 {
			return finding{share: sunk / b.sinks, text: func() string {
				return fmt.Sprintf("the %s has had full duty for %.0f s and fell by %.0f K: is its heater connected?", g.Heater, lasts, sunk)
			}}
		}
	}
	from, long := g.full.from, min(lasts/b.coldFor, near)
	if then, _, ok := g.ago.before(now, b.coldFor); ok && lasts > b.coldFor {
		from, long = then, 1
	}
	if rose := now.actual - from; from < b.cold && rose < risesLeast {
		return finding{share: long, text: func() string {
			return fmt.Sprintf("the %s has had full duty for %.0f s and rose by %.1f K: is its heater connected, and its sensor in its place?", g.Heater, lasts, max(rose, 0))
		}}
	}
	return finding{}
}

// agoIn is the temperature some seconds ago.
func (g *Guard) agoIn(seconds float64) (float64, bool) {
	end := g.past[len(g.past)-1].at
	for i := len(g.past) - 1; i >= 0; i-- {
		if end-g.past[i].at >= seconds {
			return g.past[i].actual, true
		}
	}
	return 0, false
}

// slowRise claims that the heater rises at full duty far more slowly than it has ever done,
// or than any heater of its kind does.
func (g *Guard) slowRise(b *bounds, now moment, passed float64, tells bool) finding {
	f := g.slower(b, now, passed)
	if other := g.tooSlow(b, now, tells); other.share > f.share {
		return other
	}
	return f
}

// tooSlow claims, also of a heater that was never seen to warm up, that it would take far
// longer to its setpoint at full duty than any heater of its kind, as it rises. A sensor that
// is out of its place feels a share of the heat, and what it reads is soon at its end. So is
// a weak heater near the most that it can: only what reads less than that is judged.
func (g *Guard) tooSlow(b *bounds, now moment, tells bool) finding {
	took, way := now.at-g.climb.at, g.climb.Setpoint-g.climb.Start
	if !tells || !g.climb.on || now.actual > b.weakest || took < b.slowAfter || way < warmUpLeast || g.full.lasts(now) < took-b.settle {
		return finding{}
	}
	rose := now.actual - g.climb.Start
	if rose < risesLeast || rose > mostlySlow*ordinaryOf(g.Heater).rises(took) {
		return finding{}
	}
	left, ok := g.climb.alone(g.Heater, now.actual)
	if !ok { // it has hardly risen
		left = way * took / rose
	}
	pace := way / (took + left)
	s := g.Standing(SlowRise)
	return finding{
		share:   b.pace / pace,
		certain: took >= b.slowSure && pace < surelySlow*b.pace && s.Sound == 0 && s.Fixed == "",
		text: func() string {
			return fmt.Sprintf("the %s has had full duty for %.0f s and rose by %.0f K; as it goes on it would take %.0f min "+
				"to %g °C, which is longer than any such heater takes: is its sensor in its place, and its heater whole?",
				g.Heater, took, rose, math.Ceil((took+left)/60), g.setpoint)
		},
	}
}

// slower claims that in a warm-up, in which neither fan nor filament take heat away,
// the heater rises at full duty far more slowly than it has ever done at these
// temperatures.
func (g *Guard) slower(b *bounds, now moment, passed float64) finding {
	if g.full.lasts(now) < b.settle || !g.warms() || g.setpoint-now.actual < b.low { // near it a control lets up
		g.slow.on, g.rise.on = false, false
		return finding{}
	}
	switch band := bandOf(now.actual); {
	case !g.rise.on || band > g.rise.band+1:
		g.rise = passage{on: true, band: band, begun: now}
	case band > g.rise.band:
		whole := g.rise.begun.actual < riseBand*(float64(g.rise.band)+0.25) // from its beginning on
		if took := now.at - g.rise.begun.at; whole && took >= 2 {
			g.lately.note(g.rise.band, (now.actual-g.rise.begun.actual)/took)
		}
		g.rise = passage{on: true, band: band, begun: now}
	}
	slowest, known := g.Ways.slowest(now.actual)
	if !known {
		g.slow.on = false
		return finding{}
	}
	if !g.slow.on {
		g.slow = expectation{on: true, begun: now.at, from: now.actual}
		return finding{}
	}
	g.slow.expected += slowest * passed
	g.slow.gap = max(g.slow.gap, passed)
	rose, expected := now.actual-g.slow.from, g.slow.expected-slowest*(heldUp+g.slow.gap)
	if expected < b.expects {
		return finding{}
	}
	f := finding{
		share: (1 - rose/expected) / (1 - riseShare),
		text: func() string {
			return fmt.Sprintf("the %s has had full duty for %.0f s and rose by %.1f K of late, where it has never risen by less than %.0f K: is its sensor in its place, and its heater whole?", g.Heater, g.full.lasts(now), max(rose, 0), expected)
		},
	}
	if rose >= expected/2 || expected > 3*b.expects { // so far it is well, or has been told
		g.slow = expectation{on: true, begun: now.at, from: now.actual}
	}
	return f
}

// runaway claims that heat comes that nobody asked for: hotter than anything about it, the
// heater rises without duty by more than what its own masses hold, or is not colder after
// any plateau of theirs. What is no hotter than a chamber may have its heat from there,
// unless it rises as only its own element lets it; a cold one is only told.
func (g *Guard) runaway(b *bounds, now moment, around float64) finding {
	if !g.idle.on {
		return finding{}
	}
	lasts := g.idle.lasts(now)
	low := g.idle.low
	if lasts > b.within { // a room may warm it, slowly
		low = now.actual
		if then, ok := g.ago.lowest(now, b.within); ok {
			low = max(then, g.idle.low)
		}
	}
	stored := b.stored
	if g.warmed() {
		stored = max(learnedTimes*g.Ways.Carry, leastStored)
	}
	rose := now.actual - low
	if lasts < b.rest { // what comes later is not its own masses' heat
		g.lately.Carry = max(g.lately.Carry, rose)
	}
	if now.actual <= around+beside { // heat goes from what is hotter to what is colder
		return finding{}
	}
	// What held its setpoint with some duty a moment ago was hotter than all about it.
	hotter := g.needed > 0 && now.at-g.needed <= neededFor
	unsure := false
	if !hotter && now.actual <= warmest { // a room or a chamber may warm it, but not as its own element does
		then, ok := g.agoIn(b.settle)
		if !ok || lasts < b.settle || now.actual-then < riseShare*g.leastRise(b, now.actual)*b.settle {
			return finding{}
		}
		unsure = now.actual <= plainlyHot
	}
	hot := max(g.setpoint+max(b.above, learnedTimes*g.Ways.Overshoot), warmest)
	if then, ago, ok := g.ago.before(now, b.rest); ok && ago <= lasts && now.actual > hot {
		if fell := then - now.actual; fell < 0.5 && rose < stored {
			return finding{share: 1, text: func() string {
				return fmt.Sprintf("the %s is at %.0f °C, had no duty for %.0f s and does not cool: its switch may be stuck. Switch the printer off at its plug", g.Heater, now.actual, lasts)
			}}
		}
	}
	return finding{unsure: unsure, share: rose / stored, text: func() string {
		return fmt.Sprintf("the %s rose from %.0f to %.0f °C without any duty: its switch may be stuck. Switch the printer off at its plug", g.Heater, low, now.actual)
	}}
}

// leastRise is how fast the heater rises at full duty at the least at a temperature, K/s:
// as it has, or as any of its kind does.
func (g *Guard) leastRise(b *bounds, t float64) float64 {
	if slowest, ok := g.Ways.slowest(t); ok {
		return slowest
	}
	return b.rises
}

// frozen claims that a sensor says the same whatever the heater does: while the duty
// moves, or for many times as long as it has ever stood still.
func (g *Guard) frozen(b *bounds, now moment, r Reading, tells bool) finding {
	same := g.setpoint > 0 && len(g.past) > 1 && g.past[len(g.past)-2].actual == now.actual
	g.still.note(same, now)
	lasts := g.still.lasts(now)
	if lasts == 0 {
		return finding{}
	}
	f := finding{text: func() string {
		return fmt.Sprintf("the %s has read %.2f °C without any change for %.0f s: does its sensor sit where it should?", g.Heater, now.actual, lasts)
	}}
	if tells && g.proven && g.still.most <= noDutyAt && now.actual > warmest { // it must cool
		f.share = lasts / b.cools
	}
	if g.Ways.Step >= coarseSteps || whole(now.actual) {
		return f
	}
	g.lately.Stand = max(g.lately.Stand, lasts)
	if g.warmed() && g.Ways.Stand < mostStand { // otherwise its steps are too coarse
		f.share = max(f.share, lasts/max(4*b.stands, longTimes*g.Ways.Stand))
	}
	if !tells {
		return f
	}
	most := max(b.stands, learnedTimes*g.Ways.Moved)
	switch {
	case g.proven && g.still.least >= fullDutyAt*g.most(): // whatever is wanted of it, it does not come
		most /= 2
	case g.still.most-g.still.least < min(movedDuty, movedShare*g.still.most):
		return f
	}
	g.lately.Moved = max(g.lately.Moved, lasts)
	f.share = max(f.share, lasts/most)
	return f
}

// grows claims that a heater that holds its setpoint needs more and more duty for that,
// for what is neither fan nor filament nor its supply: its sensor leaves it.
func (g *Guard) grows(now moment) finding {
	if !g.Growth.Known || !g.held {
		return finding{blind: true}
	}
	g.grew = max(g.grew, g.Growth.Hotter)
	most := max(needOf(g.Heater).grows, grewTimes*g.Ways.Grew, g.Growth.clear)
	if g.Growth.Heard && !g.Growth.Sure { // it may be soon, and then something can be done
		most *= unsureTimes
	}
	// What is cold on a bed, or behind it, takes heat for long; it was felt as it came there.
	soaks := boundsOf(g.Heater).drop > 0 && now.at-g.dipped < soaksFor
	return finding{unsure: !g.Growth.Sure || soaks, share: g.Growth.Hotter / most, text: func() string {
		return fmt.Sprintf("the %s needs %.0f %% more duty than before in this run to hold %g °C, with the same fan and flow: does its sensor leave its place? Then it is %.0f K hotter than it reads. Or has it lost its sock?", g.Heater, 100*g.Growth.Share, g.setpoint, g.Growth.Hotter)
	}}
}
