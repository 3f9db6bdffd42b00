package heat

import (
	"math"
	"time"

	"gonum.org/v1/gonum/stat"
)

// Growth is by what share more duty a heater needs at the least than it did in this run.
type Growth struct {
	Share  float64
	Hotter float64 // K that it is hotter by than it reads, if its sensor leaves it
	Known  bool    // it can be told
	Sure   bool    // another heater surely needs no more, as it would in a draught, a cold room, of a weak supply
	Heard  bool    // another heater holds its temperature, which may come to say that

	at      float64 // s of the last stretch
	since   float64 // s since which it needs more
	step    float64 // of Share, that came all at once
	stepped float64 // s when it did
	above   float64 // K that it is hotter than the reference
	over    float64 // Share, as a mean over levelOver
	clear   float64 // K by which it must be hotter, so that it is no noise
}

// growth finds a Growth: what stretches take beyond what a Need of some time ago
// expects of them. What comes all at once may be a draught, and counts when it has
// lasted; what creeps counts at once.
type growth struct {
	seen    int       // stretches until the first of then
	then    [2]Need   // of some time ago, and of half that
	since   float64   // s when the first was
	taken   float64   // and the second
	recent  []float64 // share of the loss that the last stretches took more
	late    []float64 // the same of the last levelOver
	last    float64   // of them, or of those before
	at      float64   // s of the last
	set     float64   // °C that all this is of
	step    float64   // what came all at once
	steps   int       // stretches in which it came
	grown   float64   // what came since, one stretch after the other
	calm    int       // stretches since anything came
	stepped float64   // s when it did
	more    float64   // by which the last stretch took more than the one before it
	noise   float64   // standard deviation of one of recent
	off     float64   // by which those of late may be off, where the control is a switch
}

// Shares are of the loss.
const (
	growthKnown   = 6     // stretches until it is known what a heater needs
	growthMoves   = 15.0  // K of another temperature, at which a heater needs another share
	growthStep    = 0.04  // from one stretch to the next, that comes all at once
	growthSteps   = 2     // stretches in which it does
	growthOff     = 3.0   // times what a switch may make of it, that what is looked for must be
	growthCreeps  = 3.0   // times as much as came at first, that came after it
	growthCalm    = 2     // stretches without more, after which something else may come
	growthDraught = 0.7   // that a draught takes at the most
	growthDoubt   = 1.5   // standard deviations that are given to noise
	growthLow     = 0.015 // the least that the noise may be before it is known
	growthHigh    = 0.03  // and the most
	growthClear   = 5.0   // times the noise that what is looked for must be
	growthOld     = 6.0   // stretches after which it is none of now
	growthSure    = 0.75  // of what is looked for, that there must be at the least before anything is done
	growthNoise   = 3.0   // standard deviations that are no noise
	growthPull    = 2.0   // standard deviations that one stretch may be, as the noise is learned
)

// note takes a stretch of a heater that needs so much, before that is learned from it.
func (g *growth) note(k *needKind, n *Need, s stretch) {
	if math.Abs(s.actual-g.set) > growthMoves {
		*g = growth{set: s.actual}
	}
	x := k.row(s, 1)
	loss := n.Mean[needLoss] * x[needLoss]
	if g.seen++; g.seen <= growthKnown || loss <= 0 {
		g.then, g.since, g.taken = [2]Need{*n, *n}, s.at, s.at
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
		g.then, g.taken, g.recent, g.late = [2]Need{*n, *n}, s.at, g.recent[:0], g.late[:0]
		return // but what is known now is of before what came all at once
	case unsure(x):
		return
	}
	expected, _ := g.then[0].expect(x)
	share, gap := (s.duty-expected)/loss, s.at-g.at
	if g.at = s.at; g.noise == 0 {
		g.noise = min(max(math.Sqrt(n.Left)/loss, growthLow), growthHigh)
	}
	ordinary := math.Abs(share)*(s.actual-reference) < k.grows/2
	g.follow(k, share-g.last, gap)
	g.off += (s.off/loss - g.off) / float64(k.recent)
	g.last = share
	if s.at > g.stepped+k.blows {
		g.steps, g.step = 0, 0
	}
	if len(g.recent) == k.recent {
		g.recent = append(g.recent[:0], g.recent[1:]...)
	}
	g.recent = append(g.recent, share)
	if most := int(levelOver / k.stretch); len(g.late) >= most {
		g.late = append(g.late[:0], g.late[len(g.late)-most+1:]...)
	}
	g.late = append(g.late, share)
	if s.at-g.taken > k.slow/2 && ordinary {
		g.then, g.since, g.taken = [2]Need{g.then[1], *n}, g.taken, s.at
	}
}

// follow takes by how much more a stretch took than the one before it, some seconds ago. A
// draught is there within growthSteps; what goes on coming is none.
func (g *growth) follow(k *needKind, more, gap float64) {
	switch jumps := math.Abs(more) > max(growthStep*min(gap/k.stretch, 2), growthNoise*math.Sqrt2*g.noise); {
	case jumps && more > 0:
		if g.steps++; g.steps <= growthSteps {
			g.step += more
			g.stepped = g.at
		}
		g.calm, g.grown = 0, g.grown+more
	case jumps:
		g.steps, g.step, g.calm, g.grown = 0, max(g.step+more, 0), 0, 0
	case more > growthStep/2:
		g.calm, g.grown = 0, g.grown+more
	default:
		if g.calm++; g.calm >= growthCalm {
			g.steps, g.grown = 0, 0
		}
	}
	if g.grown > growthCreeps*g.step { // most of it came later, and one after the other
		g.step = 0
	}
	// By second differences, in which what creeps does not show, however fast (after J. von
	// Neumann, Distribution of the Ratio of the Mean Square Successive Difference, 1941).
	second := more - g.more
	g.more = more
	square := g.noise * g.noise
	g.noise = math.Sqrt(square + (min(second*second/6, growthPull*growthPull*square)-square)/float64(min(g.seen+3, 40)))
}

// of is what can be told now.
func (g *growth) of(k *needKind) Growth {
	above := g.set - reference
	if len(g.recent) < k.recent {
		return Growth{}
	}
	least := math.Inf(1)
	for _, share := range g.recent {
		least = min(least, share)
	}
	off := g.off
	if off > g.noise { // of a switch: what one stretch has too much the next has too little
		least, off = stat.Mean(g.recent, nil), off/float64(k.recent)
	}
	share := least - max(growthDoubt*g.noise, off)
	clear := max(growthClear*g.noise, growthOff*off) * above
	return Growth{
		Share: share, Hotter: share * above, Known: clear <= k.grows || share*above >= clear,
		at: g.at, since: g.since, step: g.step, stepped: g.stepped,
		above: above, over: stat.Mean(g.late, nil), clear: clear,
	}
}

// level is the duty that the heater needs of late, for span, and by what share of that it is
// uncertain; 0: not known.
func (g *growth) level() (loss, doubt float64) {
	if len(g.late) == 0 {
		return 0, 0
	}
	n := float64(len(g.late))
	mean, scatter := stat.PopMeanStdDev(g.late, nil) // of a control by a switch, that is more than the noise
	return g.then[0].Mean[needLoss] * (1 + mean), max(g.noise, scatter) / math.Sqrt(n)
}

// A level is what duty a heater needed at a time, for span.
type level struct {
	at   float64 // s
	loss float64 // as its Need had it, which follows slowly
	late float64 // in the levelOver before it
}

const (
	levelOver  = 240.0      // s over which a level is a mean
	levelsKept = 3 * 3600.0 // s
	needBehind = 1800.0     // s by which what a Need says may be of before
	levelLate  = 600.0      // s by which a witness may have come to its temperature later
	levelDoubt = 2.0        // standard deviations by which it may be more
	levelOld   = 600.0      // s after which what it says is no more of now
	toNozzle   = 1.5        // times as much as the bed, that a nozzle may need more in a draught
	toBed      = 5.0        // times as much as a nozzle in its housing, that a bed may
)

// Since is by what share more duty the heater needs at a time, s, than it did at the least
// since another, and the standard deviation of that. What needed less and less until then,
// as a bed does whose heat still spreads, says nothing against a draught that came later.
func (w *NeedWatch) Since(then, now float64) (share, doubt float64, ok bool) {
	late, doubt := w.growth.level()
	if late <= 0 || now-w.growth.at > levelOld {
		return 0, 0, false
	}
	least := math.Inf(1)
	for i := len(w.levels) - 1; i >= 0; i-- {
		l := w.levels[i]
		least = min(least, l.late)
		if l.at <= then-needBehind || i == 0 {
			return late/least - 1, doubt, l.at <= then+levelLate
		}
	}
	return 0, 0, false
}

// Beside is by what more a heater needs than others do: in a draught, in a room that
// becomes colder, of a supply that is weak, all of them need more.
func (g Growth) Beside(h Heater, now time.Duration, others map[Heater]*NeedWatch) Growth {
	k := needOf(h)
	if !g.Known || now.Seconds()-g.at > growthOld*k.stretch {
		return Growth{}
	}
	_, nozzle := h.Tool()
	seen, likely, most := false, 0.0, 0.0
	for other, w := range others {
		_, its := other.Tool()
		if other == h || other == Chamber || nozzle == its {
			continue
		}
		g.Heard = g.Heard || len(w.gathers.past) > 0
		share, doubt, ok := w.Since(g.since, now.Seconds())
		if !ok {
			continue
		}
		seen = true
		times := toNozzle
		if !nozzle { // a room that becomes colder is nearer to what a bed has
			times = max(toBed, (w.growth.set-reference)/max(g.above, 10))
		}
		likely, most = max(likely, times*(share-levelDoubt*doubt)), max(most, times*(share+levelDoubt*doubt))
	}
	lasts := k.blows
	if seen { // what others need no more for is no draught, and is told sooner
		lasts /= 2
	}
	if now.Seconds()-g.stepped < lasts {
		g.Share -= min(g.step, growthDraught)
	}
	// What others need is a mean, which follows slowly; so this one's must be as large.
	g.Sure = seen && (min(g.Share, g.over)-most)*g.above >= growthSure*k.grows
	g.Share = max(g.Share-likely, 0)
	g.Hotter = g.Share * g.above
	return g
}
