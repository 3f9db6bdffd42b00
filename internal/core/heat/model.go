package heat

import (
	"math"
	"time"

	"gonum.org/v1/gonum/mat"
)

// Conditions are what, besides its duty, gives heat to a heater or carries it away.
type Conditions struct {
	Fan  float64 // part fan, 0 to 1
	Flow float64 // molten filament, mm³/s

	Beside float64 // duty of the heaters at the same supply, which may sag
}

// A Model is how one heater behaves: a first-order plus dead-time model
//
//	dT/dt = Rise·u(t−Dead) − Loss·(T − Ambient) − (FanLoss·fan + Melt·flow)·(T − 25 °C)
//
// with u the duty. Gain and time constant of the textbook form are Rise/Loss and
// 1/Loss (K. J. Åström, T. Hägglund, Advanced PID Control, 2006, chapter 2). A
// heater that has long been at one temperature does not tell Ambient from Loss; so
// fan and filament, whose shares it does tell, are counted from a temperature that
// does not move.
type Model struct {
	Rise    float64       // K/s at full duty
	Loss    float64       // 1/s
	FanLoss float64       // 1/s more with the part fan at full speed
	Melt    float64       // 1/s more for each mm³/s of filament
	Ambient float64       // °C
	Dead    time.Duration // from a change of the duty to its effect

	// Standard deviations of the above, in the same units.
	RiseError, LossError, FanLossError, MeltError, AmbientError float64

	Seconds float64 // of readings it was learned from, as far as they still count
}

// Known reports whether the model has seen enough to be believed.
func (m Model) Known() bool {
	return m.Seconds >= 60 && m.Rise > 0 && m.RiseError < 0.15*m.Rise && m.Loss > 0
}

// Seasoned reports whether the model has also seen a heater hold, so that its
// dead time is right.
func (m Model) Seasoned() bool { return m.Known() && m.Seconds >= 600 }

// Gain is how far above the room the heater comes at full duty, K.
func (m Model) Gain() float64 { return m.Rise / m.Loss }

// TimeConstant is the time in which the heater comes 63 % of the way.
func (m Model) TimeConstant() time.Duration { return inSeconds(1 / m.Loss) }

// Holding is the duty that holds a temperature.
func (m Model) Holding(t float64, c Conditions) float64 {
	return m.lost(t, c) / m.Rise
}

// lost is what goes away from a heater at a temperature, K/s.
func (m Model) lost(t float64, c Conditions) float64 {
	return m.Loss*(t-m.Ambient) + (m.FanLoss*c.Fan+m.Melt*c.Flow)*(t-reference)
}

// Cooling is how long a heater that is off takes from one temperature to another,
// and whether it gets there at all in this room.
func (m Model) Cooling(from, to float64) (time.Duration, bool) {
	switch {
	case from <= to:
		return 0, true
	case m.Loss <= 0 || to <= m.Ambient+0.5:
		return 0, false
	}
	return inSeconds(math.Log((from-m.Ambient)/(to-m.Ambient)) / m.Loss), true
}

func inSeconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// unknowns are the parameters that the regression finds: Rise, Loss, the constant
// Loss·(Ambient−reference), FanLoss and Melt.
const unknowns = 5

// reference is the temperature about which the regression is centred, °C.
const reference = 25

// deadTimes are the dead times that are tried.
var deadTimes = []float64{0, 1, 2, 3, 4, 5, 6, 8, 10, 12, 14, 17, 20, 25, 30, 40}

const (
	shortRow = 4.0              // s of readings that make one row of the regression, at least
	longRow  = 40.0             // and at most
	tellsRow = 2.0              // K of change that end a row in between: what changes tells most
	history  = 128              // readings kept
	fullRate = 30 * time.Second // between readings beyond which the thread is lost
	jump     = 40.0             // K between two readings that no heater does
	forget   = 6 * 3600.0       // s of readings after which one counts a third
	priorRow = 1e-4             // weight of the belief that fan and filament carry nothing away

	// What the room is believed to differ from reference, K. Rooms differ more, but
	// rows of hours at one temperature claim to tell more of it than they do.
	roomSpread = 2.0

	// What a few rows make of fan and filament is believed only as far as it can
	// be: shares of Loss.
	mostFan  = 3.0
	mostMelt = 0.1 // for each mm³/s
	mostRise = 25  // K/s, of the strongest nozzle several times over: more is of readings that came late and together

	oddLeast = 1.2   // K by which a row is at least strange
	oddShare = 0.4   // and of the rise at full duty
	oddFor   = 300.0 // s after which what is strange is believed: the heater is another one
)

// sums are the normal equations of one dead time.
type sums struct {
	XX [unknowns][unknowns]float64
	XY [unknowns]float64
	YY float64
	N  float64

	Seconds float64
}

func (s *sums) add(x [unknowns]float64, y, keep float64) {
	for i := range x {
		for j := range x {
			s.XX[i][j] = s.XX[i][j]*keep + x[i]*x[j]
		}
		s.XY[i] = s.XY[i]*keep + x[i]*y
	}
	s.YY = s.YY*keep + y*y
	s.N = s.N*keep + 1
	s.Seconds = s.Seconds*keep + x[2]
}

// solve returns the least-squares solution, its standard deviations and the mean
// square of what it leaves. Where the readings do not tell, the room is believed
// to be as rooms are.
func (s *sums) solve() (beta, sd [unknowns]float64, left float64, ok bool) {
	beta, sd, left, ok = s.solveWith(priorRow)
	if !ok || beta[1] <= 0 {
		return beta, sd, left, ok
	}
	return s.solveWith(max(left/math.Pow(roomSpread*beta[1], 2), priorRow))
}

// solveWith is solve with a weight of the belief that Ambient is reference.
func (s *sums) solveWith(room float64) (beta, sd [unknowns]float64, left float64, ok bool) {
	if s.N < unknowns+3 {
		return beta, sd, 0, false
	}
	a := mat.NewSymDense(unknowns, nil)
	for i := range unknowns {
		for j := i; j < unknowns; j++ {
			a.SetSym(i, j, s.XX[i][j])
		}
		a.SetSym(i, i, s.XX[i][i]+priorRow)
	}
	a.SetSym(2, 2, s.XX[2][2]+room)
	var c mat.Cholesky
	if !c.Factorize(a) {
		return beta, sd, 0, false
	}
	var x mat.VecDense
	if c.SolveVecTo(&x, mat.NewVecDense(unknowns, s.XY[:])) != nil {
		return beta, sd, 0, false
	}
	var inverse mat.SymDense
	if c.InverseTo(&inverse) != nil {
		return beta, sd, 0, false
	}
	left = s.YY
	for i := range beta {
		beta[i] = x.AtVec(i)
		left -= beta[i] * s.XY[i]
	}
	left = max(left, 1e-9) / max(s.N-unknowns, 1)
	for i := range sd {
		sd[i] = math.Sqrt(max(inverse.At(i, i), 0) * left)
	}
	return beta, sd, left, true
}

// moment is one reading as the learner keeps it.
type moment struct {
	at         float64 // s
	actual     float64
	duty       float64
	conditions Conditions
}

// A Learner finds a heater's Model from its readings. What it knows is in its
// exported fields, which can be kept; old readings count less and less.
type Learner struct {
	Sums []sums
	Tail float64 // s that the last degrees of a warm-up took longer than at full duty
	Held float64 // the holding duty of the setpoints for which they did
	Ends int     // warm-ups that Tail was learned from

	Climbs []Climb // the last warm-ups, the oldest first
	Shape  Shape   // of them
	Stale  bool    // of them without the last: see Unfitted

	heater Heater
	climb  climbing
	past   []moment
	since  float64 // s since the last row
	odd    float64 // s of strange rows in a row
	goal   goal
	model  Model
	fresh  bool // model is that of Sums
}

// Note takes a reading with its duty at a time on a clock that never jumps.
func (l *Learner) Note(at time.Duration, r Reading, c Conditions) {
	m := moment{at.Seconds(), r.Actual, r.Duty, c}
	l.heater = r.Heater
	if r.HasSetpoint {
		l.followClimb(m, r.Setpoint)
	}
	if n := len(l.past); n > 0 && (m.at <= l.past[n-1].at || m.at-l.past[n-1].at > fullRate.Seconds() || math.Abs(m.actual-l.past[n-1].actual) > jump) {
		l.past, l.since = l.past[:0], m.at
	}
	if !r.HasDuty {
		return
	}
	if len(l.past) == history {
		l.past = append(l.past[:0], l.past[1:]...)
	}
	if l.past = append(l.past, m); len(l.past) == 1 {
		l.since = m.at
	}
	change := math.Abs(m.actual - l.past[l.index(l.since)].actual)
	if length := m.at - l.since; length >= longRow || length >= shortRow && change >= tellsRow {
		l.row(l.since, m.at)
		l.since = m.at
	}
	if r.HasSetpoint {
		l.follow(m.at, r, c)
	}
}

// goal follows a warm-up to its end, to learn how long the last degrees take.
type goal struct {
	setpoint float64
	predicts float64 // when it was predicted to be there at full duty, s; 0: not yet
	over     bool
}

// tailFrom is how far below its setpoint a heater is when its last degrees are
// predicted, K.
const tailFrom = 14

// follow learns Tail from a reading.
func (l *Learner) follow(at float64, r Reading, c Conditions) {
	g := &l.goal
	if r.Setpoint != g.setpoint {
		*g = goal{setpoint: r.Setpoint, over: r.Setpoint <= r.Actual+tailFrom}
	}
	switch below := g.setpoint - r.Actual; {
	case g.over:
	case below <= Ready && g.predicts > 0:
		g.over = true
		if took := at - g.predicts; took > -60 && took < 300 {
			l.Ends++
			weight := 1 / float64(min(l.Ends, 4))
			l.Tail += (took - l.Tail) * weight
			l.Held += (l.model.Holding(g.setpoint, c) - l.Held) * weight
		}
	case below <= tailFrom && g.predicts == 0:
		if !l.Model().Seasoned() { // its dead time is not known well enough yet
			g.over = true
		} else if f, ok := l.fullDuty(g.setpoint, c); ok && !f.Never && f.Ready > 0 {
			g.predicts = at + f.Ready.Seconds()
		}
	}
}

// row adds the stretch between two readings to the sums.
func (l *Learner) row(from, to float64) {
	first := l.index(from)
	y := l.past[len(l.past)-1].actual - l.past[first].actual
	warm := false
	var x [unknowns]float64
	for i := first + 1; i < len(l.past); i++ {
		a, b := l.past[i-1], l.past[i]
		dt := b.at - a.at
		above := (a.actual+b.actual)/2 - reference
		x[1] -= above * dt
		x[2] += dt
		x[3] -= b.conditions.Fan * above * dt
		x[4] -= b.conditions.Flow * above * dt
		warm = warm || above > 10 || b.duty > 0
	}
	if !warm { // it tells nothing but the room
		return
	}
	if l.strange(x, y, from, to) {
		if l.odd += to - from; l.odd < oddFor {
			return
		}
	} else {
		l.odd = 0
	}
	if l.Sums == nil {
		l.Sums = make([]sums, len(deadTimes))
	}
	keep := math.Exp(-(to - from) / forget)
	for i, dead := range deadTimes {
		if from-dead < l.past[0].at { // what was before is not known
			continue
		}
		x[0] = integral(l.past, from-dead, to-dead)
		l.Sums[i].add(x, y, keep)
	}
	l.fresh = false
}

// strange reports whether a row is far from what the model says of a heater that is
// fully on or off: something has broken, and a model that learned from that would
// take it for granted.
func (l *Learner) strange(x [unknowns]float64, y, from, to float64) bool {
	m := l.Model()
	dead, took := m.Dead.Seconds(), to-from
	if !m.Seasoned() || from-dead < l.past[0].at {
		return false
	}
	given := integral(l.past, from-dead, to-dead)
	expected := m.Rise*given + m.Loss*(x[1]+(m.Ambient-reference)*x[2]) + m.FanLoss*x[3] + m.Melt*x[4]
	far := math.Abs(y-expected) > oddLeast+oddShare*m.Rise*took
	return far && (given >= fullDutyAt*took || given <= noDutyAt*took)
}

// index returns the first reading at or after a time.
func (l *Learner) index(at float64) int {
	for i, m := range l.past {
		if m.at >= at {
			return i
		}
	}
	return len(l.past) - 1
}

// integral adds up the duty, which holds from one reading to the next, over time.
func integral(past []moment, from, to float64) float64 {
	sum := 0.0
	for i := 1; i < len(past); i++ {
		a, b := max(past[i-1].at, from), min(past[i].at, to)
		if b > a {
			sum += (b - a) * past[i].duty
		}
	}
	return sum
}

// Model returns what has been learned so far.
func (l *Learner) Model() Model {
	if l.fresh {
		return l.model
	}
	l.fresh = true
	best, found := math.Inf(1), false
	most := 0.0
	for _, s := range l.Sums {
		most = max(most, s.N)
	}
	for i, s := range l.Sums {
		if s.N < 0.6*most {
			continue
		}
		beta, sd, left, ok := s.solve()
		if !ok || left >= best || beta[0] <= 0 || beta[0] > mostRise || beta[1] <= 0 {
			continue
		}
		best, found = left, true
		m := Model{
			Rise: beta[0], Loss: beta[1], FanLoss: min(max(beta[3], 0), mostFan*beta[1]), Melt: min(max(beta[4], 0), mostMelt*beta[1]), Ambient: reference + beta[2]/beta[1], Dead: inSeconds(deadTimes[i]),
			RiseError: sd[0], LossError: sd[1], FanLossError: sd[3], MeltError: sd[4], Seconds: s.Seconds,
		}
		m.AmbientError = math.Hypot(sd[2]/beta[1], (m.Ambient-reference)*sd[1]/beta[1])
		l.model = m
	}
	if !found {
		l.model = Model{}
	}
	return l.model
}
