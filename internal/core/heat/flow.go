package heat

import (
	"math"
	"time"
)

// FlowAction is what is done when nothing flows.
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
	Enough  bool    // the flow is large enough that a stop would be found within FlowWithin
	Stopped bool    // nothing flows
	Sure    float64 // from 0 to 1, how far the test has come to say so
}

// FlowWithin is the time in which a stop is found where the flow is enough.
const FlowWithin = 5 * time.Minute

// Doubtful reports whether so much speaks against the flow that no model should
// learn from what is read now: it would learn that the heat is lost elsewhere.
func (s FlowState) Doubtful() bool { return s.Sure > flowDoubt/flowLevel }

// The test's constants.
const (
	flowLevel  = 10.0 // of the cumulative sum that is believed: e to this power against a false alarm
	flowDoubt  = 4.0  // of the sum, from which on nothing is learned
	flowMost   = 4.0  // that one stretch may add to it
	flowBack   = 5.0  // of what speaks for it against a loss that went back to what it was
	flowAgo    = 5400 // s for which a loss may go back
	flowSeen   = 60   // stretches until anything is said of the flow
	flowSurely = 4.0  // standard deviations that what filament takes must be from nothing
	flowSpare  = 1.1  // times as much as needed that a stop must be expected to say
)

// Forget forgets what spoke against the flow: the run is held, or filament changed.
func (w *NeedWatch) Forget() {
	if w.sum > flowDoubt {
		w.Need = w.before
	}
	w.none, w.before = w.Need, w.Need
	w.sum, w.alarm, w.missing, w.enough = 0, false, 0, false
}

// Flow is what can be told of the flow now.
func (w *NeedWatch) Flow() FlowState {
	s := FlowState{Asked: w.asked, Seen: math.NaN(), Stopped: w.alarm, Sure: min(w.sum/flowLevel, 1), Enough: w.enough}
	if s.Enough {
		s.Seen = max(s.Asked*(1-w.missing), 0)
	}
	return s
}

// weigh takes a stretch into the test.
func (w *NeedWatch) weigh(s stretch) {
	k := w.gathers.kind
	flows, none := k.row(s, 1), k.row(s, 0)
	lowest := w.lowest(s.at)
	if w.sum <= 0 || !w.Need.knowsFlow() {
		w.none, w.before, w.back, w.sum, w.against = w.Need, w.Need, w.Need.returns(lowest), 0, 0
	}
	if worth := w.before.Mean[needMelt] * flows[needMelt]; worth > 0 {
		expected, _ := w.before.expect(flows)
		w.missing += (min(max((expected-s.duty)/worth, 0), 1) - w.missing) / 3
	}
	stopped := w.none.learn(none, s.duty)
	w.against += min(max(stopped-w.back.learn(flows, s.duty), -flowMost), flowMost)
	w.sum = max(w.sum+min(stopped-w.Need.learn(flows, s.duty), flowMost), 0)
	w.none.Left, w.back.Left = w.Need.Left, w.Need.Left
	if w.sum > 0 && w.against <= -flowLevel { // the loss went back, and all flows
		w.Need, w.sum = w.back, 0
	}
	w.alarm = w.sum >= flowLevel && w.against >= flowBack || w.alarm && w.sum > 0
	w.sum = min(w.sum, 2*flowLevel)
	stretches := FlowWithin.Seconds() / s.took * w.counts
	w.enough = w.before.knowsFlow() && w.before.tells(flows, none, int(stretches), lowest) >= flowSpare*flowLevel
}

// lowest is the least duty that the heater needed of late, for span.
func (w *NeedWatch) lowest(now float64) float64 {
	least := w.Need.Mean[needLoss]
	for i := len(w.levels) - 1; i >= 0 && now-w.levels[i].at < flowAgo; i-- {
		least = min(least, w.levels[i].loss)
	}
	return least
}

// returns is a Need whose loss may have gone back to what it was at the least: the window
// is shut, the mains are back.
func (n Need) returns(lowest float64) Need {
	half := (n.Mean[needLoss] - lowest) / 2
	n.Mean[needLoss] -= half
	n.Var[needLoss][needLoss] += half * half
	return n
}

// knowsFlow reports whether enough was seen to know what filament takes.
func (n *Need) knowsFlow() bool {
	return n.Seen >= flowSeen && n.Mean[needMelt] > flowSurely*math.Sqrt(n.Var[needMelt][needMelt])
}

// tells is what the test's sum is expected to come to if nothing flows from now on, in
// so many stretches like the one with those rows.
func (n Need) tells(flows, none [needs]float64, stretches int, lowest float64) float64 {
	claim, back, sum, against, noise := n, n.returns(lowest), 0.0, 0.0, n.Left
	duty, _ := claim.expect(none)
	for range stretches - 1 { // the first is half over
		n.passes()
		claim.passes()
		back.passes()
		stopped := claim.typical(none, duty)
		sum = max(sum+min(stopped-n.typical(flows, duty), flowMost), 0)
		against += min(stopped-back.typical(flows, duty), flowMost)
		claim.learn(none, duty)
		n.learn(flows, duty)
		back.learn(flows, duty)
		claim.Left, n.Left, back.Left = noise, noise, noise
	}
	return min(sum, against*flowLevel/flowBack)
}
