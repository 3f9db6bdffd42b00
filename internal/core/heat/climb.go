package heat

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat/distuv"
)

// A Climb is one warm-up as it went: the way to its setpoint, whatever the heater is
// built like and whether its duty is told or not.
type Climb struct {
	Start    float64   // °C when it was given its setpoint
	Setpoint float64   // °C
	Times    []float64 // s from then on until it passed each multiple of climbStep above Start
	Took     float64   // s until it was within Ready of its setpoint

	// By how much what was foretold at a quarter of the way was off, as the logarithm
	// of the ratio: by the model, by where it was on the climbs before, by their shape, and
	// by all together; nil where there was none.
	Model, Where, Shape, All *float64
}

const (
	climbStep   = 2.0  // K between two levels
	climbLeast  = 20.0 // K that make a warm-up
	climbTail   = 15.0 // K below the setpoint from which on the control may let up
	climbsKept  = 8
	climbWarm   = 40.0 // K of difference in their beginnings that make a climb count a third
	climbFade   = 0.85 // by which each climb counts less than the one after it
	climbPoints = 100  // of the curve ahead
	climbTrust  = 6.0  // levels after which the speed of this climb counts as much as that of earlier ones

	// What is believed of the errors of a forecast before one was seen, as standard
	// deviations of logarithms, and as how many that counts.
	modelSpread = 0.4
	whereSpread = 0.15
	shapeSpread = 0.06
	spreadPrior = 3.0
	bothSpread  = 0.06
	bothPrior   = 3.0
)

// kinds are the kinds of forecast: by the model, by where a climb is on earlier ones, by
// their shape, and by all of these.
const kinds = 4

// errors are those of each kind of forecast.
func (c *Climb) errors() [kinds]**float64 {
	return [kinds]**float64{&c.Model, &c.Where, &c.Shape, &c.All}
}

// climbing is a Climb that goes on.
type climbing struct {
	Climb
	on       bool
	at       float64 // s when it began
	last     moment
	quarter  float64        // s at which a quarter of the way was done; 0: not yet
	foretold [kinds]float64 // s that were left then; 0: not known
}

// first is the level above the beginning.
func (c *Climb) first() int { return int(math.Floor(c.Start/climbStep)) + 1 }

// note follows a climb with a reading, and hands it over at its end.
func (c *climbing) note(m moment, setpoint float64) (done Climb, ended bool) {
	seen := c.last.at > 0 && m.at-c.last.at <= fullRate.Seconds() // otherwise it is not known where it began, or how it went on
	if setpoint != c.Setpoint {
		*c = climbing{Climb: Climb{Start: m.actual, Setpoint: setpoint}, at: m.at, last: m}
		c.on = seen && setpoint > m.actual+2*Ready
		return Climb{}, false
	}
	c.on = c.on && seen
	before := c.last
	if c.last = m; !c.on {
		return Climb{}, false
	}
	for {
		level := float64(c.first()+len(c.Times)) * climbStep
		if m.actual < level {
			break
		}
		share := 1.0
		if m.actual > before.actual {
			share = min(max((level-before.actual)/(m.actual-before.actual), 0), 1)
		}
		c.Times = append(c.Times, before.at+share*(m.at-before.at)-c.at)
	}
	if m.actual < setpoint-Ready {
		return Climb{}, false
	}
	c.on, c.Took = false, m.at-c.at
	left := m.at - c.quarter
	for i, off := range c.errors() {
		if c.quarter > 0 && left > 0 && c.foretold[i] > 0 {
			e := math.Log(left / c.foretold[i])
			*off = &e
		}
	}
	return c.Climb, len(c.Times) > 3 && c.Setpoint >= c.Start+climbLeast
}

// passed is when a climb passed a temperature, s from its beginning; beyond what it
// has seen as its speed at its ends would have it. ok is false where it would never
// come that far.
func (c *Climb) passed(t float64) (s float64, ok bool) {
	n := len(c.Times)
	place := t/climbStep - float64(c.first()) // among Times
	switch i := int(math.Floor(place)); {
	case place < 0: // before it began: as fast as a little after its beginning
		k := min(6, n-1)
		from := min(2, k-1)
		speed := float64(k-from) / max(c.Times[k]-c.Times[from], 1e-3)
		return c.Times[0] + place/speed, true
	case i+1 < n:
		return c.Times[i] + (place-float64(i))*(c.Times[i+1]-c.Times[i]), true
	default:
		return c.beyond(place)
	}
}

// beyond carries a climb on: its speed goes on falling with the temperature as it
// last did.
func (c *Climb) beyond(place float64) (float64, bool) {
	n := len(c.Times)
	from := n / 2
	var sx, sy, sxx, sxy, k float64
	for i := from; i+2 < n; i++ {
		v := 2 / max(c.Times[i+2]-c.Times[i], 1e-3) // levels a second
		x := float64(i + 1)
		sx, sy, sxx, sxy, k = sx+x, sy+v, sxx+x*x, sxy+x*v, k+1
	}
	last := float64(n - 1)
	if k == 0 {
		return 0, false
	}
	slope := 0.0
	if d := k*sxx - sx*sx; d > 1e-9 && k >= 4 {
		slope = min((k*sxy-sx*sy)/d, 0)
	}
	speed := (sy-slope*sx)/k + slope*last
	s := c.Times[n-1]
	for at := last; at < place; at++ {
		step := min(place-at, 1)
		now := speed + slope*(at-last)
		if now <= speed/20 || s > forecastMost.Seconds() {
			return 0, false
		}
		s += step / now
	}
	return s, true
}

// body is the climb without its last degrees, in which the control may have let up.
func (c *Climb) body() Climb {
	n := int(math.Floor((c.Setpoint-climbTail)/climbStep)) - c.first() + 1
	out := *c
	out.Times = c.Times[:min(max(n, 0), len(c.Times))]
	return out
}

// takes is how long a climb like this one takes from one temperature to a setpoint, s.
func (c *Climb) takes(from, setpoint float64) (float64, bool) {
	body := c.body()
	if len(body.Times) < 4 {
		body = *c
	}
	knee := setpoint - climbTail
	its := c.Setpoint - climbTail
	tail := func(below float64) float64 { // s from so many K below its setpoint on
		if at, ok := c.passed(c.Setpoint - below); ok {
			return max(c.Took-at, 0)
		}
		return 0
	}
	left := 0.0
	if from < knee {
		a, ok1 := body.passed(from)
		b, ok2 := body.passed(knee)
		if !ok1 || !ok2 {
			return 0, false
		}
		left = b - a
	}
	last := tail(min(setpoint-from, climbTail))
	// The last degrees go as much more slowly as it is slower there.
	here, ok1 := body.speed(knee)
	there, ok2 := body.speed(its)
	if ok1 && ok2 && here > 0 {
		last *= min(max(there/here, 0.4), 4)
	}
	return left + last, true
}

// speed is how fast a climb was just below a temperature, K/s.
func (c *Climb) speed(t float64) (float64, bool) {
	a, ok1 := c.passed(t - 2*climbStep)
	b, ok2 := c.passed(t)
	if !ok1 || !ok2 || b <= a {
		return 0, false
	}
	return 2 * climbStep / (b - a), true
}

// pace is how much longer this climb has taken than another over the same levels, of
// late and at full duty, and on how many levels that rests.
func (c *climbing) pace(o *Climb) (ratio, levels float64) {
	body := o.body()
	end := min(c.first()+len(c.Times), body.first()+len(body.Times), int(math.Floor((c.Setpoint-climbTail)/climbStep))+1) - 1
	begin := max(c.first()+1, body.first()+1, end-int(0.6*float64(len(c.Times))))
	if end-begin < 2 {
		return 1, 0
	}
	mine := c.Times[end-c.first()] - c.Times[begin-c.first()]
	its := body.Times[end-body.first()] - body.Times[begin-body.first()]
	if mine <= 0 || its <= 0 {
		return 1, 0
	}
	return mine / its, float64(end - begin)
}

// towards is the climb that goes on to a setpoint, or one that would begin now.
func (l *Learner) towards(t, setpoint float64) *climbing {
	if c := &l.climb; c.on && math.Abs(c.Setpoint-setpoint) < 0.5 {
		return c
	}
	return &climbing{Climb: Climb{Start: t, Setpoint: setpoint}, on: setpoint >= t+Ready}
}

// left is how long a climb still takes by where it is on earlier ones.
func (l *Learner) left(t float64, c *climbing) (time.Duration, bool) {
	if !c.on {
		return 0, false
	}
	var sum, weights float64
	for i := range l.Climbs {
		past := &l.Climbs[i]
		takes, ok := past.takes(t, c.Setpoint)
		if !ok {
			continue
		}
		ratio, levels := c.pace(past)
		trust := levels / (levels + climbTrust)
		ratio = min(max(math.Pow(ratio, trust), 0.4), 2.5)
		weight := math.Exp(-math.Abs(past.Start-c.Start)/climbWarm) * math.Pow(climbFade, float64(len(l.Climbs)-1-i))
		sum, weights = sum+weight*takes*ratio, weights+weight
	}
	if weights == 0 {
		return 0, false
	}
	return inSeconds(sum / weights), true
}

// followClimb takes a reading into the climb that goes on.
func (l *Learner) followClimb(m moment, setpoint float64) {
	done, ended := l.climb.note(m, setpoint)
	if ended {
		if len(l.Climbs) == climbsKept {
			l.Climbs = slices.Delete(l.Climbs, 0, 1)
		}
		l.Climbs, l.Stale = append(l.Climbs, done), true
	}
	if c := &l.climb; c.on && c.quarter == 0 && m.actual-c.Start >= (c.Setpoint-c.Start)/4 {
		c.quarter = m.at
		c.foretold = l.foretell(m.actual, c, Conditions{})
	}
}

// foretell says how long a climb still takes, s, by each kind of forecast; by all of
// them each counts as far as it was right before. 0 is what is not known.
func (l *Learner) foretell(t float64, c *climbing, k Conditions) (by [kinds]float64) {
	if f, ok := l.byModel(c.Setpoint, k); ok && !f.Never {
		by[0] = f.Ready.Seconds()
	}
	if left, ok := l.left(t, c); ok {
		by[1] = left.Seconds()
	}
	if l.Shape.Known && c.on {
		if left, ok := l.Shape.left(t, c); ok {
			by[2] = left
		}
	}
	if len(l.Climbs) == 0 && c.on {
		by[kinds-1], _ = c.alone(l.heater, t)
		return by
	}
	var weigh [kinds]float64
	for i := range by[:kinds-1] {
		weigh[i] = math.Pow(l.spread(i), -4)
	}
	// How a control lets up in the last degrees no shape tells; the shorter the way, the
	// more of it they are, and the more what was seen counts.
	last := math.Pow(min(climbTail/max(c.Setpoint-c.Start, 1), 1), 3)
	weigh[1] = max(weigh[1], last*weigh[2])
	var sum, weights float64
	for i, v := range by[:kinds-1] {
		if v > 0 {
			sum, weights = sum+weigh[i]*math.Log(v), weights+weigh[i]
		}
	}
	if weights > 0 {
		by[kinds-1] = math.Exp(sum / weights)
	}
	return by
}

// Unfitted returns the climbs, if their shape is not known yet; otherwise nil. Finding
// it takes a while; so whoever asks does that where nobody waits for it, and hands it
// to Fit.
func (l *Learner) Unfitted() []Climb {
	if !l.Stale {
		return nil
	}
	return slices.Clone(l.Climbs)
}

// Recall takes climbs of before, unless some are known already.
func (l *Learner) Recall(climbs []Climb) {
	if len(l.Climbs) == 0 && len(climbs) > 0 {
		l.Climbs, l.Stale = slices.Clone(climbs), true
	}
}

// Fit takes the shape of the climbs.
func (l *Learner) Fit(s Shape) { l.Shape, l.Stale = s, false }

// spread is how far off forecasts of a kind have been, as the standard deviation of
// their logarithms.
func (l *Learner) spread(kind int) float64 {
	n := [kinds]float64{spreadPrior, spreadPrior, spreadPrior, bothPrior}[kind]
	prior := [kinds]float64{modelSpread, whereSpread, shapeSpread, bothSpread}[kind]
	sum := n * prior * prior
	for i := range l.Climbs {
		if e := *l.Climbs[i].errors()[kind]; e != nil {
			sum, n = sum+*e**e, n+1
		}
	}
	return math.Sqrt(sum / n)
}

// sure is the factor by which what is left may be longer or shorter nine times of ten:
// Student's distribution, because the spread is itself learned from a few.
func (l *Learner) sure() float64 {
	n, spread := bothPrior, l.spread(kinds-1)
	if len(l.Climbs) == 0 {
		spread = aloneSpread
	}
	for i := range l.Climbs {
		if l.Climbs[i].All != nil {
			n++
		}
	}
	return math.Exp(distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n}.Quantile(0.95) * spread)
}

// ahead draws the way to the setpoint as the last climb went, stretched to the time
// that is foretold.
func (l *Learner) ahead(t, setpoint float64, ready time.Duration) Forecast {
	f := Forecast{Ready: ready, Step: max(ready/climbPoints, time.Second)}
	past, takes, ok := &Climb{}, 0.0, false
	if n := len(l.Climbs); n > 0 {
		past = &l.Climbs[n-1]
		takes, ok = past.takes(t, setpoint)
	}
	for i := 0; time.Duration(i)*f.Step <= ready; i++ {
		share := float64(i) * float64(f.Step) / float64(max(ready, 1))
		level := t + share*(setpoint-Ready-t)
		if ok && takes > 0 { // the temperature that it had passed after such a share of the time
			low, high := t, setpoint
			for range 20 {
				level = (low + high) / 2
				if rest, ok := past.takes(level, setpoint); ok && takes-rest < share*takes {
					low = level
				} else {
					high = level
				}
			}
		}
		f.Curve = append(f.Curve, level)
	}
	return f
}
