package heat

import (
	"math"
	"time"
)

// Ready is how near its setpoint a heater counts as there, K.
const Ready = holdBand

// forecastMost is how far ahead is looked.
const forecastMost = 3 * time.Hour

// A Forecast is how a heater will come to its setpoint.
type Forecast struct {
	Ready time.Duration // from now until it is within Ready of the setpoint; 0 if it is
	Curve []float64     // °C, a point for each Step from now on
	Step  time.Duration // between points
	Never bool          // at full duty it does not come that far

	Soonest, Latest time.Duration // nine times of ten it is ready between them; 0: not known
}

// curvePoints is about how many points a Forecast's curve has.
const curvePoints = 120

// forecastStep is the step of the integration, s.
const forecastStep = 0.5

// Forecast predicts how the heater comes to a setpoint under conditions that stay,
// from the last readings on, by its model and by its last warm-ups; false while
// neither is known well enough.
func (l *Learner) Forecast(setpoint float64, c Conditions) (Forecast, bool) {
	f, ok := l.byModel(setpoint, c)
	t := l.climb.last.actual
	if len(l.past) > 1 && l.past[len(l.past)-1].at == l.climb.last.at {
		t = l.level()
	}
	climb := l.towards(t, setpoint)
	if l.climb.last.at == 0 || !climb.on {
		return f, ok
	}
	both := inSeconds(l.foretell(t, climb, c)[kinds-1])
	switch stood := climb.stood(); {
	case l.isFull() && (stood >= 2*neverFor || stood >= neverFor && ok && f.Never):
		return Forecast{Never: true}, true
	case ok && f.Never && both == 0: // a model that has not seen it stand still is no evidence
		return Forecast{}, false
	case both == 0:
		return f, ok
	}
	if ok && !f.Never && f.Ready > 0 && len(f.Curve) > 0 {
		f.Step = time.Duration(float64(f.Step) * float64(both) / float64(f.Ready))
		f.Ready = both
	} else {
		f = l.ahead(t, setpoint, both)
	}
	sure := l.sure()
	f.Soonest, f.Latest = time.Duration(float64(both)/sure)-reportEvery, time.Duration(float64(both)*sure)+reportEvery
	f.Soonest = max(f.Soonest, 0)
	return f, true
}

// reportEvery is about how far apart readings are: what comes between two is not known.
const reportEvery = time.Second

// neverFor is for how long a heater must not have become a level hotter at full duty before
// it is said that it comes no further, as its model has it; without that, twice as long, s.
const neverFor = 300.0

// stood is for how long the climb has come no further, s.
func (c *climbing) stood() float64 {
	switch n := len(c.Times); {
	case !c.on:
		return 0
	case n > 0:
		return c.last.at - c.at - c.Times[n-1]
	}
	return c.last.at - c.at
}

// isFull reports whether the heater is given as much as it was given of late at the most.
func (l *Learner) isFull() bool {
	most, now := 0.0, 0.0
	for _, m := range l.past {
		most, now = max(most, m.duty), m.duty
	}
	return most >= provenDuty && now >= fullDutyAt*most
}

// byModel is Forecast by the model alone.
func (l *Learner) byModel(setpoint float64, c Conditions) (Forecast, bool) {
	f, ok := l.fullDuty(setpoint, c)
	if ok && len(f.Curve) > 0 && l.Held > 0 { // the more it takes to hold, the sooner the firmware lets up
		f.Ready += inSeconds(l.Tail * min(max(l.model.Holding(setpoint, c)/l.Held, 0.5), 2))
	}
	return f, ok
}

// fullDuty is Forecast as if the firmware gave full duty to the end.
func (l *Learner) fullDuty(setpoint float64, c Conditions) (Forecast, bool) {
	m := l.Model()
	if !m.Known() || len(l.past) < 2 || setpoint <= 0 {
		return Forecast{}, false
	}
	last := l.past[len(l.past)-1]
	t := l.level()
	if math.Abs(setpoint-t) <= Ready {
		return Forecast{}, true
	}
	if t > setpoint {
		d, ok := m.Cooling(t, setpoint+Ready)
		return Forecast{Ready: d}, ok
	}
	f := Forecast{Step: time.Second}
	drift, dead := l.drift(m, last.at), m.Dead.Seconds()
	most := forecastMost.Seconds()
	for s := 0.0; ; s += forecastStep {
		if at := f.Step.Seconds() * float64(len(f.Curve)); s >= at {
			f.Curve = append(f.Curve, t)
			if len(f.Curve) == 2*curvePoints { // twice as coarse from now on
				for i := range curvePoints {
					f.Curve[i] = f.Curve[2*i]
				}
				f.Curve, f.Step = f.Curve[:curvePoints], 2*f.Step
			}
		}
		if t >= setpoint-Ready {
			f.Ready = inSeconds(s)
			return f, true
		}
		u := 1.0
		if s < dead { // what the element was given before now
			u = l.dutyAt(last.at + s - dead)
		}
		slope := m.Rise*u - m.lost(t, c) + drift
		if s > 4*dead+60 && slope <= 0 || s > most {
			f.Never = true
			return f, true
		}
		t += slope * forecastStep
	}
}

// level is the temperature now, without the noise of one reading.
func (l *Learner) level() float64 {
	n := min(len(l.past), 7)
	var st, sv, stt, stv float64
	end := l.past[len(l.past)-1].at
	for _, m := range l.past[len(l.past)-n:] {
		x := m.at - end
		st, sv, stt, stv = st+x, sv+m.actual, stt+x*x, stv+x*m.actual
	}
	k := float64(n)
	if d := k*stt - st*st; d > 0 {
		slope := (k*stv - st*sv) / d
		return (sv - slope*st) / k
	}
	return sv / k
}

// dutyAt is the duty that held at a time.
func (l *Learner) dutyAt(at float64) float64 {
	for i := len(l.past) - 1; i > 0; i-- {
		if l.past[i-1].at < at {
			return l.past[i].duty
		}
	}
	return l.past[0].duty
}

// drift is how much faster, in K/s, the heater has been warming than the model
// says, since it was last given full duty: another room, another mains voltage.
func (l *Learner) drift(m Model, now float64) float64 {
	dead := m.Dead.Seconds()
	end, begin := len(l.past)-1, len(l.past)-1
	for begin > 0 && l.past[begin].duty > 0.95 {
		begin--
	}
	from := l.index(l.past[begin].at + 2*dead + 2)
	span := l.past[end].at - l.past[from].at
	if span < 5 {
		return 0
	}
	expected := m.Rise * integral(l.past, l.past[from].at-dead, l.past[end].at-dead)
	for i := from + 1; i <= end; i++ {
		a, b := l.past[i-1], l.past[i]
		expected -= m.lost((a.actual+b.actual)/2, b.conditions) * (b.at - a.at)
	}
	trust := span / (span + 2*dead + 5)
	return trust * (l.past[end].actual - l.past[from].actual - expected) / span
}

// A Countdown shows a prediction to a person: while it lasts it never jumps back,
// and it comes to its end when the prediction does.
type Countdown struct {
	setpoint float64
	at       time.Duration
	left     time.Duration
	running  bool
}

// Show returns what to show at a time for a prediction towards a setpoint. A
// prediction that has become longer lets the countdown run slower, a shorter one
// faster.
func (c *Countdown) Show(now time.Duration, setpoint float64, predicted time.Duration) time.Duration {
	if !c.running || c.setpoint != setpoint || predicted <= 0 || now < c.at {
		*c = Countdown{setpoint: setpoint, at: now, left: predicted, running: predicted > 0}
		return predicted
	}
	passed := now - c.at
	c.at = now
	rate := 1.0
	if c.left > 0 {
		rate = min(max(float64(c.left)/float64(predicted), 0.2), 5)
	}
	c.left = max(c.left-time.Duration(rate*float64(passed)), 0)
	if predicted > c.left*2 && predicted > c.left+2*time.Minute { // it was quite wrong: say so
		c.left = predicted
	}
	return max(c.left, time.Second)
}
