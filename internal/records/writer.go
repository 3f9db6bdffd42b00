package records

import (
	"context"
	"log/slog"
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
// does.
type Writer struct {
	records *Records
	log     *slog.Logger

	mu       sync.Mutex
	runs     map[string]run.Record // the newest state of each
	order    []string
	messages []message
	marks    []mark
	heaters  heaterRecords
	wake     chan struct{}
	flushed  *sync.Cond
	taken    uint64 // records handed in
	written  uint64 // of which are in the database, or lost
	failing  bool
}

const (
	writeEvery = time.Second
	retryEvery = 2 * time.Second
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

// Message takes something the firmware said.
func (w *Writer) Message(m wire.Message) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.messages = append(w.messages, message{At: m.At, Kind: m.Kind, Text: m.Text})
	w.taken++
}

// Mark takes something that happened at one moment of the temperature log.
func (w *Writer) Mark(m heat.Mark) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.marks = append(w.marks, mark{At: m.At, Kind: string(m.Kind), Heater: string(m.Heater), Text: m.Text})
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
	messages := w.messages[:len(w.messages):len(w.messages)]
	marks := w.marks[:len(w.marks):len(w.marks)]
	before := w.runs
	order := w.order
	heaters := w.heaters
	w.runs, w.order, w.messages, w.marks, w.heaters = map[string]run.Record{}, nil, nil, nil, heaterRecords{}
	w.mu.Unlock()
	waited := len(runs) + len(messages) + len(marks) + heaters.size()
	if waited == 0 {
		return true
	}
	err := w.records.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, r := range runs {
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error; err != nil {
				return err
			}
		}
		if len(messages) > 0 {
			if err := tx.CreateInBatches(messages, batchSize).Error; err != nil {
				return err
			}
		}
		if len(marks) > 0 {
			if err := tx.CreateInBatches(marks, batchSize).Error; err != nil {
				return err
			}
		}
		return heaters.write(tx)
	})
	w.mu.Lock()
	defer w.mu.Unlock()
	if err == nil {
		w.written += uint64(waited)
		if w.failing {
			w.log.Info("the database is back; what had waited is written", "messages", len(messages))
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
	w.messages = append(messages, w.messages...)
	w.marks = append(marks, w.marks...)
	w.taken -= w.heaters.restore(heaters)
	if !w.failing {
		w.log.Warn("the database does not take records; they wait in memory", "error", err)
	}
	w.failing = true
	return false
}
