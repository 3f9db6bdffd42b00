package heat

import "math"

// A Need is what duty a heater needs to hold its temperature, as its own readings tell
// it: by temperature, by the part fan as a curve through fanKnots, by the filament that
// flows, by what its supply loses while another heater draws, and by what is still cold
// behind it. It is a linear regression that is carried on from stretch to stretch by a
// Kalman filter (R. E. Kalman, A New Approach to Linear Filtering and Prediction
// Problems, 1960), in which the loss to the room wanders, as rooms, doors and draughts
// let it.
type Need struct {
	Mean [needs]float64        // duty, by each of what needs says
	Var  [needs][needs]float64 // its covariance
	Left float64               // mean square of what one stretch leaves, duty²
	Seen int                   // stretches
}

// What a Need is made of.
const (
	needLoss = 0  // for span above reference
	needFan  = 1  // more, with the fan at each of fanKnots
	needMelt = 6  // more, for each mm³/s
	needSag  = 7  // share of its power that is missing while the others draw all of theirs
	needRise = 8  // for each K/s by which it becomes hotter, s/K
	needLag  = 9  // s by which its temperature is behind the duty
	needSoak = 10 // more, as it came to its temperature, for what was colder behind it; by each of needKind.soaks
	needs    = 12
)

// fanKnots are the shares of the fan between which its effect is a straight line.
var fanKnots = [needMelt - needFan]float64{0.06, 0.2, 0.45, 0.7, 1}

// needKind is what is believed of every heater of a kind.
type needKind struct {
	span    float64 // K that the duties belong to
	stretch float64 // s of one stretch
	gusts   float64 // of the fan's speed, that are a step; a bed feels each too slowly
	stands  float64 // s after a step of fan or setpoint until it has settled
	soaks   [needs - needSoak]float64
	rise    float64 // s/K, give or take a third
	lag     float64 // s, give or take a half
	recent  int     // stretches all of which must show that it needs more
	sure    float64 // of the loss, that what is taken off it may be uncertain by
	slow    float64 // s in which what it needs may change by itself
	blows   float64 // s for which what came all at once may be a draught, and goes
	grows   float64 // K that it must be hotter by, by what it needs, before it counts
}

var (
	nozzleNeed = needKind{
		span: 200, stretch: 15, gusts: 0.1, stands: 15, soaks: [...]float64{100, 450},
		rise: 0.45, lag: 3, recent: 2, sure: 0.05, slow: 2400, blows: 480, grows: 26,
	}
	bedNeed = needKind{
		span: 60, stretch: 60, gusts: 2, stands: 60, soaks: [...]float64{300, 1500},
		rise: 4, lag: 10, recent: 4, sure: 0.25, slow: 7200, blows: 1500, grows: 27,
	}
)

func needOf(h Heater) *needKind {
	if _, nozzle := h.Tool(); nozzle {
		return &nozzleNeed
	}
	return &bedNeed
}

// What is believed of a Need before and between stretches; shares are of the loss.
const (
	needDuty    = 0.5    // duty for span, with that uncertainty
	fanSpread   = 0.5    // standard deviation of the fan's whole effect, before it was seen
	meltSpread  = 0.03   // the same for each mm³/s
	sagSpread   = 0.04   // the same of the supply
	soakSpread  = 0.15   // the same of what is colder behind it
	sagMost     = 0.3    // more than which no supply sags
	soakOver    = 0.37   // of what is colder behind it at first, below which the rest looks like nothing else
	needNoise   = 0.02   // duty, of one stretch
	needLeast   = 0.004  // duty, below which noise is not believed
	roomWanders = 0.0025 // each stretch
	roomMoves   = 0.06   // from one run to the next
	fanMoves    = 0.03   // the same, of the fan's effect: a sock, another duct
	meltMoves   = 0.15   // the same, as a share of itself: another filament
	needClip    = 2.5    // standard deviations that one stretch may pull by
	needKnown   = 40     // stretches
	needTails   = 4.0    // degrees of freedom of Student's distribution, which is what stretches leave
)

// newNeed is what is believed of any heater of a kind.
func newNeed(k *needKind) Need {
	n := Need{Left: needNoise * needNoise}
	n.Mean[needLoss], n.Var[needLoss][needLoss] = needDuty, needDuty*needDuty
	n.fans(fanSpread * needDuty)
	n.Var[needMelt][needMelt] = math.Pow(meltSpread*needDuty, 2)
	n.Var[needSag][needSag] = sagSpread * sagSpread
	n.Mean[needRise], n.Var[needRise][needRise] = k.rise, k.rise*k.rise/9
	n.Mean[needLag], n.Var[needLag][needLag] = k.lag, k.lag*k.lag/4
	return n
}

// fans makes the fan's effect uncertain by a walk from 0, so that knots which are not
// seen follow their neighbours.
func (n *Need) fans(spread float64) {
	for i, a := range fanKnots {
		for j, b := range fanKnots {
			n.Var[needFan+i][needFan+j] += spread * spread * min(a, b)
		}
	}
}

// passes lets the time of a stretch go by, in which the room may become another one.
func (n *Need) passes() { n.Var[needLoss][needLoss] += math.Pow(roomWanders*n.Mean[needLoss], 2) }

// begin lets a run begin: in another room, perhaps with another filament, and with what
// is behind the heater as cold as it may be.
func (n *Need) begin() {
	loss := n.Mean[needLoss]
	n.Var[needLoss][needLoss] += math.Pow(roomMoves*loss, 2)
	n.fans(fanMoves * loss)
	n.Var[needMelt][needMelt] += math.Pow(meltMoves*n.Mean[needMelt], 2)
	for i := needSoak; i < needs; i++ {
		for j := range n.Var {
			n.Var[i][j], n.Var[j][i] = 0, 0
		}
		n.Mean[i], n.Var[i][i] = 0, math.Pow(soakSpread*loss, 2)
	}
}

// row is what a stretch says of a Need's parts, with that share of its flow.
func (k *needKind) row(s stretch, flows float64) (x [needs]float64) {
	scale := (s.actual - reference) / k.span
	x[needLoss] = scale
	for i, f := range s.fan {
		x[needFan+i] = f * scale
	}
	x[needMelt] = s.flow * flows * scale
	x[needSag] = s.beside
	x[needRise], x[needLag] = s.rises, s.grows
	for i, t := range k.soaks {
		x[needSoak+i] = math.Exp(-s.since/t) * scale
	}
	return x
}

// expect is what duty a stretch should have taken, and the variance of that.
func (n *Need) expect(x [needs]float64) (duty, variance float64) {
	variance = n.Left
	for i := range x {
		duty += n.Mean[i] * x[i]
		for j := range x {
			variance += x[i] * n.Var[i][j] * x[j]
		}
	}
	return duty, variance
}

// believes is what duty a row takes but for noise, and its standard deviation.
func (n *Need) believes(x [needs]float64) (duty, deviation float64) {
	duty, variance := n.expect(x)
	return duty, math.Sqrt(max(variance-n.Left, 0))
}

// Known reports whether a heater has been seen to hold for long enough.
func (n Need) Known() bool { return n.Seen >= needKnown }

// Holding is the duty that holds a heater at a temperature, °C, long after it came
// there, and its standard deviation.
func (n Need) Holding(h Heater, t float64, c Conditions) (duty, deviation float64) {
	s := stretch{actual: t, flow: c.Flow, since: math.Inf(1), beside: c.Beside * n.Mean[needLoss]}
	s.along(c.Fan, 1)
	return n.believes(needOf(h).row(s, 1))
}

// More is how much more duty it takes at a temperature than without those conditions,
// and its standard deviation.
func (n Need) More(h Heater, t float64, c Conditions) (duty, deviation float64) {
	s := stretch{actual: t, flow: c.Flow, since: math.Inf(1)}
	s.along(c.Fan, 1)
	x := needOf(h).row(s, 1)
	x[needLoss] = 0
	return n.believes(x)
}

// FanKnots are the shares of the fan at which its effect is learned.
func FanKnots() []float64 { return fanKnots[:] }

// learn takes a stretch and returns how likely it was, as a logarithm.
func (n *Need) learn(x [needs]float64, duty float64) float64 {
	expected, variance := n.expect(x)
	off := duty - expected
	likely := likelihood(off*off, variance)
	of := variance - n.Left // what is not known yet is no noise
	if off*off > needClip*needClip*variance {
		variance = off * off / (needClip * needClip) // one that is far off counts as one with more noise
	}
	var gain, px [needs]float64
	for i := range x {
		for j := range x {
			px[i] += n.Var[i][j] * x[j]
		}
		gain[i] = px[i] / variance
	}
	if x[needs-1] > soakOver*x[needLoss] { // what fades meanwhile looks like anything that comes and goes
		gain[needSag] = 0
	}
	for i := range x {
		n.Mean[i] += gain[i] * off
	}
	// In the form of R. S. Bucy and P. D. Joseph (1968), which is right for every gain.
	for i := range x {
		for j := range x {
			n.Var[i][j] += gain[i]*gain[j]*variance - gain[i]*px[j] - px[i]*gain[j]
		}
	}
	n.bound(needSag, 0, sagMost)
	n.Seen++
	pace := 1 / float64(min(n.Seen+5, 40))
	n.Left = max(n.Left+pace*(max(min(off*off, 9*(of+n.Left))-of, 0)-n.Left), needLeast*needLeast)
	return likely
}

// bound keeps a part within what it can be, and lets the others be what they are most
// likely to be then.
func (n *Need) bound(part int, least, most float64) {
	off := min(max(n.Mean[part], least), most) - n.Mean[part]
	if off == 0 || n.Var[part][part] <= 0 {
		return
	}
	for i := range n.Mean {
		n.Mean[i] += off * n.Var[i][part] / n.Var[part][part]
	}
}

// typical is how likely a stretch is that takes so much duty but for noise.
func (n *Need) typical(x [needs]float64, duty float64) float64 {
	expected, variance := n.expect(x)
	return likelihood(math.Pow(duty-expected, 2)+n.Left, variance)
}

// likelihood is the logarithm of that of Student's distribution, but for a constant.
func likelihood(square, variance float64) float64 {
	return -math.Log(variance)/2 - (needTails+1)/2*math.Log1p(square/variance/needTails)
}
