// Package heatlog keeps every reading of every heater for as long as the owner
// wants, and finds any window of them at once.
//
// A reading goes into memory and, at once, onto the end of a file in the data
// folder. Once an hour the readings of each heater are packed into a chunk that
// goes to the store; the file goes when the store has it. So the log is exact
// again after the process was killed, and a store that is away for days costs
// some kilobytes for each of its hours. What a power cut takes is at most
// SyncEvery long: a memory card wears with every write.
//
// Note never waits for a disk or the store. Long windows are drawn from what
// chunks sum up to for each minute and each hour.
package heatlog

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/durable"
)

const (
	// SyncEvery is how often what was written is forced onto the disk.
	SyncEvery    = 30 * time.Second
	mostReadings = 1 << 15 // in a block, whatever its length
	retryEvery   = 10 * time.Second
	forgetEvery  = 6 * time.Hour
)

// Store keeps chunks for good. What overlaps the window from Begins to but not
// including to is returned, in the order of Begins.
type Store interface {
	// PutChunks keeps chunks. One that is there already is replaced.
	PutChunks(ctx context.Context, chunks []heat.Chunk) error
	// Chunks returns chunks with their Data and without their Minutes.
	Chunks(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error)
	// Minutes returns chunks with their Minutes and without their Data.
	Minutes(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error)
	// Sums returns what chunks sum up to, one Span for each.
	Sums(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Span, error)
	// Last returns when the last reading was made; zero if there is none.
	Last(ctx context.Context) (time.Time, error)
	// Heaters returns the heaters of which there are chunks.
	Heaters(ctx context.Context) ([]heat.Heater, error)
	// Forget drops the chunks that end before a time.
	Forget(ctx context.Context, before time.Time) error
}

// A Log is the temperature log of one host.
type Log struct {
	Keep time.Duration // for how long; 0: for ever

	dir   string
	store Store
	log   *slog.Logger
	wake  chan struct{}

	mu      sync.Mutex
	open    *block
	pending []*block // closed and not known to be in the store
	last    time.Time
	known   map[heat.Heater]bool // heaters of which there are readings, or were
	told    bool                 // that the disk does not take readings

	writing sync.Mutex // held while files are written
	putting sync.Mutex // held while blocks go to the store
}

// block is some time's readings.
type block struct {
	ends     time.Time // the latest reading
	begins   time.Time
	count    int
	readings map[heat.Heater][]heat.Sample // while it is open
	chunks   []heat.Chunk                  // once it is closed
	tail     *tail
}

// Open reads what the files in dir hold of an earlier log, and goes on with it.
func Open(ctx context.Context, dir string, store Store, log *slog.Logger) (*Log, error) {
	if err := durable.Folder(dir); err != nil {
		return nil, fmt.Errorf("the folder of the temperature log cannot be made: %w", err)
	}
	l := &Log{dir: dir, store: store, log: log, wake: make(chan struct{}, 1), known: map[heat.Heater]bool{}}
	var err error
	if l.last, err = store.Last(ctx); err != nil {
		return nil, err
	}
	heaters, err := store.Heaters(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range heaters {
		l.known[h] = true
	}
	paths, err := filepath.Glob(filepath.Join(dir, "*"+tailSuffix))
	if err != nil {
		return nil, err
	}
	slices.Sort(paths)
	for _, path := range paths {
		samples, t, err := openTail(path)
		if err != nil {
			return nil, err
		}
		if len(samples) == 0 {
			t.remove()
			continue
		}
		if l.open != nil {
			l.pending = append(l.pending, l.open.closed())
		}
		l.open = &block{tail: t, readings: map[heat.Heater][]heat.Sample{}}
		for _, s := range samples {
			l.open.add(s)
			l.last = later(l.last, s.At)
			l.known[s.Heater] = true
		}
	}
	return l, nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// Last returns when the newest reading was made; zero if there is none.
func (l *Log) Last() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// Heaters returns every heater of which the log has readings, in the order of
// their names, also those that the printer does not have any more.
func (l *Log) Heaters() []heat.Heater {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Sorted(maps.Keys(l.known))
}

// Note takes readings, the oldest first.
func (l *Log) Note(samples []heat.Sample) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range samples {
		s.At = s.At.UTC().Truncate(heat.Resolution)
		if b := l.open; b != nil && (s.At.Sub(b.begins) >= heat.ChunkLength || s.At.Before(b.begins) || b.count >= mostReadings) {
			l.pending = append(l.pending, b.closed())
			l.open = nil
		}
		if l.open == nil {
			l.open = &block{readings: map[heat.Heater][]heat.Sample{}, tail: newTail(l.dir, s.At)}
		}
		l.open.add(s)
		l.open.tail.queue(s)
		l.known[s.Heater] = true
		l.last = later(l.last, s.At)
	}
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

func (b *block) add(s heat.Sample) {
	if b.count == 0 {
		b.begins = s.At
	}
	b.count++
	b.ends = later(b.ends, s.At)
	b.readings[s.Heater] = append(b.readings[s.Heater], s)
}

// closed packs a block, which takes nothing more.
func (b *block) closed() *block {
	for _, h := range slices.Sorted(maps.Keys(b.readings)) {
		b.chunks = append(b.chunks, heat.ChunkOf(b.readings[h]))
	}
	b.readings = nil
	return b
}

// Work writes what is noted to the disk and to the store until ctx ends, and then
// once more what is left.
func (l *Log) Work(ctx context.Context) {
	synced, tried, forgotten := time.Now(), time.Time{}, time.Time{}
	timer := time.NewTicker(time.Second)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			l.write(true)
			return
		case <-l.wake:
		case <-timer.C:
		}
		sync := time.Since(synced) >= SyncEvery
		if sync {
			synced = time.Now()
		}
		l.write(sync)
		if time.Since(tried) >= retryEvery {
			tried = time.Now()
			if err := l.put(ctx); err != nil && ctx.Err() == nil {
				l.log.Warn("the temperature log waits on disk", "error", err)
			}
		}
		if l.Keep > 0 && time.Since(forgotten) >= forgetEvery {
			forgotten = time.Now()
			if err := l.store.Forget(ctx, time.Now().Add(-l.Keep)); err != nil && ctx.Err() == nil {
				l.log.Warn("old readings were not dropped", "error", err)
			}
		}
	}
}

// write puts what is queued onto the ends of the files.
func (l *Log) write(sync bool) {
	l.writing.Lock()
	defer l.writing.Unlock()
	l.mu.Lock()
	blocks := slices.Clone(l.pending)
	if l.open != nil {
		blocks = append(blocks, l.open)
	}
	var tails []*tail
	var outs [][]byte
	for _, b := range blocks {
		if out := b.tail.take(); len(out) > 0 || sync {
			tails, outs = append(tails, b.tail), append(outs, out)
		}
	}
	l.mu.Unlock()
	var failed error
	for i, t := range tails {
		failed = errors.Join(failed, t.write(outs[i], sync))
	}
	if told := failed != nil; told != l.told {
		l.told = told
		if told {
			l.log.Error("readings are only in memory", "error", failed)
		}
	}
}

// put hands the closed blocks to the store.
func (l *Log) put(ctx context.Context) error {
	l.putting.Lock()
	defer l.putting.Unlock()
	for {
		l.mu.Lock()
		var b *block
		if len(l.pending) > 0 {
			b = l.pending[0]
		}
		l.mu.Unlock()
		if b == nil {
			return nil
		}
		if err := l.store.PutChunks(ctx, b.chunks); err != nil {
			return err
		}
		l.writing.Lock()
		b.tail.remove()
		l.writing.Unlock()
		l.mu.Lock()
		l.pending = l.pending[1:]
		l.mu.Unlock()
	}
}

// Readings returns the readings of some heaters from one time up to but not
// including another, the oldest first, and at most limit of them.
func (l *Log) Readings(ctx context.Context, heaters []heat.Heater, from, to time.Time, limit int) ([]heat.Sample, error) {
	var out []heat.Sample
	for _, h := range heaters {
		samples, err := l.readings(ctx, h, from, to)
		if err != nil {
			return nil, err
		}
		out = append(out, samples...)
	}
	slices.SortStableFunc(out, func(a, b heat.Sample) int { return a.At.Compare(b.At) })
	if len(out) > limit {
		out = out[:limit]
	}
	return out, nil
}

// readings returns one heater's.
func (l *Log) readings(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Sample, error) {
	chunks, fresh, err := l.around(ctx, h, from, to, l.store.Chunks)
	if err != nil {
		return nil, err
	}
	var out []heat.Sample
	for _, c := range chunks {
		samples, err := heat.Unpack(h, c.Data)
		if err != nil {
			return nil, fmt.Errorf("the chunk of the %s from %s: %w", h, c.Begins.Format(time.RFC3339), err)
		}
		out = append(out, samples...)
	}
	out = append(out, fresh...)
	if !slices.IsSortedFunc(out, byTime) { // the computer's clock was put back by more than a day
		slices.SortStableFunc(out, byTime)
	}
	first, _ := slices.BinarySearchFunc(out, from, before)
	end, _ := slices.BinarySearchFunc(out, to, before)
	return out[first:end], nil
}

func byTime(a, b heat.Sample) int { return a.At.Compare(b.At) }

func before(s heat.Sample, t time.Time) int { return s.At.Compare(t) }

// around returns the chunks of a window, of which the store has some and the
// memory the newer ones, and the readings that are not packed yet.
func (l *Log) around(ctx context.Context, h heat.Heater, from, to time.Time, ask func(context.Context, heat.Heater, time.Time, time.Time) ([]heat.Chunk, error)) ([]heat.Chunk, []heat.Sample, error) {
	waiting, fresh, known := l.memory(h, from, to)
	if known {
		return waiting, fresh, nil
	}
	chunks, err := ask(ctx, h, from, to)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range waiting { // one may have reached the store meanwhile
		if !slices.ContainsFunc(chunks, func(o heat.Chunk) bool { return o.Begins.Equal(c.Begins) }) {
			chunks = append(chunks, c)
		}
	}
	slices.SortStableFunc(chunks, func(a, b heat.Chunk) int { return a.Begins.Compare(b.Begins) })
	return chunks, fresh, nil
}

// memory returns what of a window is not in the store; known tells that this is
// all there is of it.
func (l *Log) memory(h heat.Heater, from, to time.Time) (waiting []heat.Chunk, fresh []heat.Sample, known bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open != nil && from.Before(to) {
		known = !from.Before(l.open.begins) && !l.last.After(l.open.ends) // otherwise the clock was put back, and the store has later ones
		all := l.open.readings[h]
		first, _ := slices.BinarySearchFunc(all, from, before)
		end, _ := slices.BinarySearchFunc(all, to, before)
		fresh = slices.Clone(all[first:max(end, first)])
	}
	for _, b := range l.pending {
		for _, c := range b.chunks {
			if c.Heater == h && c.Begins.Before(to) && !c.Ends.Before(from) {
				waiting, known = append(waiting, c), false
			}
		}
	}
	return waiting, fresh, known
}

// Windows longer than these many are drawn from what chunks sum up to for each
// minute, and for each hour.
const (
	byMinute = 36 * time.Hour
	byHour   = 120 * 24 * time.Hour
)

// anHour is how long a point of a chart stands for, at least, whose window is drawn
// from hours: an hour is then no more than three points wide, and its extremes stay.
const anHour = 20 * time.Minute

// Chart returns a window of one heater in at most about points spans, in which
// extremes are kept and gaps are spans with Count 0.
func (l *Log) Chart(ctx context.Context, h heat.Heater, from, to time.Time, points int) ([]heat.Span, error) {
	length := to.Sub(from)
	switch {
	case length <= byMinute || length/time.Duration(max(points, 1)) < time.Minute:
		if length < time.Duration(points)*time.Second { // as many points as readings
			samples, err := l.readings(ctx, h, from, to)
			return heat.Chart(heat.SpansOf(samples), from, to, time.Second, points), err
		}
		return l.rolled(ctx, h, from, to, points)
	case length <= byHour && length/time.Duration(max(points, 1)) < anHour:
		chunks, fresh, err := l.around(ctx, h, from, to, l.store.Minutes)
		if err != nil {
			return nil, err
		}
		var spans []heat.Span
		for _, c := range chunks {
			minutes, err := heat.UnpackSpans(c.Minutes)
			if err != nil {
				return nil, fmt.Errorf("the minutes of the %s from %s: %w", h, c.Begins.Format(time.RFC3339), err)
			}
			spans = append(spans, minutes...)
		}
		spans = append(spans, heat.Rollup(heat.SpansOf(fresh), time.Minute)...)
		return heat.Chart(within(spans, from, to), from, to, time.Minute, points), nil
	}
	spans, err := l.store.Sums(ctx, h, from, to)
	if err != nil {
		return nil, err
	}
	waiting, fresh, _ := l.memory(h, from, to)
	for _, c := range waiting {
		if !slices.ContainsFunc(spans, func(s heat.Span) bool { return s.Begins.Equal(c.Begins) }) {
			spans = append(spans, c.Sum)
		}
	}
	if len(fresh) > 0 {
		spans = append(spans, heat.Sum(heat.SpansOf(fresh)))
	}
	return heat.Chart(within(spans, from, to), from, to, heat.ChunkLength, points), nil
}

// rolled is a chart of more readings than points, summed up as they are unpacked.
func (l *Log) rolled(ctx context.Context, h heat.Heater, from, to time.Time, points int) ([]heat.Span, error) {
	chunks, fresh, err := l.around(ctx, h, from, to, l.store.Chunks)
	if err != nil {
		return nil, err
	}
	step := (to.Sub(from) / time.Duration(max(points, 1))).Truncate(time.Millisecond)
	r := heat.Roller{Step: max(step, time.Millisecond)}
	note := func(s heat.Sample) {
		if !s.At.Before(from) && s.At.Before(to) {
			r.Note(s)
		}
	}
	for _, c := range chunks {
		if err := heat.Each(h, c.Data, note); err != nil {
			return nil, fmt.Errorf("the chunk of the %s from %s: %w", h, c.Begins.Format(time.RFC3339), err)
		}
	}
	for _, s := range fresh {
		note(s)
	}
	return heat.Chart(within(r.Spans, from, to), from, to, time.Second, points), nil
}

// within puts spans in order and drops those outside a window.
func within(spans []heat.Span, from, to time.Time) []heat.Span {
	slices.SortStableFunc(spans, func(a, b heat.Span) int { return a.Begins.Compare(b.Begins) })
	return slices.DeleteFunc(spans, func(s heat.Span) bool { return s.Begins.Before(from) || !s.Begins.Before(to) })
}

// exists reports whether there is a file at path.
func exists(path string) bool {
	_, err := os.Stat(path)
	return !errors.Is(err, fs.ErrNotExist)
}
