package heat

import (
	"math"
	"time"
)

// A FlowWatch tells from a nozzle's duty whether filament flows. Molten filament
// carries heat away, by a share that the heater's Model knows. The watch adds up
// heat balances over some seconds each and compares two claims about them,
// "what the file asks for flows" and "nothing flows", with Page's cumulative sum
// test (E. S. Page, Continuous Inspection Schemes, Biometrika 41, 1954).
type FlowWatch struct {
	model   Model // of before anything spoke against the flow
	past    []moment
	from    float64 // s at which the balance being added up begins
	sum     float64 // the test's cumulative sum
	mean    float64 // of the first balances, K
	bias    float64 // of the balances while filament flows, K: of what a room that is warmer or colder makes of them at the most
	noise   float64 // their mean square about it, K²
	missing float64 // heat that the file's flow should have taken of late and did not, as a share of it
	seen    int     // balances
	alarm   bool
}

// FlowAction is what is done when a FlowWatch finds that nothing flows.
type FlowAction string

// The actions.
const (
	FlowOff  FlowAction = "off"  // it is not looked at
	FlowTell FlowAction = "tell" // a person is told
	FlowHold FlowAction = "hold" // and the run is held
)

// FlowState is what can be told of the flow.
type FlowState struct {
	Asked   float64 // by the file, mm³/s, of late
	Seen    float64 // that the duty speaks of, mm³/s; NaN where that cannot be told
	Enough  bool    // the flow is large enough to tell within two minutes
	Stopped bool    // nothing flows
	Sure    float64 // from 0 to 1, how far the test has come to say so
}

// Doubtful reports whether so much speaks against the flow that no model should
// learn from what is read now: it would learn that the heat is lost elsewhere.
func (s FlowState) Doubtful() bool { return s.Sure > flowDoubt/flowLevel }

// The test's constants.
const (
	flowStretch = 10.0 // s of one balance
	flowLevel   = 30.0 // of the cumulative sum that is believed: e to this power against a false alarm
	flowDoubt   = 4.0  // of the sum, from which on nothing is learned
	flowMost    = 8.0  // that one balance may add to it: noise has fatter tails than the normal distribution
	flowWarm    = 9    // balances until bias and noise are known
	flowRoom    = 8.0  // K by which the room may differ from the one that the model knows
	flowPace    = 0.03 // share of each balance by which they follow
	flowEnough  = 1.9  // standard deviations of a balance that the flow must be worth to be told in time
	flowLeast   = 1.3  // of which it must be worth to count at all
	flowFloor   = 0.02 // K² below which noise is not believed
)

// Note takes a reading of the nozzle and the conditions that the file asks for.
func (w *FlowWatch) Note(at time.Duration, r Reading, m Model, c Conditions) FlowState {
	now := moment{at.Seconds(), r.Actual, r.Duty, c}
	if n := len(w.past); n > 0 && (now.at <= w.past[n-1].at || now.at-w.past[n-1].at > fullRate.Seconds()) {
		w.Reset()
	}
	if w.sum >= flowDoubt { // one that learned since then may have learned from the fault
		m = w.model
	}
	w.model = m
	if !r.HasDuty || !m.Seasoned() || m.Melt <= 3*m.MeltError || r.Setpoint <= 0 || math.Abs(r.Actual-r.Setpoint) > 3*holdBand {
		w.Reset()
		return FlowState{Asked: c.Flow, Seen: math.NaN()}
	}
	if len(w.past) == history {
		w.past = append(w.past[:0], w.past[1:]...)
	}
	if w.past = append(w.past, now); len(w.past) == 1 {
		w.from = now.at + m.Dead.Seconds() + 3
	}
	if now.at-w.from >= flowStretch {
		w.balance(m, w.from, now.at)
		w.from = now.at
	}
	asked := 0.0
	for i := len(w.past) - 1; i > 0 && now.at-w.past[i].at < 3*flowStretch; i-- {
		asked += (w.past[i].at - w.past[i-1].at) * w.past[i].conditions.Flow
	}
	state := FlowState{Asked: asked / min(max(now.at-w.past[0].at, 1), 3*flowStretch), Seen: math.NaN(), Stopped: w.alarm, Sure: min(w.sum/flowLevel, 1)}
	worth := m.Melt * state.Asked * (r.Actual - reference) * flowStretch
	if state.Enough = w.seen >= flowWarm && worth >= flowEnough*math.Sqrt(max(w.noise, flowFloor)); state.Enough {
		state.Seen = max(state.Asked*(1-w.missing), 0)
	}
	return state
}

// Reset forgets the flow of late: the run was held, or filament changed.
func (w *FlowWatch) Reset() {
	w.past, w.sum, w.alarm, w.missing = w.past[:0], 0, false, 0
}

// mean is the temperature about a reading, without the noise of one.
func mean(past []moment, i int) float64 {
	sum, n := 0.0, 0.0
	for j := max(i-1, 0); j <= min(i+1, len(past)-1); j++ {
		sum, n = sum+past[j].actual, n+1
	}
	return sum / n
}

// balance takes the stretch between two readings into the test.
func (w *FlowWatch) balance(m Model, from, to float64) {
	first, last := 0, len(w.past)-1
	for first < last && w.past[first].at < from {
		first++
	}
	taken := m.Rise*integral(w.past, from-m.Dead.Seconds(), to-m.Dead.Seconds()) - (mean(w.past, last) - mean(w.past, first))
	worth := 0.0
	for i := first; i < last; i++ {
		a, b := w.past[i], w.past[i+1]
		dt, actual := b.at-a.at, (a.actual+b.actual)/2
		taken -= m.lost(actual, Conditions{Fan: b.conditions.Fan}) * dt
		worth += m.Melt * b.conditions.Flow * (actual - reference) * dt
	}
	room := m.Loss * flowRoom * (to - from)
	w.seen++
	if w.seen <= flowWarm { // mean and mean square about it, as B. P. Welford adds them up
		off := taken - worth - w.mean
		w.mean += off / float64(w.seen)
		w.noise += (off*(taken-worth-w.mean) - w.noise) / float64(w.seen)
		w.bias = min(max(w.mean, -room), room)
		return
	}
	off := taken - worth - w.bias
	spread := max(w.noise, flowFloor)
	if worth < flowLeast*math.Sqrt(spread) { // too little flow to tell: what little it says would add up to nonsense
		w.sum *= 0.9
	} else {
		w.sum = max(w.sum+min(-worth*(off+worth/2)/spread, flowMost), 0)
	}
	w.alarm = w.sum >= flowLevel || w.alarm && w.sum > 0
	w.sum = min(w.sum, 2*flowLevel)
	if worth > 0 {
		w.missing += (min(max(-off/worth, 0), 1) - w.missing) / 3
	}
	if w.sum < flowLevel/4 {
		w.bias = min(max(w.bias+flowPace*off, -room), room)
		w.noise += flowPace * (min(off*off, 9*spread) - w.noise)
	}
}
