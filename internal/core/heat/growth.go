package heat

import "math"

// Growth is by what share more duty a heater needs at the least than it did in this run.
type Growth struct {
	Share float64
	Known bool // it can be told
}

// growth finds a Growth: by how much more a heater needs than it did in this run: of what remains
// when fan, filament, supply and what was still cold are taken off. What comes all at
// once may be a draught, and counts when it has lasted; what creeps counts at once.
type growth struct {
	base   float64   // of the loss, over a long time
	seen   int       // stretches in base
	recent []float64 // of the loss, the last
	at     float64   // s of the last
	set    float64   // °C that base is of
	step   float64   // what came all at once
	steps  int       // stretches in a row in which it came
	until  float64   // s until which that may be a draught
	noise  float64   // standard deviation of one of recent
}

const (
	growthKnown   = 6     // stretches until it is known what a heater needs
	growthMoves   = 15.0  // K of another temperature, at which a heater needs another share
	growthFollow  = 0.05  // of the loss, by which one stretch may move base at the most
	growthLeast   = 0.6   // of the loss, below which base is not believed
	growthStep    = 0.04  // of the loss from one stretch to the next, that comes all at once
	growthSteps   = 2     // stretches in a row in which it does
	growthLasts   = 4     // times as long as what must show it, after which no draught does it
	growthDraught = 0.7   // of the loss, that a draught takes at the most
	growthDoubt   = 1.5   // standard deviations that are given to noise
	growthLow     = 0.015 // of the loss, the least that the noise may be before it is known
	growthHigh    = 0.08  // and the most
	growthNoise   = 3.0   // standard deviations that are noise
)

// note takes a stretch.
func (g *growth) note(k *needKind, n *Need, s stretch) {
	x := k.row(s, 1)
	rest := x
	rest[needLoss] = 0
	others, variance := n.expect(rest)
	scale := x[needLoss]
	if sure := math.Sqrt(max(variance-n.Left, 0)); scale < 0.1 || sure > k.sure*n.Mean[needLoss]*scale {
		return
	}
	if math.Abs(s.actual-g.set) > growthMoves {
		*g = growth{set: s.actual}
	}
	loss, gap := (s.duty-others)/scale, s.at-g.at
	if g.at = s.at; g.seen == 0 {
		g.base, g.noise = loss, min(max(math.Sqrt(n.Left)/scale, growthLow*loss), growthHigh*loss)
	} else {
		more := loss - g.recent[len(g.recent)-1]
		switch jumps := math.Abs(more) > max(growthStep*g.base*min(gap/k.stretch, 2), growthNoise*math.Sqrt2*g.noise); {
		case jumps && more > 0:
			if g.steps++; g.steps <= growthSteps { // a draught is there after that
				g.step += more
				g.until = s.at + growthLasts*float64(k.recent)*k.stretch
			}
		case jumps:
			g.steps, g.step = 0, max(g.step+more, 0)
		default:
			g.steps = 0
		}
		// By successive differences, in which what creeps does not show (J. von Neumann,
		// Distribution of the Ratio of the Mean Square Successive Difference, 1941).
		square := g.noise * g.noise
		g.noise = math.Sqrt(square + (min(more*more/2, growthNoise*growthNoise*square)-square)/float64(min(g.seen+3, 40)))
	}
	g.seen++
	if s.at > g.until {
		g.step = 0
	}
	if len(g.recent) == k.recent {
		g.recent = append(g.recent[:0], g.recent[1:]...)
	}
	g.recent = append(g.recent, loss)
	follows := k.stretch / k.slow
	if g.seen <= growthKnown {
		follows = 1 / float64(g.seen)
	}
	g.base += min(max(follows*(loss-g.base), -growthFollow*g.base), growthFollow*g.base)
	g.base = max(g.base, growthLeast*n.Mean[needLoss])
}

// of is what can be told now.
func (g *growth) of(k *needKind) Growth {
	if g.seen < growthKnown || len(g.recent) < k.recent || g.base <= 0 || 2*g.noise > k.grows*g.base {
		return Growth{}
	}
	least := math.Inf(1)
	for _, loss := range g.recent {
		least = min(least, loss)
	}
	return Growth{(least-min(g.step, growthDraught*g.base)-growthDoubt*g.noise)/g.base - 1, true}
}
