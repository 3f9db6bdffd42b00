package heat

import (
	"maps"
	"math"
	"time"
)

// ordinary is how heaters of a kind rise of which nothing has been seen: their speed at a
// room's temperature, and how far above it they would come.
type ordinary struct {
	speed float64 // K/s
	most  float64 // K
	tail  float64 // by how much longer the last degrees take than at full duty
}

// rises is by how many K such a heater has risen after so many seconds at full duty.
func (o ordinary) rises(seconds float64) float64 {
	return o.most * (1 - math.Exp(-seconds*o.speed/o.most))
}

const room = 20.0 // °C

func ordinaryOf(h Heater) ordinary {
	switch _, nozzle := h.Tool(); {
	case nozzle:
		return ordinary{speed: 2, most: 430, tail: 1.8}
	case h == Bed:
		return ordinary{speed: 0.3, most: 165, tail: 1.2}
	}
	return ordinary{speed: 0.05, most: 80, tail: 1.2}
}

// A Rising follows a heater of which nothing is known as it rises, to say how it will go
// on: from the speed that it has, which falls with its temperature as an ordinary one's does.
// The zero Rising has seen nothing.
type Rising struct {
	at       float64 // °C
	setpoint float64 // °C
	seen     []sight // of the last seconds, at full duty
	speed    float64 // K/s that it had last; 0: it was not seen to rise
	had      float64 // °C at which it had that
}

// A sight is a heater as it was at one time.
type sight struct{ now, at float64 } // s, °C

const (
	speedOver = 12.0 // s over which a speed is measured
	fullShare = 0.12 // of the way from a room to a setpoint, above which the control lets up
	slowest   = 0.1  // of its speed, that it falls to at the least
)

// Note takes a reading, at a time in s.
func (r *Rising) Note(now, actual, setpoint float64) {
	n := len(r.seen)
	if n > 0 && now <= r.seen[n-1].now {
		return
	}
	r.at = actual
	if setpoint-actual <= fullShare*(setpoint-room) || setpoint != r.setpoint { // nearer its control lets up
		r.seen, r.setpoint = r.seen[:0], setpoint
		return
	}
	r.seen = append(r.seen, sight{now, actual})
	for len(r.seen) > 2 && now-r.seen[1].now >= speedOver {
		r.seen = r.seen[1:]
	}
	first := r.seen[0]
	if over := now - first.now; over >= speedOver/2 && actual > first.at {
		r.speed, r.had = (actual-first.at)/over, (actual+first.at)/2
	}
}

// speedAt is how fast the heater is at a temperature, K/s.
func (r *Rising) speedAt(h Heater, t float64) float64 {
	ordinary := ordinaryOf(h)
	speed, had := r.speed, r.had
	if speed == 0 {
		speed, had = ordinary.speed, room
	}
	return speed * max(1-(t-had)/ordinary.most, slowest)
}

// Roughly is how long the steps of a file will take from now on where the heaters are not
// known yet: as they have risen so far, or as heaters of their kind do.
func Roughly(steps []Step, now map[Heater]*Rising) time.Duration {
	at, to := map[Heater]float64{}, map[Heater]float64{}
	rising := map[Heater]*Rising{}
	for _, s := range steps {
		rising[s.Heater] = &Rising{at: room}
	}
	maps.Copy(rising, now)
	for h, r := range rising {
		at[h], to[h] = r.at, r.at
	}
	const dt = 0.5
	total := 0.0
	for _, s := range steps {
		for to[s.Heater] = s.Setpoint; s.Wait && at[s.Heater] < s.Setpoint-Ready && total < forecastMost.Seconds(); total += dt {
			for h, t := range at {
				if t < to[h] {
					at[h] = min(t+rising[h].speedAt(h, t)*dt, to[h])
				}
			}
		}
	}
	return inSeconds(total)
}
