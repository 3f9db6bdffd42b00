package records

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diathermon/internal/core/heat"
)

// chunkRow is a row of heat_chunks.
type chunkRow struct {
	Heater         string    `gorm:"primaryKey"`
	Begins         time.Time `gorm:"primaryKey"`
	Ends           time.Time
	Count          int
	Low            float32
	High           float32
	Mean           float32
	Setpoint, Duty *float32
	Summed         bool
	Minutes, Data  []byte
}

// TableName tells GORM the table of chunkRow.
func (chunkRow) TableName() string { return "heat_chunks" }

func chunkRowOf(c heat.Chunk) chunkRow {
	return chunkRow{
		Heater: string(c.Heater), Begins: c.Begins, Ends: c.Ends, Count: c.Sum.Count, Low: float32(c.Sum.Low), High: float32(c.Sum.High), Mean: float32(c.Sum.Mean),
		Setpoint: known(c.Sum.Setpoint), Duty: known(c.Sum.Duty), Minutes: c.Minutes, Data: c.Data,
	}
}

func (r chunkRow) sum() heat.Span {
	value := func(v *float32) float64 {
		if v == nil {
			return math.NaN()
		}
		return round(*v)
	}
	return heat.Span{Begins: r.Begins.UTC(), Count: r.Count, Low: round(r.Low), High: round(r.High), Mean: round(r.Mean), Setpoint: value(r.Setpoint), Duty: value(r.Duty)}
}

func (r chunkRow) chunk() heat.Chunk {
	return heat.Chunk{Heater: heat.Heater(r.Heater), Begins: r.Begins.UTC(), Ends: r.Ends.UTC(), Sum: r.sum(), Minutes: r.Minutes, Data: r.Data}
}

func known(v float64) *float32 {
	if math.IsNaN(v) {
		return nil
	}
	out := float32(v)
	return &out
}

// sumRow is a row of heat_sums.
type sumRow struct {
	Heater string    `gorm:"primaryKey"`
	Begins time.Time `gorm:"primaryKey"`
	Ends   time.Time
	Data   []byte
}

// TableName tells GORM the table of sumRow.
func (sumRow) TableName() string { return "heat_sums" }

// As many chunks as sumBatch are summed up in one row of heat_sums once there are
// sumAfter that are not.
const (
	sumBatch = 240
	sumAfter = 256
)

// PutChunks keeps chunks of the temperature log. One that is there already is
// replaced.
func (r *Records) PutChunks(ctx context.Context, chunks []heat.Chunk) error {
	return r.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, c := range chunks {
			row := chunkRowOf(c)
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
				return err
			}
			if err := sumUp(tx, string(c.Heater)); err != nil {
				return err
			}
		}
		return nil
	})
}

// sumUp puts the sums of a heater's oldest chunks into one row.
func sumUp(tx *gorm.DB, heater string) error {
	fresh := tx.Model(&chunkRow{}).Where("heater = ? AND NOT summed", heater)
	var n int64
	if err := fresh.Session(&gorm.Session{}).Count(&n).Error; err != nil || n < sumAfter {
		return err
	}
	var rows []chunkRow
	if err := fresh.Session(&gorm.Session{}).Omit("Minutes", "Data").Order("begins").Limit(sumBatch).Find(&rows).Error; err != nil {
		return err
	}
	spans := make([]heat.Span, len(rows))
	for i, row := range rows {
		spans[i] = row.sum()
	}
	first, last := rows[0], rows[len(rows)-1]
	sum := sumRow{Heater: heater, Begins: first.Begins, Ends: last.Begins, Data: heat.PackSpans(spans)}
	if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&sum).Error; err != nil {
		return err
	}
	return tx.Model(&chunkRow{}).Where("heater = ? AND begins <= ? AND NOT summed", heater, last.Begins).Update("summed", true).Error
}

// overlapping selects a heater's chunks that have readings in a window.
func (r *Records) overlapping(ctx context.Context, h heat.Heater, from, to time.Time) *gorm.DB {
	return r.db.WithContext(ctx).Where("heater = ? AND begins > ? AND begins < ? AND ends >= ?", h, from.Add(-heat.ChunkLength), to, from).Order("begins")
}

func chunks(q *gorm.DB) ([]heat.Chunk, error) {
	var rows []chunkRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]heat.Chunk, len(rows))
	for i, row := range rows {
		out[i] = row.chunk()
	}
	return out, nil
}

// Chunks returns a heater's chunks in a window with all their readings.
func (r *Records) Chunks(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error) {
	return chunks(r.overlapping(ctx, h, from, to).Omit("Minutes"))
}

// Minutes returns a heater's chunks in a window with what each minute sums up to.
func (r *Records) Minutes(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Chunk, error) {
	return chunks(r.overlapping(ctx, h, from, to).Omit("Data"))
}

// Sums returns what a heater's chunks in a window sum up to, one Span for each.
func (r *Records) Sums(ctx context.Context, h heat.Heater, from, to time.Time) ([]heat.Span, error) {
	var sums []sumRow
	if err := r.db.WithContext(ctx).Where("heater = ? AND begins < ? AND ends >= ?", h, to, from).Order("begins").Find(&sums).Error; err != nil {
		return nil, err
	}
	var out []heat.Span
	for _, row := range sums {
		spans, err := heat.UnpackSpans(row.Data)
		if err != nil {
			return nil, fmt.Errorf("the sums of the %s from %s: %w", h, row.Begins.Format(time.RFC3339), err)
		}
		out = append(out, spans...)
	}
	rest, err := chunks(r.overlapping(ctx, h, from, to).Where("NOT summed").Omit("Minutes", "Data"))
	if err != nil {
		return nil, err
	}
	for _, c := range rest {
		out = append(out, c.Sum)
	}
	return out, nil
}

// Last returns when the newest reading of the log was made; zero if there is
// none.
func (r *Records) Last(ctx context.Context) (time.Time, error) {
	var last sql.NullTime
	err := r.db.WithContext(ctx).Model(&chunkRow{}).Select("max(ends)").Scan(&last).Error
	return last.Time.UTC(), err
}

// Heaters returns the heaters of which the log has readings.
func (r *Records) Heaters(ctx context.Context) ([]heat.Heater, error) {
	var heaters []heat.Heater
	err := r.db.WithContext(ctx).Model(&chunkRow{}).Distinct().Pluck("heater", &heaters).Error
	return heaters, err
}

// Forget drops the readings that were made before a time, in whole chunks.
func (r *Records) Forget(ctx context.Context, before time.Time) error {
	err := r.db.WithContext(ctx).Where("ends < ?", before).Delete(&chunkRow{}).Error
	if err != nil {
		return err
	}
	return r.db.WithContext(ctx).Where("ends < ?", before).Delete(&sumRow{}).Error
}

// round takes a float32 back to the decimal number it was made from.
func round(v float32) float64 { return math.Round(float64(v)*1e4) / 1e4 }

// mark is a row of marks.
type mark struct {
	At     time.Time
	Kind   string
	Heater string
	Text   string
}

// Marks returns the newest limit of what happened in a window, the oldest first.
func (r *Records) Marks(ctx context.Context, from, to time.Time, limit int) ([]heat.Mark, error) {
	var rows []mark
	if err := r.db.WithContext(ctx).Where("at >= ? AND at < ?", from, to).Order("at DESC").Limit(limit).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]heat.Mark, len(rows))
	for i, m := range rows {
		out[len(rows)-1-i] = heat.Mark{At: m.At.UTC(), Kind: heat.MarkKind(m.Kind), Heater: heat.Heater(m.Heater), Text: m.Text}
	}
	return out, nil
}

// packReadings turns a log of one row for each reading into chunks.
func packReadings(ctx context.Context, tx *sql.Tx) error {
	type hour struct {
		heater string
		begins time.Time
	}
	hours, err := all(ctx, tx, func(scan func(...any) error) (h hour, err error) {
		return h, scan(&h.heater, &h.begins)
	}, "SELECT DISTINCT heater, date_trunc('hour', at) FROM readings")
	if err != nil {
		return err
	}
	for _, h := range hours {
		samples, err := all(ctx, tx, func(scan func(...any) error) (heat.Sample, error) {
			var actual float32
			var setpoint, duty sql.Null[float32]
			s := heat.Sample{Reading: heat.Reading{Heater: heat.Heater(h.heater)}}
			err := scan(&s.At, &actual, &setpoint, &duty)
			s.At, s.Actual = s.At.UTC().Truncate(heat.Resolution), round(actual)
			s.Setpoint, s.HasSetpoint = round(setpoint.V), setpoint.Valid
			s.Duty, s.HasDuty = round(duty.V), duty.Valid
			return s, err
		}, "SELECT at, actual, setpoint, duty FROM readings WHERE heater = $1 AND at >= $2 AND at < $3 ORDER BY at", h.heater, h.begins, h.begins.Add(time.Hour))
		if err != nil {
			return err
		}
		r := chunkRowOf(heat.ChunkOf(samples))
		if _, err := tx.ExecContext(ctx, "INSERT INTO heat_chunks (heater, begins, ends, count, low, high, mean, setpoint, duty, minutes, data) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
			r.Heater, r.Begins, r.Ends, r.Count, r.Low, r.High, r.Mean, r.Setpoint, r.Duty, r.Minutes, r.Data); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, "DROP TABLE readings")
	return err
}

// all returns what a query finds, each row as read gives it.
func all[T any](ctx context.Context, tx *sql.Tx, read func(scan func(...any) error) (T, error), query string, args ...any) ([]T, error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := read(rows.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}
