package records

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"diorthos/client"
)

// A Login is somebody who signed in at a provider of identities.
type Login struct {
	Issuer, Subject string
	Name, Account   string
	Role            client.Role
	Sites           []string
}

type loginRow struct {
	Issuer   string `gorm:"primaryKey"`
	Subject  string `gorm:"primaryKey"`
	PersonID int64
}

func (loginRow) TableName() string { return "logins" }

// Names of the tokens that stand for a sign-in elsewhere: of a browser, whose secret nobody knows, and of a program.
const (
	signOnToken  = "single sign-on"
	programToken = "single sign-on of a command line"
)

var signOns = []string{signOnToken, programToken}

// SignOff ends a token that a program was given when somebody signed in; one that was given by hand stays.
func (s *Store) SignOff(ctx context.Context, secret string) (bool, error) {
	done := s.db.WithContext(ctx).Model(&tokenRow{}).
		Where("hash = ? and name = ? and ended_at is null", hash(secret), programToken).Update("ended_at", time.Now())
	return done.RowsAffected > 0, done.Error
}

// ErrPersonEnded means that somebody may not sign in any more.
var ErrPersonEnded = errors.New("this person was ended here: whoever administers can let them in again")

// SignedOn is the person of a login, who is made at the first one, with what the provider's groups may do. A person who
// was here before under the same name is somebody else. A program is given a token with a secret, a browser is not.
func (s *Store) SignedOn(ctx context.Context, l Login, secret string, until time.Time) (*Identity, error) {
	var t tokenRow
	name := programToken
	if secret == "" {
		name, secret = signOnToken, rand.Text()
	}
	err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Exec("select pg_advisory_xact_lock(?)", peopleLock).Error; err != nil {
			return err
		}
		p, err := personOf(db, l)
		if err != nil {
			return err
		}
		if p.EndedAt != nil {
			return ErrPersonEnded
		}
		p.Role, p.Sites = l.Role, append([]string{}, l.Sites...)
		if err := db.Model(p).Select("role", "sites").Updates(p).Error; err != nil {
			return err
		}
		t = tokenRow{PersonID: p.ID, Name: name, Hash: hash(secret), ExpiresAt: &until}
		if err := db.Where("person_id = ? and name in ? and expires_at < now()", p.ID, signOns).
			Delete(&tokenRow{}).Error; err != nil {
			return err
		}
		return db.Create(&t).Error
	})
	if err != nil {
		return nil, err
	}
	return s.identity(ctx, t, false)
}

// personOf finds the person of a login, or makes one under a name that nobody has.
func personOf(db *gorm.DB, l Login) (*Person, error) {
	var known loginRow
	err := db.Where("issuer = ? and subject = ?", l.Issuer, l.Subject).Take(&known).Error
	var p Person
	switch {
	case err == nil:
		return &p, db.Where("id = ?", known.PersonID).Take(&p).Error
	case !errors.Is(err, gorm.ErrRecordNotFound):
		return nil, err
	}
	for n, name := 1, l.Name; ; n++ {
		var taken int64
		if err := db.Model(&Person{}).Where("name = ?", name).Count(&taken).Error; err != nil {
			return nil, err
		}
		if taken == 0 {
			p = Person{Name: name, Role: l.Role, Sites: append([]string{}, l.Sites...)}
			break
		}
		if name = fmt.Sprintf("%s (%s)", l.Name, l.Account); n > 1 {
			name = fmt.Sprintf("%s (%s, %d)", l.Name, l.Account, n)
		}
	}
	if err := db.Create(&p).Error; err != nil {
		return nil, err
	}
	return &p, db.Create(&loginRow{Issuer: l.Issuer, Subject: l.Subject, PersonID: p.ID}).Error
}
