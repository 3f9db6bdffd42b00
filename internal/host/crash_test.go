package host_test

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/durable"
	"diathermon/internal/host"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// crashes is how many prints TestAHostThatIsKilledAtAnyMoment lets hosts be killed in.
var crashes = flag.Uint64("crashes", 12, "how many prints to kill hosts in")

// crash lets the host end at once, with its journals as they are now and with what it has
// written and the cable has not brought lost, but for so many bytes; another one comes in its place.
func (r *rig) crash(brought int) {
	r.t.Helper()
	synctest.Wait()
	was := r.journals
	r.journals = r.t.TempDir()
	files, err := filepath.Glob(filepath.Join(was, "*"))
	if err != nil {
		r.t.Fatal(err)
	}
	for _, path := range files {
		r.copyJournal(path, filepath.Join(r.journals, filepath.Base(path)))
	}
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
	r.arrive()
}

// copyJournal makes a journal another, with what memory keeps of it.
func (r *rig) copyJournal(from, to string) {
	body, err := os.ReadFile(from)
	if err == nil {
		err = os.WriteFile(to, body, 0o600)
	}
	if err != nil {
		r.t.Fatal(err)
	}
	name := func(path string) string { return fmt.Sprintf("diathermon-%x", sha256.Sum256([]byte(path))) }
	was, err := durable.OpenCount(name(from))
	if err != nil {
		r.t.Fatal(err)
	}
	defer was.Close()
	is, err := durable.NewCount(name(to))
	if err != nil {
		r.t.Fatal(err)
	}
	is.Set(was.Get())
	is.Close()
	r.t.Cleanup(func() { durable.RemoveCount(name(to)) })
}

func TestAHostThatIsKilledAtAnyMomentGoesOn(t *testing.T) {
	for seed := range *crashes {
		rng := rand.New(rand.NewPCG(seed, 9))
		config, fast := simprinter.Vesper(), rng.IntN(2) == 0
		dialect := []string{"", "naming=full", "naming=full,plainly=temperatures"}[rng.IntN(3)]
		config.Dialect = simprinter.MustDialect(dialect)
		over := pace{late: time.Duration(1+rng.IntN(30)) * time.Millisecond, slow: time.Duration(rng.IntN(50)) * time.Millisecond}
		layers, most := 6, 15*time.Second
		if fast {
			over.warp, layers, most = 100, 25, time.Second
		}
		any := func(most time.Duration) time.Duration { return time.Duration(rng.Int64N(int64(most))) }
		trims, holds := rng.IntN(2) == 0, rng.IntN(2) == 0
		t.Run(fmt.Sprintf("%d at %d times with %q, changed %v", seed, max(over.warp, 1), dialect, trims), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRigOver(t, over, config, samples.Coupon(layers))
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
					time.Sleep(any(most))
					for range rng.IntN(3) {
						if trims {
							r.Run.Trim(t.Context(), "", func(is trim.Trim) trim.Trim {
								is.Speed = float64(50 + 10*rng.IntN(10))
								return is
							}, "keeper")
						}
						time.Sleep(any(most / 50))
					}
					if holds && rng.IntN(2) == 0 {
						r.Run.Hold(t.Context(), "")
						time.Sleep(any(most / 10))
						if rng.IntN(2) == 0 {
							r.Run.Resume(t.Context(), "")
							time.Sleep(any(most / 10))
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
			r := newRig(t, 6)
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
