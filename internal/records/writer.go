package records

import (
	"context"
	"log/slog"
	"math"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// A Writer takes records without making its caller wait and writes them to the
// database in batches. What the database does not take now is written when it
// does, as long as memory is kept small: beyond mostKept readings the oldest go.
type Writer struct {
	records *Records
	log     *slog.Logger

	mu       sync.Mutex
	runs     map[string]run.Record // the newest state of each
	order    []string
	readings []readingRow
	messages []message
	wake     chan struct{}
	flushed  *sync.Cond
	taken    uint64 // records handed in
	written  uint64 // of which are in the database, or lost
	failing  bool
}

const (
	writeEvery = time.Second
	retryEvery = 2 * time.Second
	mostKept   = 500_000 // readings, about 30 MB: three days of two heaters
	batchSize  = 500
)

// NewWriter returns a Writer. Nothing is written until Run.
func NewWriter(r *Records, log *slog.Logger) *Writer {
	w := &Writer{records: r, log: log, runs: map[string]run.Record{}, wake: make(chan struct{}, 1)}
	w.flushed = sync.NewCond(&w.mu)
	return w
}

// Run takes the newest state of a run.
func (w *Writer) Run(r run.Record) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, waiting := w.runs[r.ID]; !waiting {
		w.order = append(w.order, r.ID)
		w.taken++
	}
	w.runs[r.ID] = r
}

// Readings takes samples of heaters.
func (w *Writer) Readings(samples []heat.Sample) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range samples {
		row := readingRow{At: s.At, Heater: string(s.Heater), Actual: float32(s.Actual)}
		if s.HasSetpoint {
			v := float32(s.Setpoint)
			row.Setpoint = &v
		}
		if s.HasDuty {
			v := float32(s.Duty)
			row.Duty = &v
		}
		w.readings = append(w.readings, row)
	}
	w.taken += uint64(len(samples))
	if over := len(w.readings) - mostKept; over > 0 {
		w.readings = append(w.readings[:0], w.readings[over:]...)
		w.written += uint64(over)
		w.log.Error("readings were lost: the database has been away too long", "readings", over)
	}
}

// Message takes something the firmware said.
func (w *Writer) Message(m wire.Message) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.messages = append(w.messages, message{At: m.At, Kind: m.Kind, Text: m.Text})
	w.taken++
}

// Flush waits until everything taken so far is in the database, or ctx ends.
func (w *Writer) Flush(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.flushed.Broadcast()
	})
	defer stop()
	w.mu.Lock()
	defer w.mu.Unlock()
	want := w.taken
	select {
	case w.wake <- struct{}{}:
	default:
	}
	for w.written < want && ctx.Err() == nil {
		w.flushed.Wait()
	}
	return ctx.Err()
}

// Work writes until ctx ends, and then once more what is left.
func (w *Writer) Work(ctx context.Context) {
	timer := time.NewTimer(writeEvery)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			w.write(last)
			return
		case <-w.wake:
		case <-timer.C:
		}
		wait := writeEvery
		if !w.write(ctx) {
			wait = retryEvery
		}
		timer.Reset(wait)
	}
}

// write puts what waits into the database in one transaction. What it fails to
// write waits on.
func (w *Writer) write(ctx context.Context) bool {
	w.mu.Lock()
	runs := make([]runRow, 0, len(w.order))
	for _, id := range w.order {
		runs = append(runs, rowOf(w.runs[id]))
	}
	readings := w.readings[:len(w.readings):len(w.readings)]
	messages := w.messages[:len(w.messages):len(w.messages)]
	before := w.runs
	order := w.order
	w.runs, w.order, w.readings, w.messages = map[string]run.Record{}, nil, nil, nil
	w.mu.Unlock()
	if len(runs)+len(readings)+len(messages) == 0 {
		return true
	}
	err := w.records.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, r := range runs {
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error; err != nil {
				return err
			}
		}
		if len(readings) > 0 {
			if err := tx.CreateInBatches(readings, batchSize).Error; err != nil {
				return err
			}
		}
		if len(messages) > 0 {
			return tx.CreateInBatches(messages, batchSize).Error
		}
		return nil
	})
	w.mu.Lock()
	defer w.mu.Unlock()
	if err == nil {
		w.written += uint64(len(runs) + len(readings) + len(messages))
		if w.failing {
			w.log.Info("the database is back; what had waited is written", "readings", len(readings))
		}
		w.failing = false
		w.flushed.Broadcast()
		return true
	}
	var waiting []string
	for _, id := range order {
		if _, newer := w.runs[id]; newer {
			w.taken-- // two states of one run have become one
			continue
		}
		w.runs[id] = before[id]
		waiting = append(waiting, id)
	}
	w.order = append(waiting, w.order...)
	w.readings = append(readings, w.readings...)
	w.messages = append(messages, w.messages...)
	if !w.failing {
		w.log.Warn("the database does not take records; they wait in memory", "error", err)
	}
	w.failing = true
	return false
}

// round takes a float32 back to the decimal number it was made from.
func round(v float32) float64 { return math.Round(float64(v)*1e4) / 1e4 }
