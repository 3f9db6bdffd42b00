package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"gorm.io/gorm"

	"diathermon/internal/core/routine"
)

// performanceRow is a row of performances.
type performanceRow struct {
	ID      string     `gorm:"primaryKey" json:"id"`
	Routine string     `json:"routine"`
	Text    string     `json:"text"`
	Given   string     `json:"given"`
	By      string     `json:"by"`
	State   string     `json:"state"`
	Why     string     `json:"why"`
	Begun   time.Time  `json:"begun"`
	Ended   *time.Time `json:"ended,omitempty"`
	Entries string     `json:"entries"`
	LeftOut int        `json:"left_out"`
}

// TableName tells GORM the table of performanceRow.
func (performanceRow) TableName() string { return "performances" }

// Performance takes the newest state of a performance.
func (w *Writer) Performance(p routine.Record) {
	values, err := json.Marshal(p.Values)
	if err != nil {
		return
	}
	if p.Entries == nil {
		p.Entries = []routine.Entry{}
	}
	entries, err := json.Marshal(p.Entries)
	if err != nil {
		return
	}
	w.take(entry{Performance: &performanceRow{
		ID: p.ID, Routine: p.Routine, Text: p.Text, Given: string(values), By: p.By, State: string(p.State), Why: p.Why,
		Begun: p.Begun, Ended: pointer(p.Ended), Entries: string(entries), LeftOut: p.Left,
	}})
}

// Performances returns what was performed, the newest first, before a moment: at most n,
// without entries.
func (r *Records) Performances(ctx context.Context, before time.Time, n int) ([]routine.Record, error) {
	var rows []performanceRow
	q := r.db.WithContext(ctx).Omit("text", "entries").Order("begun DESC, id DESC").Limit(n)
	if !before.IsZero() {
		q = q.Where("begun < ?", before)
	}
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]routine.Record, len(rows))
	for i, row := range rows {
		var err error
		if out[i], err = row.performance(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PerformanceOf returns one with its entries; fs.ErrNotExist: there is none of that ID.
func (r *Records) PerformanceOf(ctx context.Context, id string) (routine.Record, error) {
	var row performanceRow
	err := r.db.WithContext(ctx).Where("id::text = ?", id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return routine.Record{}, fs.ErrNotExist
	}
	if err != nil {
		return routine.Record{}, err
	}
	return row.performance()
}

func (row performanceRow) performance() (routine.Record, error) {
	p := routine.Record{ID: row.ID, Routine: row.Routine, Text: row.Text, By: row.By, State: routine.State(row.State), Why: row.Why, Begun: row.Begun.UTC(), Left: row.LeftOut}
	if row.Ended != nil {
		p.Ended = row.Ended.UTC()
	}
	err := json.Unmarshal([]byte(row.Given), &p.Values)
	if row.Entries != "" {
		err = errors.Join(err, json.Unmarshal([]byte(row.Entries), &p.Entries))
	}
	if err != nil {
		return p, fmt.Errorf("what is kept of the performance %s: %w", row.ID, err)
	}
	return p, nil
}
