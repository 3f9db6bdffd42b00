package heat

import (
	"math"

	"gonum.org/v1/gonum/optimize"
)

// A Shape is how the climbs of one heater go at full duty: a dead time, and then two
// masses of which the sensor feels one,
//
//	dT/dt = a − b·(T − 25 °C) − k·(T − S)      dS/dt = (T − S)/τ
//
// T and S are alike as a climb begins. The five constants are those with which the
// equations, integrated, pass the climbs' levels at the times at which these passed
// them (an output-error fit: L. Ljung, System Identification, 1999, chapter 7), by the
// simplex method of J. A. Nelder and R. Mead (1965).
type Shape struct {
	Dead, A, B, K, Tau float64 // s, K/s, 1/s, 1/s, s
	Tail               float64 // by how much longer the last degrees take than at full duty
	Known              bool
}

const (
	shapeStep    = 0.5  // s of the integration
	shapeSeconds = 1.5  // s by which a level's time may be off: reports come late
	shapeShare   = 0.02 // and as a share of it
	shapePrior   = 1.5  // standard deviation of the logarithm of a constant about where the fit begins
	shapeEffort  = 400  // evaluations
	shapeLeast   = 1e-3 // K/s by which a heater rises at the least
)

// move lets the shape go on for a step.
func (f *Shape) move(t, s, dt float64) (float64, float64) {
	v := f.A - f.B*(t-reference) - f.K*(t-s)
	return t + v*dt, s + (t-s)*dt/f.Tau
}

// ends reports whether the heater comes no further than a temperature, however long it
// takes for what is behind it to be as hot.
func (f *Shape) ends(t float64) bool { return f.A-f.B*(t-reference) <= shapeLeast }

// off is how far the shape is from a climb, as a mean square.
func (f *Shape) off(c *Climb) float64 {
	t, s, at := c.Start, c.Start, f.Dead
	sum, n := 0.0, 0.0
	for j, took := range c.Times {
		level := float64(c.first()+j) * climbStep
		for t < level {
			next, behind := f.move(t, s, shapeStep)
			if f.ends(t) || at > 4*took+60 { // it never comes there
				return sum/max(n, 1) + 1e3*float64(len(c.Times)-j)
			}
			if next >= level {
				at += shapeStep * (level - t) / (next - t)
				share := (level - t) / (next - t)
				t, s = level, s+share*(behind-s)
				break
			}
			t, s, at = next, behind, at+shapeStep
		}
		e := (at - took) / (shapeSeconds + shapeShare*took)
		sum, n = sum+e*e, n+1
	}
	return sum / max(n, 1)
}

// ShapeOf finds the shape of some climbs, the oldest first; each counts less than the
// one after it. It takes some milliseconds for each of them.
func ShapeOf(climbs []Climb) Shape {
	var bodies []Climb
	speed := 0.0
	for i := range climbs {
		if b := climbs[i].body(); len(b.Times) > 4 {
			bodies = append(bodies, b)
			n := len(b.Times)
			speed = max(speed, climbStep*float64(n-2)/max(b.Times[n-1]-b.Times[1], 1))
		}
	}
	if len(bodies) == 0 {
		return Shape{}
	}
	of := func(x []float64) Shape {
		return Shape{Dead: math.Exp(x[0]), A: math.Exp(x[1]), B: math.Exp(x[2]), K: math.Exp(x[3]), Tau: math.Exp(x[4])}
	}
	best, least := Shape{}, math.Inf(1)
	for _, tau := range []float64{15, 90} {
		from := []float64{math.Log(3), math.Log(1.3 * speed), math.Log(0.003), math.Log(0.3 / tau), math.Log(tau)}
		problem := optimize.Problem{Func: func(x []float64) float64 {
			f := of(x)
			sum, weights := 0.0, 0.0
			for i := range bodies {
				w := math.Pow(climbFade, float64(len(bodies)-1-i))
				sum, weights = sum+w*f.off(&bodies[i]), weights+w
			}
			sum /= weights
			for i := range x {
				far := (x[i] - from[i]) / shapePrior
				sum += 0.03 * far * far
			}
			return sum
		}}
		found, err := optimize.Minimize(problem, from, &optimize.Settings{FuncEvaluations: shapeEffort}, &optimize.NelderMead{SimplexSize: 0.3})
		if found != nil && (err == nil || found.F < least) && found.F < least {
			best, least = of(found.X), found.F
		}
	}
	best.Known = least < 1e3
	best.learnTail(climbs)
	return best
}

// learnTail finds out by how much longer the last degrees take than at full duty.
func (f *Shape) learnTail(climbs []Climb) {
	sum, weights := 0.0, 0.0
	for i := range climbs {
		c := &climbs[i]
		knee := c.Setpoint - climbTail
		at, ok := c.passed(knee)
		if !ok || knee < c.Start {
			continue
		}
		full, _, ok := f.takes(knee, f.behind(c, knee), c.Setpoint-Ready)
		if !ok || full <= 0 {
			continue
		}
		w := math.Pow(climbFade, float64(len(climbs)-1-i))
		sum, weights = sum+w*math.Log(min(max((c.Took-at)/full, 0.7), 8)), weights+w
	}
	if f.Tail = 1; weights > 0 {
		f.Tail = math.Exp(sum / weights)
	}
}

// behind is how hot the hidden mass is as a climb passes a temperature.
func (f *Shape) behind(c *Climb, t float64) float64 {
	s, was, at := c.Start, c.Start, min(f.Dead, 1e9)
	for j, took := range c.Times {
		level := float64(c.first()+j) * climbStep
		if level > t {
			break
		}
		mid := (was + level) / 2
		s = mid + (s-mid)*math.Exp(-max(took-at, 0)/f.Tau)
		was, at = level, took
	}
	return s
}

// takes is how long the shape takes from one temperature to another, s, and how hot
// the hidden mass is then.
func (f *Shape) takes(t, s, to float64) (seconds, after float64, ok bool) {
	for t < to {
		next, behind := f.move(t, s, shapeStep)
		if f.ends(t) || seconds > forecastMost.Seconds() {
			return 0, 0, false
		}
		if next >= to {
			return seconds + shapeStep*(to-t)/(next-t), behind, true
		}
		t, s, seconds = next, behind, seconds+shapeStep
	}
	return seconds, s, true
}

// left is how long a climb still takes, s, from a temperature on.
func (f *Shape) left(t float64, c *climbing) (float64, bool) {
	s := f.behind(&c.Climb, t)
	knee := c.Setpoint - climbTail
	pace := 1.0
	end := min(len(c.Times)-1, int(math.Floor(knee/climbStep))-c.first())
	if begin := max(1, end-int(0.6*float64(len(c.Times)))); end-begin >= 2 {
		from := float64(c.first()+begin) * climbStep
		if by, _, ok := f.takes(from, f.behind(&c.Climb, from), float64(c.first()+end)*climbStep); ok && by > 0 {
			levels := float64(end - begin)
			pace = min(max(math.Pow((c.Times[end]-c.Times[begin])/by, levels/(levels+climbTrust)), 0.4), 2.5)
		}
	}
	left := 0.0
	if len(c.Times) == 0 { // its heat is on its way
		left = f.Dead
	}
	if t < knee {
		by, after, ok := f.takes(t, s, knee)
		if !ok {
			return 0, false
		}
		left, t, s = left+by*pace, knee, after
	}
	by, _, ok := f.takes(t, s, c.Setpoint-Ready)
	return left + by*pace*f.Tail, ok
}
