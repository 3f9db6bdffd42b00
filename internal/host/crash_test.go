package host_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// crashes is how many prints TestAHostThatIsKilledAtAnyMoment lets hosts be killed in.
var crashes = flag.Uint64("crashes", 12, "how many prints to kill hosts in")

// mortal are journals in which a host that is killed writes no more.
type mortal struct {
	books
	dead *atomic.Bool
}

func (m mortal) Begin(r run.Record) (printing.Book, error) {
	b, err := m.books.Begin(r)
	return page{b, m.dead}, err
}

func (m mortal) Unfinished() (*run.Life, printing.Book, error) {
	life, b, err := m.books.Unfinished()
	return life, page{b, m.dead}, err
}

type page struct {
	printing.Book
	dead *atomic.Bool
}

func (p page) Said(next int) {
	if !p.dead.Load() {
		p.Book.Said(next)
	}
}

func (p page) Note(e run.Entry) error {
	if p.dead.Load() {
		return nil
	}
	return p.Book.Note(e)
}

func (p page) Close(keep bool) { p.Book.Close(keep || p.dead.Load()) }

// newMortalRig is newRigOver with hosts that crash.
func newMortalRig(t *testing.T, over pace, config simprinter.Config, part samples.Part) *rig {
	t.Helper()
	var r *rig
	dead := &atomic.Bool{}
	r = newRigOver(t, over, config, part, func(c *host.Config) { c.Journal = mortal{c.Journal.(books), dead} })
	r.dead = dead
	return r
}

// crash lets the host end at once, with its journals as they are now and with what it has
// written and the cable has not brought lost, but for so many bytes; another one comes in its
// place.
func (r *rig) crash(brought int) {
	r.t.Helper()
	synctest.Wait()
	r.dead.Store(true)
	gone := r.cable.Swap(nil)
	gone.Close()
	r.board.do(func(b *simprinter.Board) {
		var left []byte
		for _, sent := range gone.onWay {
			left = append(left, sent.data...)
		}
		b.Receive(left[:min(brought, len(left))])
		gone.onWay = nil
	})
	r.until(time.Minute, func(b host.Bench) bool { return b.Run.State == run.Interrupted || b.Run.State.Final() })
	r.leave()
	r.dead.Store(false)
	r.arrive()
}

func TestAHostThatIsKilledAtAnyMomentGoesOn(t *testing.T) {
	for seed := range *crashes {
		rng := rand.New(rand.NewPCG(seed, 9))
		config, fast := simprinter.Vesper(), rng.IntN(2) == 0
		dialect := []string{"", "naming=full", "naming=full,plainly=temperatures"}[rng.IntN(3)]
		config.Dialect = simprinter.MustDialect(dialect)
		ms := func(most int) time.Duration { return time.Duration(rng.IntN(most)) * time.Millisecond }
		cable := pace{late: ms(30) + time.Millisecond, slow: ms(350)} // as much as a converter holds
		layers, most := 6, 15*time.Second
		if fast {
			cable.warp, cable.slow, layers, most = 100, ms(50), 25, time.Second
		}
		some := func(most time.Duration) time.Duration { return time.Duration(rng.Int64N(int64(most))) }
		trims, holds := rng.IntN(2) == 0, rng.IntN(2) == 0
		t.Run(fmt.Sprintf("%d at %d times with %q, changed %v", seed, max(cable.warp, 1), dialect, trims), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newMortalRig(t, cable, config, samples.Coupon(layers))
				onward := func(b host.Bench) bool { // lets a held run go on
					if b.Run == nil || b.Run.State != run.Held || !slices.Contains(b.Run.May, run.MayResume) {
						return false
					}
					if why := b.Run.Reason; strings.Contains(why, "look at the part") {
						t.Fatalf("it is held: %s", why)
					}
					r.Run.Resume(t.Context(), "")
					return false
				}
				over := func(b host.Bench) bool { return b.Run == nil || b.Run.State.Final() }
				for range 8 {
					if b := r.until(time.Hour, func(b host.Bench) bool {
						return over(b) || b.Run.State == run.Warming || b.Run.State == run.Running || onward(b)
					}); over(b) {
						break
					}
					time.Sleep(some(most))
					for range rng.IntN(3) {
						if trims {
							r.Run.Trim(t.Context(), "", func(is trim.Trim) trim.Trim {
								is.Speed = float64(50 + 10*rng.IntN(10))
								return is
							}, "keeper")
						}
						time.Sleep(some(most / 50))
					}
					if holds && rng.IntN(2) == 0 {
						r.Run.Hold(t.Context(), "")
						time.Sleep(some(most / 10))
						if rng.IntN(2) == 0 {
							r.Run.Resume(t.Context(), "")
							time.Sleep(some(most / 10))
						}
					}
					r.crash(rng.IntN(40))
				}
				r.until(2*time.Hour, func(b host.Bench) bool { return over(b) || onward(b) })
				if !trims && !holds { // which change lines, and say others
					r.mustHaveTaken()
				}
			})
		})
	}
}

func TestACountThatWasMisheardIsAskedForAnew(t *testing.T) {
	for _, fewer := range []int{1, 3, 9} {
		synctest.Test(t, func(t *testing.T) {
			r := newMortalRig(t, pace{}, simprinter.Vesper(), samples.Coupon(6))
			r.until(time.Hour, drawing)
			r.crash(0)
			taken := r.board.executed()
			wrong := fmt.Sprintf("Resend: %d", taken[len(taken)-1].Number+1-fewer)
			for range 400 { // whatever the printer itself says
				r.cable.Load().say(wrong)
				time.Sleep(10 * time.Millisecond)
			}
			r.untilState(time.Hour, run.Finished)
			r.mustHaveTaken()
		})
	}
}
