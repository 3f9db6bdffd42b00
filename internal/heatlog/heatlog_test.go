package heatlog_test

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/heatlog"
)

// store keeps chunks in memory, and can be away.
type store struct {
	mu     sync.Mutex
	chunks map[string]heat.Chunk
	away   atomic.Bool
	puts   int
}

var errAway = errors.New("the database is away")

func newStore() *store { return &store{chunks: map[string]heat.Chunk{}} }

func (s *store) PutChunks(_ context.Context, chunks []heat.Chunk) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away.Load() {
		return errAway
	}
	for _, c := range chunks {
		s.chunks[string(c.Heater)+c.Begins.String()] = c
		s.puts++
	}
	return nil
}

func (s *store) Chunks(_ context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away.Load() {
		return nil, errAway
	}
	var out []heat.Chunk
	for _, c := range s.chunks {
		if c.Heater == h && c.Begins.Before(to) && !c.Ends.Before(from) {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b heat.Chunk) int { return a.Begins.Compare(b.Begins) })
	return out, nil
}

func (s *store) Minutes(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error) {
	return s.Chunks(ctx, h, from, to)
}

func (s *store) Sums(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Span, error) {
	chunks, err := s.Chunks(ctx, h, from, to)
	var out []heat.Span
	for _, c := range chunks {
		out = append(out, c.Sum)
	}
	return out, err
}

func (s *store) Heaters(context.Context) (heaters []heat.Heater, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.chunks {
		if !slices.Contains(heaters, c.Heater) {
			heaters = append(heaters, c.Heater)
		}
	}
	return heaters, nil
}

func (s *store) Last(context.Context) (last time.Time, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.chunks {
		if c.Ends.After(last) {
			last = c.Ends
		}
	}
	return last, nil
}

func (s *store) Forget(_ context.Context, before time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, c := range s.chunks {
		if c.Ends.Before(before) {
			delete(s.chunks, key)
		}
	}
	return nil
}

// open returns a log at work. In a bubble, whatever is noted is on the disk after
// the next virtual second.
func open(t *testing.T, dir string, s *store) (*heatlog.Log, func()) {
	t.Helper()
	l, err := heatlog.Open(t.Context(), dir, s, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		l.Work(ctx)
	}()
	end := func() { cancel(); <-done }
	t.Cleanup(end)
	return l, end
}

// made are two heaters' readings of n seconds from begins on.
func made(begins time.Time, n int) []heat.Sample {
	var out []heat.Sample
	for i := range n {
		at := begins.Add(time.Duration(i) * time.Second).UTC()
		for which, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
			out = append(out, heat.Sample{At: at, Reading: heat.Reading{
				Heater: h, Actual: math.Round(100*(20+float64(i%500)/5+float64(which))) / 100,
				Setpoint: float64(i / 1000), HasSetpoint: i%2 == 0, Duty: float64(i%128) / 127, HasDuty: true,
			}})
			if s := &out[len(out)-1]; !s.HasSetpoint {
				s.Setpoint = 0
			}
		}
	}
	return out
}

var both = []heat.Heater{heat.Nozzle, heat.Bed}

// mustHold fails unless the log has exactly these readings.
func mustHold(t *testing.T, l *heatlog.Log, want []heat.Sample) {
	t.Helper()
	got, err := l.Readings(t.Context(), both, want[0].At, want[len(want)-1].At.Add(time.Hour), 1<<30)
	if err != nil {
		t.Fatal(err)
	}
	less := func(a, b heat.Sample) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Heater, b.Heater)) }
	slices.SortFunc(got, less)
	want = slices.Clone(want)
	slices.SortFunc(want, less)
	if len(got) != len(want) {
		t.Fatalf("the log has %d readings, want %d", len(got), len(want))
	}
	for i := range got {
		if !reflect.DeepEqual(got[i], want[i]) {
			t.Fatalf("reading %d is %+v, want %+v", i, got[i], want[i])
		}
	}
}

func TestEveryReadingIsThereAfterTheProcessWasKilled(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, s := t.TempDir(), newStore()
		all := made(time.Now(), 5*3600)
		for from := 0; from < len(all); {
			l, _ := open(t, dir, s) // the ones of before are never told that they end
			for range 7000 {
				if from < len(all) {
					l.Note(all[from : from+2])
					from += 2
				}
			}
			time.Sleep(time.Second)
			mustHold(t, l, all[:from])
		}
		if s.puts < 6 {
			t.Errorf("%d chunks have reached the store", s.puts)
		}
	})
}

func TestAPowerCutTakesNoMoreThanItsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, s := t.TempDir(), newStore()
		all := made(time.Now(), 600)
		l, end := open(t, dir, s)
		l.Note(all)
		time.Sleep(time.Second)
		end()
		paths, _ := filepath.Glob(filepath.Join(dir, "*"))
		if len(paths) != 1 {
			t.Fatalf("the files are %v", paths)
		}
		info, err := os.Stat(paths[0])
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Truncate(paths[0], info.Size()-17); err != nil { // in the middle of a record
			t.Fatal(err)
		}
		l, _ = open(t, dir, s)
		mustHold(t, l, all[:len(all)-1])
		l.Note(all[len(all)-1:])
		time.Sleep(time.Second)
		again, _ := open(t, dir, s)
		mustHold(t, again, all)
	})
}

func TestAStoreThatIsAwayGetsEverythingLater(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, s := t.TempDir(), newStore()
		l, _ := open(t, dir, s)
		s.away.Store(true)
		all := made(time.Now(), 3*3600)
		for at := 0; at < len(all); at += 600 {
			l.Note(all[at : at+600])
			time.Sleep(5 * time.Minute)
		}
		live := all[len(all)-200:]
		if got, err := l.Readings(t.Context(), both, live[0].At, time.Now().Add(time.Hour), 1000); err != nil || len(got) != len(live) {
			t.Errorf("without the store the last minutes are %d readings, %v", len(got), err)
		}
		if paths, _ := filepath.Glob(filepath.Join(dir, "*")); len(paths) != 3 {
			t.Errorf("%d hours wait on disk", len(paths))
		}
		s.away.Store(false)
		time.Sleep(time.Minute)
		mustHold(t, l, all)
		if paths, _ := filepath.Glob(filepath.Join(dir, "*")); len(paths) != 1 || s.puts != 4 {
			t.Errorf("%d files are left and %d chunks were stored", len(paths), s.puts)
		}
	})
}

func TestAnyWindowKeepsExtremesAndGaps(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStore()
		l, _ := open(t, t.TempDir(), s)
		begins := time.Now().Add(-200 * 24 * time.Hour).Truncate(time.Hour)
		for hour := range 200 * 24 {
			if hour%24 >= 8 { // it runs eight hours a day
				continue
			}
			samples := make([]heat.Sample, 0, 60)
			for minute := range 60 {
				r := heat.Reading{Heater: heat.Bed, Actual: 60}
				if hour == 2400 && minute == 30 {
					r.Actual = 131.5
				}
				samples = append(samples, heat.Sample{At: begins.Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute), Reading: r})
			}
			if err := s.PutChunks(t.Context(), []heat.Chunk{heat.ChunkOf(samples)}); err != nil {
				t.Fatal(err)
			}
		}
		peak := begins.Add(2400*time.Hour + 30*time.Minute)
		for _, length := range []time.Duration{10 * time.Minute, 5 * time.Hour, 60 * time.Hour, 30 * 24 * time.Hour, 190 * 24 * time.Hour} {
			for _, points := range []int{60, 1500} {
				spans, err := l.Chart(t.Context(), heat.Bed, peak.Add(-length/2), peak.Add(length/2), points)
				if err != nil {
					t.Fatal(err)
				}
				highest, gaps := 0.0, 0
				for _, span := range spans {
					highest = max(highest, span.High)
					if span.Count == 0 {
						gaps++
					}
				}
				if highest != 131.5 {
					t.Errorf("%s in %d points: the highest is %g °C", length, points, highest)
				}
				if nights := int(length / (24 * time.Hour)); length/time.Duration(points) < 4*time.Hour && length > time.Hour && gaps < nights {
					t.Errorf("%s in %d points: %d gaps, want %d", length, points, gaps, nights)
				}
				if len(spans) > 2*points+2 {
					t.Errorf("%s: %d points for %d", length, len(spans), points)
				}
			}
		}
	})
}

func TestOldReadingsAreDroppedOnlyWhereTheOwnerWantsIt(t *testing.T) {
	for keep, want := range map[time.Duration]int{0: 2, 24 * time.Hour: 1} {
		synctest.Test(t, func(t *testing.T) {
			s := newStore()
			old := []heat.Sample{{At: time.Now().Add(-48 * time.Hour), Reading: heat.Reading{Heater: heat.Bed, Actual: 20}}}
			fresh := []heat.Sample{{At: time.Now().Add(-time.Hour), Reading: heat.Reading{Heater: heat.Bed, Actual: 20}}}
			s.PutChunks(t.Context(), []heat.Chunk{heat.ChunkOf(old), heat.ChunkOf(fresh)})
			l, err := heatlog.Open(t.Context(), t.TempDir(), s, slog.New(slog.DiscardHandler))
			if err != nil {
				t.Fatal(err)
			}
			l.Keep = keep
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			l.Work(ctx)
			if len(s.chunks) != want {
				t.Errorf("kept for %s: %d chunks are left, want %d", keep, len(s.chunks), want)
			}
		})
	}
}

func TestAClockThatIsPutBackByDaysLeavesReadingsInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, _ := open(t, t.TempDir(), newStore())
		noon := time.Now().Truncate(time.Hour)
		note := func(at time.Time) {
			l.Note([]heat.Sample{{At: at, Reading: heat.Reading{Heater: heat.Bed, Actual: 60}}})
		}
		for i := range 20 {
			note(noon.Add(time.Duration(i) * time.Second))
		}
		back := noon.Add(-50 * time.Hour)
		for i := range 20 {
			note(back.Add(time.Duration(i) * time.Second))
		}
		for _, window := range []struct {
			from, to time.Time
			want     int
		}{{back, noon.Add(time.Hour), 40}, {back, back.Add(10 * time.Second), 10}, {noon, noon.Add(10 * time.Second), 10}, {noon.Add(-time.Hour), noon, 0}, {back, noon.Add(10 * time.Second), 30}, {back.Add(10 * time.Second), noon.Add(time.Hour), 30}} {
			got, err := l.Readings(t.Context(), []heat.Heater{heat.Bed}, window.from, window.to, 1000)
			if err != nil || len(got) != window.want || !slices.IsSortedFunc(got, func(a, b heat.Sample) int { return a.At.Compare(b.At) }) {
				t.Errorf("from %s to %s: %d readings, %v, want %d in order", window.from, window.to, len(got), err, window.want)
			}
		}
	})
}
