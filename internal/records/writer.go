package records

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// A Writer takes records without making its caller wait and writes them to the
// database in batches. What the database does not take waits in a file, also for
// the Writer of another process, and is written when it does.
type Writer struct {
	records *Records
	log     *slog.Logger
	aside   *aside

	mu      sync.Mutex
	waiting []entry
	writing int // of them are being written, or on disk: these change no more
	wake    chan struct{}
	waits   []wait // for what is not written yet, in order
	taken   uint64 // records handed in
	written uint64 // of which are in the database, or cannot be
	why     string // the database takes none; empty: it does
}

// A wait is for so many records to be written.
type wait struct {
	written uint64
	over    chan struct{}
}

const (
	writeEvery = time.Second
	retryEvery = 2 * time.Second
	batchSize  = 500
)

// An entry is one record that waits: one of its fields is set.
type entry struct {
	Run     *runRow     `json:"run,omitempty"`
	Message *message    `json:"message,omitempty"`
	Mark    *mark       `json:"mark,omitempty"`
	Alarm   *alarmRow   `json:"alarm,omitempty"`
	Episode *episodeRow `json:"episode,omitempty"`
	Model   *modelRow   `json:"model,omitempty"`

	Performance *performanceRow `json:"performance,omitempty"`
}

// replaces reports whether e is a newer state of what other tells.
func (e entry) replaces(other entry) bool {
	return e.Run != nil && other.Run != nil && e.Run.ID == other.Run.ID || e.Model != nil && other.Model != nil && e.Model.Heater == other.Model.Heater ||
		e.Performance != nil && other.Performance != nil && e.Performance.ID == other.Performance.ID
}

// NewWriter returns a Writer that keeps what waits at path while the database is
// away; what waits there from before comes first. Nothing is written until Work.
func NewWriter(r *Records, path string, log *slog.Logger) (*Writer, error) {
	w := &Writer{records: r, log: log, aside: &aside{path: path}, wake: make(chan struct{}, 1)}
	var err error
	if w.waiting, err = w.aside.read(); err != nil {
		return nil, err
	}
	w.writing, w.taken = len(w.waiting), uint64(len(w.waiting))
	return w, nil
}

// take takes a record.
func (w *Writer) take(e entry) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := len(w.waiting) - 1; i >= w.writing; i-- {
		if e.replaces(w.waiting[i]) {
			w.waiting[i] = e
			return
		}
	}
	w.waiting = append(w.waiting, e)
	w.taken++
}

// Run takes the newest state of a run.
func (w *Writer) Run(r run.Record) {
	row := rowOf(r)
	w.take(entry{Run: &row})
}

// Message takes something the firmware said.
func (w *Writer) Message(m wire.Message) {
	w.take(entry{Message: &message{At: m.At, Kind: string(m.Kind), Text: m.Text}})
}

// Mark takes something that happened at one moment of the temperature log.
func (w *Writer) Mark(m heat.Mark) {
	w.take(entry{Mark: &mark{At: m.At, Kind: string(m.Kind), Heater: string(m.Heater), Text: m.Text}})
}

// Alarm takes an alarm that was raised, or acknowledged.
func (w *Writer) Alarm(a heat.Alarm) {
	w.take(entry{Alarm: &alarmRow{
		ID: a.ID, At: a.At, Heater: string(a.Heater), Guard: string(a.Guard), Action: string(a.Action), Text: a.Text,
		Acknowledged: pointer(a.Acknowledged), By: a.By, Verdict: string(a.Verdict), Reason: a.Reason,
	}})
}

// Episode takes what a warm-up or an hour of holding tells of a heater.
func (w *Writer) Episode(e heat.Episode) {
	w.take(entry{Episode: &episodeRow{
		Heater: string(e.Heater), Kind: string(e.Kind), At: e.At, Took: e.Took.Seconds(), Setpoint: e.Setpoint, Began: e.From, Rise: e.Rise, Overshoot: e.Overshoot, Duty: e.Duty, Ripple: e.Ripple,
	}})
}

// Learned takes what has been learned of a heater.
func (w *Writer) Learned(h heat.Heater, l heat.Learned) {
	learned, err := json.Marshal(l)
	if err != nil { // a number that JSON does not know: it is not worth keeping
		return
	}
	w.take(entry{Model: &modelRow{Heater: string(h), At: time.Now().UTC(), Learned: string(learned)}})
}

// Flush waits until everything taken so far is in the database, or ctx ends.
func (w *Writer) Flush(ctx context.Context) error {
	kept := w.Kept()
	select {
	case w.wake <- struct{}{}:
	default:
	}
	select {
	case <-kept:
	case <-ctx.Done():
	}
	return ctx.Err()
}

// Kept is closed once everything taken so far is in the database.
func (w *Writer) Kept() <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	over := make(chan struct{})
	if w.written >= w.taken {
		close(over)
	} else {
		w.waits = append(w.waits, wait{w.taken, over})
	}
	return over
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

// write puts what waits into the database. What it fails to write waits on, on
// disk.
func (w *Writer) write(ctx context.Context) bool {
	w.mu.Lock()
	batch := w.waiting[:len(w.waiting):len(w.waiting)]
	w.writing = len(batch)
	w.mu.Unlock()
	if len(batch) == 0 {
		return true
	}
	err := w.records.put(ctx, batch)
	if refused(err) { // one of them is to blame, and the others shall not wait for it
		err = w.each(ctx, batch)
	}
	if err != nil {
		w.putAside(batch, err)
		return false
	}
	w.aside.clear(w.log)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.waiting, w.writing = w.waiting[len(batch):], 0
	w.written += uint64(len(batch))
	if w.why != "" {
		w.log.Info("the database is back; what had waited is written", "records", len(batch))
	}
	w.why = ""
	for len(w.waits) > 0 && w.waits[0].written <= w.written {
		close(w.waits[0].over)
		w.waits = w.waits[1:]
	}
	return true
}

// Away says why the database takes no records now; empty: it does, as far as is known.
func (w *Writer) Away() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.why
}

// putAside puts records aside that the database did not take.
func (w *Writer) putAside(batch []entry, why error) {
	w.mu.Lock()
	first := w.why == ""
	w.why = why.Error()
	w.mu.Unlock()
	if err := w.aside.add(batch); err != nil {
		w.log.Error("the database does not take records, and the disk does not either; they wait in memory", "database", why, "disk", err)
	} else if first {
		w.log.Warn("the database does not take records; they wait on disk", "error", why, "file", w.aside.path)
	}
}

// each writes records one by one, without those that the database does not take
// whatever happens.
func (w *Writer) each(ctx context.Context, batch []entry) error {
	for _, e := range batch {
		if err := w.records.put(ctx, []entry{e}); refused(err) {
			w.log.Error("the database refuses a record; it is lost", "error", err, "record", e)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// refused reports whether the database would refuse the same again: a value that
// it cannot hold, or that breaks a rule (classes 22 and 23 of SQLSTATE).
func refused(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && len(said.Code) == 5 && (said.Code[:2] == "22" || said.Code[:2] == "23")
}

// put writes entries in one transaction, in their order where that matters: of a
// run, an alarm or a model the last one stays.
func (r *Records) put(ctx context.Context, batch []entry) error {
	var messages []*message
	var marks []*mark
	return r.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		newest := tx.Clauses(clause.OnConflict{UpdateAll: true}).Session(&gorm.Session{})
		for _, e := range batch {
			var err error
			switch {
			case e.Run != nil:
				err = newest.Create(e.Run).Error
			case e.Alarm != nil:
				err = newest.Create(e.Alarm).Error
			case e.Episode != nil:
				err = newest.Create(e.Episode).Error
			case e.Model != nil:
				err = newest.Create(e.Model).Error
			case e.Performance != nil:
				err = newest.Create(e.Performance).Error
			case e.Message != nil:
				messages = append(messages, e.Message)
			case e.Mark != nil:
				marks = append(marks, e.Mark)
			}
			if err != nil {
				return err
			}
		}
		if len(messages) > 0 {
			if err := tx.CreateInBatches(messages, batchSize).Error; err != nil {
				return err
			}
		}
		if len(marks) > 0 {
			return tx.CreateInBatches(marks, batchSize).Error
		}
		return nil
	})
}
