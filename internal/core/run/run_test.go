package run_test

import (
	"math"
	"reflect"
	"testing"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
)

func TestProgressIsMeasuredInTime(t *testing.T) {
	marks := []run.Mark{{Command: 10, Seconds: 5, Z: 0.2}, {Command: 20, Seconds: 45, Z: 0.4}, {Command: 30, Seconds: 95, Z: 0.6}}
	const total = 100 * time.Second
	course := run.Course{Every: 10}
	for _, m := range marks {
		at := motion.Time{All: m.Seconds, Steady: m.Seconds}
		course.Pass(m.Command+1, at, at)
	}
	for _, c := range []struct {
		taken, layer int
		share        float64
	}{{0, 0, 0}, {5, 0, 0.025}, {9, 0, 0.045}, {10, 1, 0.05}, {15, 1, 0.25}, {20, 2, 0.45}, {30, 3, 0.95}, {40, 3, 1}} {
		p := run.Measure(c.taken, 40, marks, course, total)
		if p.Layer != c.layer || p.Layers != 3 || math.Abs(p.Share-c.share) > 1e-9 {
			t.Errorf("after %d: layer %d, share %v, want %d, %v", c.taken, p.Layer, p.Share, c.layer, c.share)
		}
		if want := time.Duration((1 - c.share) * float64(total)); (p.Left - want).Abs() > time.Millisecond {
			t.Errorf("after %d: %s left, want %s", c.taken, p.Left, want)
		}
	}
	if p := run.Measure(3, 4, nil, run.Course{}, 0); p.Share != 0.75 || p.Left != 0 {
		t.Errorf("without times the lines count: %+v", p)
	}
}

func TestACourseKeepsTheTimeOfEveryCommand(t *testing.T) {
	const commands = 50000
	var course run.Course
	takes := func(command int) float64 { return 0.001 * float64(command%7) } // s
	// A third of the way on a limit is set that the printer passes over.
	own := func(spent float64) motion.Time {
		return motion.Time{All: spent + max(spent-50, 0), Steady: spent / 2}
	}
	spent, ends := 0.0, make([]float64, commands+1)
	for command := 1; command <= commands; command++ {
		if command%5 != 0 { // every fifth moves nothing
			course.Pass(command, motion.Time{All: spent, Steady: spent / 2}, own(spent))
			spent += takes(command)
		}
		ends[command] = spent
	}
	total := time.Duration(spent * float64(time.Second))
	if len(course.Seconds) > 8192 || course.Every != 8 {
		t.Errorf("%d points, one in %d commands", len(course.Seconds), course.Every)
	}
	for taken := 0; taken <= commands; taken += 13 {
		if got := course.After(taken, commands, total).Seconds(); math.Abs(got-ends[taken]) > 0.05 {
			t.Fatalf("the first %d take %.3f s, want %.3f", taken, got, ends[taken])
		}
	}
	for i, got := range course.Seconds {
		if want := ends[(i+1)*course.Every]; math.Abs(float64(got)-want) > 1e-3 {
			t.Fatalf("point %d is %.3f s, want %.3f", i, got, want)
		}
		if steady := course.Steady[i]; math.Abs(float64(2*steady-got)) > 1e-3 {
			t.Fatalf("of point %d's %.3f s %.3f are steady, want half", i, got, steady)
		}
	}
	course.Ends(motion.Time{All: spent, Steady: spent / 2}, own(spent))
	as, takes2 := course.As(run.Making{Steady: 1, Added: 3}, total) // half of it thrice
	slow, takes3 := course.As(run.Making{Steady: 1, Added: 1, Own: true}, total)
	for taken := 0; taken <= commands; taken += 13 {
		at := as.After(taken, commands, takes2)
		if got := at.Seconds(); math.Abs(got-2*ends[taken]) > 0.1 {
			t.Fatalf("the first %d take %.3f s on another printer, want %.3f", taken, got, 2*ends[taken])
		}
		set, its := course.Between(as, 0, at)
		if math.Abs(set.Steady-ends[taken]/2) > 0.1 || math.Abs(set.All-ends[taken]) > 0.1 {
			t.Fatalf("the first %d were computed to take %+v, want %.3f, half of it steady", taken, set, ends[taken])
		}
		if want := own(ends[taken]); math.Abs(its.All-want.All) > 0.2 || math.Abs(its.Steady-want.Steady) > 0.1 {
			t.Fatalf("the first %d were computed to take %+v by its own limits, want %+v", taken, its, want)
		}
		if got := slow.After(taken, commands, takes3).Seconds(); math.Abs(got-own(ends[taken]).All) > 0.1 {
			t.Fatalf("the first %d take %.3f s by its own limits, want %.3f", taken, got, own(ends[taken]).All)
		}
	}
	if got := (run.Course{}).After(1, 4, 8*time.Second); got != 2*time.Second {
		t.Errorf("without a course a quarter of the commands takes %s", got)
	}
	course.Steady = nil // as one that was computed before there was any
	if _, takes2 = course.As(run.Making{Steady: 2, Added: 2}, total); takes2 != total || course.Kinds() {
		t.Errorf("a course without steady time takes %s of %s", takes2, total)
	}
	if got := course.After(commands+5, commands, total); got != total {
		t.Errorf("more than all take %s of %s", got, total)
	}
}

func TestARunIsBelievedAgainstAllThatWasShownBefore(t *testing.T) {
	var before, now run.Shown
	for range 4 * 60 { // four hours in which everything took as long as computed
		before.Note(run.Shown{}, time.Minute, motion.Time{All: 60, Steady: 50}, motion.Time{All: 60, Steady: 50})
	}
	h := run.Habits{}.Shown(before)
	for range 20 { // and twenty minutes at half the speed, which somebody has set at the printer
		now.Note(before, time.Minute, motion.Time{All: 30, Steady: 25}, motion.Time{All: 30, Steady: 25})
	}
	if f := h.With(now); f.Steady < 1.4 || f.Steady > 2 {
		t.Errorf("moves are said to take %.2f times as long as computed", f.Steady)
	}
	if f := h.With(run.Shown{}); math.Abs(f.Steady-1) > 0.02 {
		t.Errorf("before anything is shown it is %.2f", f.Steady)
	}
}

// A printer that adds more than was computed to what moves take at their feed rates shows it
// on files that differ by how much that is, and is believed of others.
func TestKindsOfTimeAreToldApart(t *testing.T) {
	for name, really := range map[string]run.Making{
		"as computed":      {Steady: 1, Added: 1},
		"speeds up slowly": {Steady: 1, Added: 1.5},
		"speeds up fast":   {Steady: 1, Added: 0.6},
		"slow in all":      {Steady: 1.2, Added: 1.2},
	} {
		var h run.Habits
		for n := range 6 { // files of ten minutes, of which 10 to 60 % is added
			var k run.Shown
			for range 600 {
				added := 0.1 + 0.1*float64(n)
				was := motion.Time{All: 1, Steady: 1 - added}
				k.Note(h.Moves, seconds(really.Steady*(1-added)+really.Added*added), was, was)
			}
			h = h.Shown(k)
		}
		for _, added := range []float64{0.05, 0.3, 0.7} {
			f := h.Moves.Making()
			got, want := f.Steady*(1-added)+f.Added*added, really.Steady*(1-added)+really.Added*added
			if math.Abs(got-want) > 0.015*want {
				t.Errorf("%s, %g added: it is believed to take %.3f of what was computed, and takes %.3f", name, added, got, want)
			}
		}
		for range 100 {
			h = h.Shown(h.Moves)
		}
		if h.Moves.Set.Seconds > 4*3600 {
			t.Errorf("%s: it rests on %g s", name, h.Moves.Set.Seconds)
		}
	}
	var short run.Shown
	short.Note(run.Shown{}, 5*time.Second, motion.Time{All: 2, Steady: 1}, motion.Time{All: 2, Steady: 1})
	if got := (run.Habits{}).Shown(short); !reflect.DeepEqual(got, run.Habits{}) {
		t.Errorf("of five seconds it learns %+v", got)
	}
	if f := (run.Shown{}).Making(); f != (run.Making{Steady: 1, Added: 1}) {
		t.Errorf("of nothing it believes %+v", f)
	}
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// drawn lets a printer make moves of a second each that really take by times as long; its
// planner holds so many, and the host is told of those it has taken.
func drawn(p *run.Pace, h run.Habits, moves, holds int, by float64) (now time.Duration) {
	at := func(n int) time.Duration { return time.Duration(max(n, 0)) * time.Second }
	begun := time.Minute
	for n := 1; n <= moves; n++ { // taken when there is room for it
		now = begun + time.Duration(by*float64(max(n-holds, 0))*float64(time.Second))
		p.Note(h, now, at(n-64), at(n-1), true)
	}
	return now
}

func TestAPrinterIsBelievedAsMuchAsItHasShown(t *testing.T) {
	var h run.Habits
	var p run.Pace
	if got := p.Left(h, time.Hour); got != time.Hour {
		t.Errorf("of a printer that has shown nothing %s of an hour are left", got)
	}
	for _, holds := range []int{1, 8, 16, 32, 64} { // of a sound plan, whatever the planner holds
		p := run.Pace{}
		now := drawn(&p, h, 900, holds, 1)
		if got, want := p.Made(h, now), time.Duration(900-holds)*time.Second; (got - want).Abs() > 2*time.Second {
			t.Errorf("a planner of %d has made %s, want %s", holds, got, want)
		}
		if got := p.Left(h, time.Hour); (got - time.Hour).Abs() > time.Second {
			t.Errorf("a planner of %d: an hour is said to take %s", holds, got)
		}
	}
	// Its moves take a fifth longer than they were computed to; in the middle nobody works.
	now := drawn(&p, h, 600, 16, 1.2)
	p.Pause()
	for n := range 4 {
		p.Note(h, now+time.Hour+time.Duration(n)*1200*time.Millisecond, time.Duration(536+n)*time.Second, time.Duration(600+n)*time.Second, true)
	}
	p.Note(h, now+3*time.Hour, 540*time.Second, 604*time.Second, true) // and again, without a word
	if got := p.Left(h, time.Hour).Minutes(); got < 68 || got > 71 {
		t.Errorf("after ten minutes an hour is said to take %.1f minutes, want about 70", got)
	}
	if p := p.Anew(); p.Left(h, time.Hour) != time.Hour {
		t.Error("moves that a person has changed are judged by those before")
	}
	p = run.Pace{}
	now = drawn(&p, h, 900, 16, 1)
	anew := p.Anew()
	anew = anew.Anew() // before a line was taken
	anew.Note(h, now+time.Second, 837*time.Second, 900*time.Second, true)
	if got := anew.Made(h, now+time.Second); got != 885*time.Second && got != 884*time.Second {
		t.Errorf("with moves that a person has changed it has made %s, and was at 885", got)
	}
	if got := anew.Made(h, now+4*time.Second) - anew.Made(h, now+time.Second); got != 3*time.Second {
		t.Errorf("in three seconds without a line it makes moves of %s", got)
	}
	if got := anew.Made(h, now+time.Hour); got != 900*time.Second {
		t.Errorf("in an hour without a line it makes %s of what it has", got)
	}
	if got := (run.Habits{}).Settle(); got != 10*time.Second {
		t.Errorf("an ordinary printer waits %s", got)
	}
	for range 30 {
		h = h.Settled(25 * time.Second)
	}
	if got := h.Settled(time.Hour).Settle(); got < 24*time.Second || got > 30*time.Second {
		t.Errorf("one that waits 25 s, and once an hour, is said to wait %s", got)
	}
}
