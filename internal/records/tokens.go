package records

import (
	"context"

	"gorm.io/gorm/clause"

	"diathermon/internal/core/access"
)

// Tokens returns every token.
func (r *Records) Tokens(ctx context.Context) ([]access.Token, error) {
	var rows []access.Token
	return rows, r.db.WithContext(ctx).Order("created").Find(&rows).Error
}

// PutToken keeps a token.
func (r *Records) PutToken(ctx context.Context, t access.Token) error {
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&t).Error
}

// DeleteToken withdraws a token.
func (r *Records) DeleteToken(ctx context.Context, id string) error {
	return r.db.WithContext(ctx).Where("id = ?", id).Delete(&access.Token{}).Error
}
