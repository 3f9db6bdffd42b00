package records

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"diathermon/internal/core/access"
)

// tokenRow is a row of tokens.
type tokenRow struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Hash     []byte
	Scopes   string
	Created  time.Time
	Expires  *time.Time
	Session  bool
	Account  string
	Maker    string
	Used     *time.Time
	UsedFrom string
	Giver    string
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

// accountRow is a row of accounts.
type accountRow struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Role     string
	Password string
	Created  time.Time
	Maker    string
	Giver    string
}

// TableName tells GORM the table of accountRow.
func (accountRow) TableName() string { return "accounts" }

// Accounts returns every account.
func (r *Records) Accounts(ctx context.Context) ([]access.Account, error) {
	var rows []accountRow
	if err := r.db.WithContext(ctx).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]access.Account, len(rows))
	for i, a := range rows {
		out[i] = access.Account{ID: a.ID, Name: a.Name, Role: access.Role(a.Role), Password: a.Password, Created: a.Created.UTC(), Maker: a.Maker, Giver: a.Giver}
	}
	return out, nil
}

// PutAccount keeps an account.
func (r *Records) PutAccount(ctx context.Context, a access.Account) error {
	row := accountRow{a.ID, a.Name, string(a.Role), a.Password, a.Created, a.Maker, a.Giver}
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// DeleteAccount removes an account.
func (r *Records) DeleteAccount(ctx context.Context, id string) error {
	return r.db.WithContext(ctx).Where("id = ?", id).Delete(&accountRow{}).Error
}

// passkeyRow is a row of passkeys.
type passkeyRow struct {
	ID         string `gorm:"primaryKey"`
	Account    string
	Name       string
	Credential []byte
	Created    time.Time
	Used       *time.Time
	Giver      string
}

// TableName tells GORM the table of passkeyRow.
func (passkeyRow) TableName() string { return "passkeys" }

// Passkeys returns every passkey.
func (r *Records) Passkeys(ctx context.Context) ([]access.Passkey, error) {
	var rows []passkeyRow
	if err := r.db.WithContext(ctx).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]access.Passkey, len(rows))
	for i, row := range rows {
		out[i] = access.Passkey(row)
		out[i].Created = row.Created.UTC()
	}
	return out, nil
}

// PutPasskey keeps a passkey.
func (r *Records) PutPasskey(ctx context.Context, k access.Passkey) error {
	row := passkeyRow(k)
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// DeletePasskey removes a passkey.
func (r *Records) DeletePasskey(ctx context.Context, id string) error {
	return r.db.WithContext(ctx).Where("id = ?", id).Delete(&passkeyRow{}).Error
}
