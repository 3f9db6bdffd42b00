package run_test

import (
	"math"
	"reflect"
	"testing"
	"time"

	"diathermon/internal/core/run"
)

func TestProgressIsMeasuredInTime(t *testing.T) {
	marks := []run.Mark{{Command: 10, Seconds: 5, Z: 0.2}, {Command: 20, Seconds: 45, Z: 0.4}, {Command: 30, Seconds: 95, Z: 0.6}}
	const total = 100 * time.Second
	course := run.Course{Every: 10}
	for _, m := range marks {
		course.Pass(m.Command+1, m.Seconds, m.Seconds)
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
	spent, ends := 0.0, make([]float64, commands+1)
	for command := 1; command <= commands; command++ {
		if command%5 != 0 { // every fifth moves nothing
			course.Pass(command, spent, spent/2)
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
	course.End = float32(spent / 2)
	as, takes2 := course.As(run.Factors{Steady: 1, Added: 3}, total) // half of it thrice
	for taken := 0; taken <= commands; taken += 13 {
		at := as.After(taken, commands, takes2)
		if got := at.Seconds(); math.Abs(got-2*ends[taken]) > 0.1 {
			t.Fatalf("the first %d take %.3f s on another printer, want %.3f", taken, got, 2*ends[taken])
		}
		if got := as.Steadily(at, takes2).Seconds(); math.Abs(got-ends[taken]/2) > 0.1 {
			t.Fatalf("%.3f s of the first %d are steady, want %.3f", got, taken, ends[taken]/2)
		}
	}
	if got := (run.Course{}).After(1, 4, 8*time.Second); got != 2*time.Second {
		t.Errorf("without a course a quarter of the commands takes %s", got)
	}
	course.Steady = nil // as one that was computed before there was any
	as, takes2 = course.As(run.Factors{Steady: 2, Added: 2}, total)
	if takes2 != total || as.Steadily(time.Second, takes2) != time.Second {
		t.Errorf("of a course without steady time %s of %s are made", as.Steadily(time.Second, takes2), takes2)
	}
	if got := course.After(commands+5, commands, total); got != total {
		t.Errorf("more than all take %s of %s", got, total)
	}
}

func TestARunIsBelievedAgainstAllThatWasShownBefore(t *testing.T) {
	var before, now run.Kinds
	for range 4 * 60 { // four hours in which everything took as long as computed
		before.Note(time.Minute, 50*time.Second, 10*time.Second)
	}
	h := run.Habits{}.Shown(before)
	for range 20 { // and twenty minutes at half the speed, which somebody has set at the printer
		now.Note(time.Minute, 25*time.Second, 5*time.Second)
	}
	if f := h.With(now); f.Steady < 1.4 || f.Steady > 2 {
		t.Errorf("moves are said to take %.2f times as long as computed", f.Steady)
	}
	if f := h.With(run.Kinds{}); math.Abs(f.Steady-1) > 0.02 {
		t.Errorf("before anything is shown it is %.2f", f.Steady)
	}
}

// A printer that adds more than was computed to what moves take at their feed rates shows it
// on files that differ by how much that is, and is believed of others.
func TestKindsOfTimeAreToldApart(t *testing.T) {
	for name, really := range map[string]run.Factors{
		"as computed":      {Steady: 1, Added: 1},
		"speeds up slowly": {Steady: 1, Added: 1.5},
		"speeds up fast":   {Steady: 1, Added: 0.6},
		"slow in all":      {Steady: 1.2, Added: 1.2},
	} {
		var h run.Habits
		for n := range 6 { // files of ten minutes, of which 10 to 60 % is added
			var k run.Kinds
			for range 600 {
				added := 0.1 + 0.1*float64(n)
				k.Note(seconds(really.Steady*(1-added)+really.Added*added), seconds(1-added), seconds(added))
			}
			h = h.Shown(k)
		}
		for _, added := range []float64{0.05, 0.3, 0.7} {
			f := h.Moves.Factors()
			got, want := f.Steady*(1-added)+f.Added*added, really.Steady*(1-added)+really.Added*added
			if math.Abs(got-want) > 0.015*want {
				t.Errorf("%s, %g added: it is believed to take %.3f of what was computed, and takes %.3f", name, added, got, want)
			}
		}
		for range 100 {
			h = h.Shown(h.Moves)
		}
		if h.Moves.Seconds > 4*3600 {
			t.Errorf("%s: it rests on %g s", name, h.Moves.Seconds)
		}
	}
	var short run.Kinds
	short.Note(5*time.Second, time.Second, time.Second)
	if got := (run.Habits{}).Shown(short); !reflect.DeepEqual(got, run.Habits{}) {
		t.Errorf("of five seconds it learns %+v", got)
	}
	if f := (run.Kinds{}).Factors(); f != (run.Factors{Steady: 1, Added: 1}) {
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
