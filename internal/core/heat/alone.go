package heat

const (
	aloneLeast  = 2    // levels that a climb must have passed before it is told from them how it goes on
	aloneSkips  = 0.3  // share of them that are left out: its heat was still on its way
	aloneLate   = 1.5  // s by which a level's time may be off: reports come late
	aloneDecays = 1.0  // of how its speed falls in heaters of its kind, the standard deviation of that
	aloneLow    = 0.15 // of the speed that it had, that it falls to at the least before its control lets up
	aloneSpread = 0.22 // standard deviation of the logarithm of what is foretold by this
)

// alone is how long a climb still takes from a temperature, s, of a heater whose warm-ups
// were never seen: as its own speed is, which falls with the temperature as it has been seen
// to, and until then as that of heaters of its kind does.
func (c *climbing) alone(h Heater, t float64) (seconds float64, ok bool) {
	n := len(c.Times)
	if n < aloneLeast {
		return 0, false
	}
	ordinary := ordinaryOf(h)
	level := func(i int) float64 { return float64(c.first()+i) * climbStep }
	from, last := int(aloneSkips*float64(n)), n-1
	half, middle := (from+last)/2, (level(from)+level(last))/2
	over := func(from, to int) float64 { return max(c.Times[to]-c.Times[from], 0.5) } // s
	speed := climbStep * float64(last-from) / over(from, last)
	// By what share of that the speed falls with each K: as of its kind, and as the second
	// half was slower than the first, each as far as it is certain.
	falls := 1 / max(ordinary.most-(middle-room), ordinary.most/4)
	if from < half && half < last {
		first, second := climbStep*float64(half-from)/over(from, half), climbStep*float64(last-half)/over(half, last)
		apart := (level(last) - level(from)) / 2
		seen, late := (first-second)/speed/apart, 2*aloneLate/(over(from, last)/2)/apart
		believed := aloneDecays * falls
		share := believed * believed / (believed*believed + late*late)
		falls = max(falls+share*(seen-falls), falls/3)
	}
	at := func(t float64) float64 { return speed * max(1-falls*(t-middle), aloneLow) }
	knee := c.Setpoint - climbTail
	for ; t < c.Setpoint-Ready; t += climbStep / 2 {
		step := min(climbStep/2, c.Setpoint-Ready-t) / at(t)
		if t > knee {
			step *= ordinary.tail
		}
		seconds += step
	}
	return seconds, seconds < forecastMost.Seconds()
}
