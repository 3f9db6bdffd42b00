package records

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"diathermon/internal/core/access"
)

// tokenRow is a row of tokens.
type tokenRow struct {
	ID      string `gorm:"primaryKey"`
	Name    string
	Hash    []byte
	Scopes  string
	Created time.Time
	Expires *time.Time
}

// TableName tells GORM the table of tokenRow.
func (tokenRow) TableName() string { return "tokens" }

// Tokens returns every token.
func (r *Records) Tokens(ctx context.Context) ([]access.Token, error) {
	var rows []tokenRow
	if err := r.db.WithContext(ctx).Order("created").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]access.Token, len(rows))
	for i, row := range rows {
		out[i] = access.Token(row)
	}
	return out, nil
}

// PutToken keeps a token.
func (r *Records) PutToken(ctx context.Context, t access.Token) error {
	row := tokenRow(t)
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// DeleteToken withdraws a token.
func (r *Records) DeleteToken(ctx context.Context, id string) error {
	return r.db.WithContext(ctx).Where("id = ?", id).Delete(&tokenRow{}).Error
}
