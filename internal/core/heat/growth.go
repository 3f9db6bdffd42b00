package heat

import "math"

// Growth is by what share more duty a heater needs at the least than it did in this run.
type Growth struct {
	Share  float64
	Hotter float64 // K that it is hotter by than it reads, if its sensor leaves it
	Known  bool    // it can be told
}

// growth finds a Growth: what stretches take beyond what a Need of some time ago
// expects of them. What comes all at once may be a draught, and counts when it has
// lasted; what creeps counts at once.
type growth struct {
	seen   int       // stretches until the first of then
	then   [2]Need   // of some time ago, and of half that
	taken  float64   // s when the second was
	recent []float64 // share of the loss that the last stretches took more
	last   float64   // of them, or of those before
	at     float64   // s of the last
	set    float64   // °C that all this is of
	step   float64   // what came all at once
	steps  int       // stretches in which it came
	until  float64   // s until which that may be a draught
	noise  float64   // standard deviation of one of recent
}

// Shares are of the loss.
const (
	growthKnown   = 6     // stretches until it is known what a heater needs
	growthMoves   = 15.0  // K of another temperature, at which a heater needs another share
	growthStep    = 0.04  // from one stretch to the next, that comes all at once
	growthSteps   = 2     // stretches in which it does
	growthLasts   = 4     // times as long as what must show it, after which no draught does it
	growthDraught = 0.7   // that a draught takes at the most
	growthDoubt   = 1.5   // standard deviations that are given to noise
	growthLow     = 0.015 // the least that the noise may be before it is known
	growthHigh    = 0.03  // and the most
	growthClear   = 4.0   // times the noise that what is looked for must be
	growthNoise   = 3.0   // standard deviations that are no noise
)

// note takes a stretch of a heater that needs so much, before that is learned from it.
func (g *growth) note(k *needKind, n *Need, s stretch) {
	if math.Abs(s.actual-g.set) > growthMoves {
		*g = growth{set: s.actual}
	}
	x := k.row(s, 1)
	loss := n.Mean[needLoss] * x[needLoss]
	if g.seen++; g.seen <= growthKnown || loss <= 0 {
		g.then, g.taken = [2]Need{*n, *n}, s.at
		return
	}
	still := x
	still[needRise], still[needLag] = 0, 0
	unsure := func(x [needs]float64) bool {
		_, deviation := g.then[0].believes(x)
		return deviation > k.sure*loss
	}
	switch {
	case unsure(still): // of conditions that were not seen by then
		g.then, g.taken, g.recent = [2]Need{*n, *n}, s.at, g.recent[:0]
		return // but what came all at once is still there, of what is known now
	case unsure(x):
		return
	}
	expected, _ := g.then[0].expect(x)
	share, gap := (s.duty-expected)/loss, s.at-g.at
	if g.at = s.at; g.noise == 0 {
		g.noise = min(max(math.Sqrt(n.Left)/loss, growthLow), growthHigh)
	}
	ordinary := math.Abs(share)*(s.actual-reference) < k.grows/2
	g.follow(k, share-g.last, gap, ordinary)
	g.last = share
	if s.at > g.until {
		g.steps, g.step = 0, 0
	}
	if len(g.recent) == k.recent {
		g.recent = append(g.recent[:0], g.recent[1:]...)
	}
	g.recent = append(g.recent, share)
	if s.at-g.taken > k.slow/2 && ordinary {
		g.then, g.taken = [2]Need{g.then[1], *n}, s.at
	}
}

// follow takes by how much more a stretch took than the one before it, some seconds ago.
func (g *growth) follow(k *needKind, more, gap float64, ordinary bool) {
	switch jumps := math.Abs(more) > max(growthStep*min(gap/k.stretch, 2), growthNoise*math.Sqrt2*g.noise); {
	case jumps && more > 0:
		if g.steps++; g.steps <= growthSteps { // a draught is there after that
			g.step += more
			g.until = g.at + growthLasts*float64(k.recent)*k.stretch
		}
	case jumps:
		g.steps, g.step = 0, max(g.step+more, 0)
	default:
		g.steps = 0
	}
	if !ordinary {
		return
	}
	// By successive differences, in which what creeps does not show (J. von Neumann,
	// Distribution of the Ratio of the Mean Square Successive Difference, 1941).
	square := g.noise * g.noise
	g.noise = math.Sqrt(square + (min(more*more/2, growthNoise*growthNoise*square)-square)/float64(min(g.seen+3, 40)))
}

// of is what can be told now.
func (g *growth) of(k *needKind) Growth {
	above := g.set - reference
	if len(g.recent) < k.recent || growthClear*g.noise*above > k.grows {
		return Growth{}
	}
	least := math.Inf(1)
	for _, share := range g.recent {
		least = min(least, share)
	}
	share := least - min(g.step, growthDraught) - growthDoubt*g.noise
	return Growth{share, share * above, true}
}
