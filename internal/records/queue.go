package records

import (
	"context"
	"time"

	"diathermon/internal/core/queue"
)

// entryRow is a row of queue, in which versions of before kept what waits.
type entryRow struct {
	ID     string `gorm:"primaryKey"`
	File   string
	Digest string
	Sender string
	Asked  time.Time
}

// TableName tells GORM the table of entryRow.
func (entryRow) TableName() string { return "queue" }

// Entries returns what a version of before has left waiting, the next first.
func (r *Records) Entries(ctx context.Context) ([]queue.Entry, error) {
	var rows []entryRow
	if err := r.db.WithContext(ctx).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]queue.Entry, len(rows))
	for i, row := range rows {
		out[i] = queue.Entry{ID: row.ID, File: row.File, Digest: row.Digest, Sender: row.Sender, Asked: row.Asked.UTC()}
	}
	return out, nil
}

// DropEntries forgets what a version of before has left waiting.
func (r *Records) DropEntries(ctx context.Context) error {
	return r.db.WithContext(ctx).Where("true").Delete(&entryRow{}).Error
}
