package records

import (
	"context"
	"io/fs"
	"time"

	"diathermon/internal/core/queue"
)

// entryRow is a row of queue.
type entryRow struct {
	ID     string `gorm:"primaryKey"`
	File   string
	Digest string
	Sender string
	Asked  time.Time
}

// TableName tells GORM the table of entryRow.
func (entryRow) TableName() string { return "queue" }

// Entries returns what waits to be printed, the next first.
func (r *Records) Entries(ctx context.Context) ([]queue.Entry, error) {
	var rows []entryRow
	if err := r.db.WithContext(ctx).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]queue.Entry, len(rows))
	for i, row := range rows {
		row.Asked = row.Asked.UTC()
		out[i] = queue.Entry(row)
	}
	return out, nil
}

// PutEntry lets a file wait.
func (r *Records) PutEntry(ctx context.Context, e queue.Entry) error {
	row := entryRow(e)
	return r.db.WithContext(ctx).Create(&row).Error
}

// DeleteEntry takes an entry out; fs.ErrNotExist: there is none of that ID.
func (r *Records) DeleteEntry(ctx context.Context, id string) error {
	done := r.db.WithContext(ctx).Where("id::text = ?", id).Delete(&entryRow{})
	if done.Error == nil && done.RowsAffected == 0 {
		return fs.ErrNotExist
	}
	return done.Error
}
