package records

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// Token is what is kept of a key to this host: never the key itself.
type Token struct {
	ID      string `gorm:"primaryKey"` // UUID
	Name    string // the program or browser that has it
	Hash    []byte // SHA-256 of the token
	Scopes  string // separated by spaces
	Created time.Time
	Expires *time.Time // nil: never
}

// Tokens returns every token.
func (r *Records) Tokens(ctx context.Context) ([]Token, error) {
	var rows []Token
	return rows, r.db.WithContext(ctx).Order("created").Find(&rows).Error
}

// PutToken keeps a token.
func (r *Records) PutToken(ctx context.Context, t Token) error {
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&t).Error
}

// DeleteToken withdraws a token.
func (r *Records) DeleteToken(ctx context.Context, id string) error {
	return r.db.WithContext(ctx).Where("id = ?", id).Delete(&Token{}).Error
}
