package records

import (
	"context"
	"crypto/sha256"
	"time"

	"gorm.io/gorm/clause"
)

// A Person may use the service. Only the hash of the token is kept.
type Person struct {
	ID        int64
	Name      string
	TokenHash []byte
	CreatedAt time.Time
}

// TableName is the table's.
func (Person) TableName() string { return "people" }

type session struct {
	Hash      []byte `gorm:"primaryKey"`
	PersonID  int64
	ExpiresAt time.Time
}

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// SetToken gives the person of that name a token, in place of an earlier one.
func (s *Store) SetToken(ctx context.Context, name, token string) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns([]string{"token_hash"}),
	}).Create(&Person{Name: name, TokenHash: hash(token)}).Error
}

// PersonByToken finds whose token it is.
func (s *Store) PersonByToken(ctx context.Context, token string) (*Person, error) {
	var p Person
	err := s.db.WithContext(ctx).Where("token_hash = ?", hash(token)).Take(&p).Error
	return &p, mapNotFound(err)
}

// AddSession remembers a signed-in browser. Expired ones are forgotten on the
// way.
func (s *Store) AddSession(ctx context.Context, person int64, secret string, expires time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", time.Now()).Delete(&session{}).Error; err != nil {
		return err
	}
	return db.Create(&session{Hash: hash(secret), PersonID: person, ExpiresAt: expires}).Error
}

// PersonBySession finds who is signed in.
func (s *Store) PersonBySession(ctx context.Context, secret string) (*Person, error) {
	var p Person
	err := s.db.WithContext(ctx).Joins("join sessions on sessions.person_id = people.id").
		Where("sessions.hash = ? and sessions.expires_at > ?", hash(secret), time.Now()).Take(&p).Error
	return &p, mapNotFound(err)
}

// DropSession signs a browser out.
func (s *Store) DropSession(ctx context.Context, secret string) error {
	return s.db.WithContext(ctx).Where("hash = ?", hash(secret)).Delete(&session{}).Error
}
