package heat

import "time"

// A Rise is where a heater is, and how fast it has risen of late.
type Rise struct {
	At   float64 // °C
	Rate float64 // K/s; 0: it has not been seen to rise
}

// How fast heaters rise of which nothing has been seen, K/s, and by how much slower they
// become on their way.
const (
	nozzleRises  = 1.5
	bedRises     = 0.3
	chamberRises = 0.05
	slows        = 1.15
)

// Roughly is how long the steps of a file will take from now on where the heaters are not
// known yet: as they have risen so far, or as heaters of their kind do.
func Roughly(steps []Step, now map[Heater]Rise) time.Duration {
	at, to, rate := map[Heater]float64{}, map[Heater]float64{}, map[Heater]float64{}
	for h, r := range now {
		at[h], to[h], rate[h] = r.At, r.At, r.Rate
	}
	total := 0.0
	for _, s := range steps {
		h := s.Heater
		if to[h] = s.Setpoint; !s.Wait || s.Setpoint <= at[h] {
			continue
		}
		took := (s.Setpoint - at[h]) * slows / rising(h, rate[h])
		total += took
		for other := range at {
			if to[other] > at[other] {
				at[other] = min(at[other]+took*rising(other, rate[other])/slows, to[other])
			}
		}
	}
	return inSeconds(total)
}

// rising is how fast a heater rises, K/s.
func rising(h Heater, seen float64) float64 {
	switch _, nozzle := h.Tool(); {
	case seen > 0.01:
		return seen
	case nozzle:
		return nozzleRises
	case h == Bed:
		return bedRises
	}
	return chamberRises
}
