package records

import (
	"context"
	"crypto/sha256"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"diorthos/client"
)

// A Person may use the service.
type Person struct {
	ID        int64
	Name      string
	Role      client.Role
	Sites     []string `gorm:"serializer:json"`
	CreatedAt time.Time
	EndedAt   *time.Time
	Machine   string // of an agent: it may do nothing for another one
}

// TableName is the table's.
func (Person) TableName() string { return "people" }

type tokenRow struct {
	ID        int64
	PersonID  int64
	Name      string
	Hash      []byte
	CreatedAt time.Time
	ExpiresAt *time.Time
	UsedAt    *time.Time
	EndedAt   *time.Time
}

func (tokenRow) TableName() string { return "tokens" }

type session struct {
	Hash      []byte `gorm:"primaryKey"`
	ID        int64  `gorm:"->"`
	PersonID  int64
	TokenID   *int64
	Address   string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// An Identity is who sends a request, and by what.
type Identity struct {
	Person
	TokenID int64
	By      string // name of the token, or of the token that the session was begun with
	Session bool
}

// May reports whether the person's role covers what needs another one.
func (i *Identity) May(needs client.Role) bool { return i.Role.May(needs) }

// For reports whether whoever asks may do something for a machine at a site.
func (i *Identity) For(machine, site string) bool {
	return i.At(site) && (i.Machine == "" || i.Machine == machine)
}

// At reports whether the person may see machines of a site.
func (i *Identity) At(site string) bool { return len(i.Sites) == 0 || slices.Contains(i.Sites, site) }

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// commandToken is the name of the token that the command line gives without a service.
const commandToken = "serve token"

// SetToken gives the person of that name a token, in place of an earlier one that was
// given so. A person who is not known yet administers.
func (s *Store) SetToken(ctx context.Context, name, token string) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		p := Person{Name: name, Role: client.Administer, Sites: []string{}}
		if err := db.Where("name = ?", name).FirstOrCreate(&p).Error; err != nil {
			return err
		}
		if err := db.Model(&Person{}).Where("id = ?", p.ID).Update("ended_at", nil).Error; err != nil {
			return err
		}
		if err := db.Where("person_id = ? and name in ?", p.ID, []string{commandToken, "first"}).
			Delete(&tokenRow{}).Error; err != nil {
			return err
		}
		return db.Create(&tokenRow{PersonID: p.ID, Name: commandToken, Hash: hash(token)}).Error
	})
}

// AddToken gives a person a further token.
func (s *Store) AddToken(
	ctx context.Context,
	name string,
	secret string,
	wish client.TokenWish,
) (*client.Token, error) {
	var p Person
	if err := s.db.WithContext(ctx).Where("name = ? and ended_at is null", name).Take(&p).Error; err != nil {
		return nil, mapNotFound(err)
	}
	t := tokenRow{PersonID: p.ID, Name: wish.Name, Hash: hash(secret)}
	if wish.Days > 0 {
		until := time.Now().AddDate(0, 0, wish.Days)
		t.ExpiresAt = &until
	}
	if err := s.db.WithContext(ctx).Create(&t).Error; err != nil {
		return nil, err
	}
	public := t.public()
	return &public, nil
}

func (t tokenRow) public() client.Token {
	return client.Token{
		ID: t.ID, Name: t.Name, Created: t.CreatedAt.UTC(), Expires: t.ExpiresAt, Used: t.UsedAt, Ended: t.EndedAt,
	}
}

// valid are the tokens that let somebody in.
const valid = "tokens.ended_at is null and (tokens.expires_at is null or tokens.expires_at > now()) " +
	"and people.ended_at is null"

// IdentityByToken finds whose token it is.
func (s *Store) IdentityByToken(ctx context.Context, secret string) (*Identity, error) {
	var t tokenRow
	err := s.db.WithContext(ctx).Joins("join people on people.id = tokens.person_id").
		Where("tokens.hash = ? and "+valid, hash(secret)).Take(&t).Error
	if err != nil {
		return nil, mapNotFound(err)
	}
	if t.UsedAt == nil || time.Since(*t.UsedAt) > time.Minute {
		if err := s.db.WithContext(ctx).Model(&t).Update("used_at", time.Now()).Error; err != nil {
			return nil, err
		}
	}
	return s.identity(ctx, t, false)
}

func (s *Store) identity(ctx context.Context, t tokenRow, browser bool) (*Identity, error) {
	i := &Identity{TokenID: t.ID, By: t.Name, Session: browser}
	err := s.db.WithContext(ctx).Where("id = ?", t.PersonID).Take(&i.Person).Error
	return i, mapNotFound(err)
}

// AddSession remembers a signed-in browser. Expired ones are forgotten on the way.
func (s *Store) AddSession(ctx context.Context, of *Identity, secret, address string, expires time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < now()").Delete(&session{}).Error; err != nil {
		return err
	}
	return db.Create(&session{
		Hash: hash(
			secret,
		), PersonID: of.ID, TokenID: &of.TokenID, Address: address, CreatedAt: time.Now(), ExpiresAt: expires,
	}).Error
}

// IdentityBySession finds who is signed in. A session ends with the token that it was
// begun with, and with the person.
func (s *Store) IdentityBySession(ctx context.Context, secret string) (*Identity, error) {
	var t tokenRow
	err := s.db.WithContext(ctx).Joins("join sessions on sessions.token_id = tokens.id").
		Joins("join people on people.id = tokens.person_id").
		Where("sessions.hash = ? and sessions.expires_at > now() and "+valid, hash(secret)).Take(&t).Error
	if err != nil {
		return nil, mapNotFound(err)
	}
	return s.identity(ctx, t, true)
}

// DropSession signs a browser out.
func (s *Store) DropSession(ctx context.Context, secret string) error {
	return s.db.WithContext(ctx).Where("hash = ?", hash(secret)).Delete(&session{}).Error
}

// EndSession signs a browser out, by the number of its session.
func (s *Store) EndSession(ctx context.Context, id int64) error {
	return gone(s.db.WithContext(ctx).Where("id = ?", id).Delete(&session{}))
}

// EndToken ends a token; the sessions that were begun with it end with it.
func (s *Store) EndToken(ctx context.Context, id int64) error {
	return gone(s.db.WithContext(ctx).Model(&tokenRow{}).Where("id = ? and ended_at is null", id).
		Update("ended_at", time.Now()))
}

// gone is ErrNotFound if nothing was changed.
func gone(db *gorm.DB) error {
	if db.Error == nil && db.RowsAffected == 0 {
		return ErrNotFound
	}
	return db.Error
}

// ErrLastAdministrator means that nobody would be left who administers.
var ErrLastAdministrator = errors.New("nobody would be left who administers")

// SetPerson makes or changes a person.
func (s *Store) SetPerson(ctx context.Context, name string, change client.PersonChange) (*client.Person, error) {
	err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Exec("select pg_advisory_xact_lock(?)", peopleLock).Error; err != nil {
			return err
		}
		p := Person{Name: name, Role: client.Work, Sites: []string{}}
		if err := db.Where("name = ?", name).FirstOrCreate(&p).Error; err != nil {
			return err
		}
		if change.Role != "" {
			p.Role = change.Role
		}
		if change.Sites != nil {
			p.Sites = *change.Sites
		}
		if change.Ended != nil {
			p.EndedAt = nil
			if now := time.Now(); *change.Ended {
				p.EndedAt = &now
			}
		}
		if err := db.Model(&p).Select("role", "sites", "ended_at").Updates(&p).Error; err != nil {
			return err
		}
		if p.EndedAt != nil { // for good: letting the person in again gives new ones
			if err := db.Model(&tokenRow{}).Where("person_id = ? and ended_at is null", p.ID).
				Update("ended_at", time.Now()).Error; err != nil {
				return err
			}
		}
		var left int64
		err := db.Model(&Person{}).Where("role = ? and ended_at is null", client.Administer).Count(&left).Error
		if err != nil {
			return err
		}
		if left == 0 {
			return ErrLastAdministrator
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	list, err := s.people(ctx, s.db.WithContext(ctx).Where("name = ?", name))
	if err != nil || len(list) == 0 {
		return nil, errors.Join(err, ErrNotFound)
	}
	return &list[0], nil
}

const peopleLock = 0x64696f71

// People lists all, with their tokens and sessions.
func (s *Store) People(ctx context.Context) ([]client.Person, error) {
	return s.people(ctx, s.db.WithContext(ctx))
}

func (s *Store) people(ctx context.Context, which *gorm.DB) ([]client.Person, error) {
	var rows []Person
	if err := which.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]client.Person, 0, len(rows))
	for _, r := range rows {
		p := client.Person{
			Name: r.Name, Role: r.Role, Sites: append([]string{}, r.Sites...), Created: r.CreatedAt.UTC(), Ended: r.EndedAt,
			Tokens: []client.Token{}, Signed: []client.Session{},
		}
		var tokens []tokenRow
		if err := s.db.WithContext(ctx).Where("person_id = ?", r.ID).Order("id").Find(&tokens).Error; err != nil {
			return nil, err
		}
		for _, t := range tokens {
			p.Tokens = append(p.Tokens, t.public())
		}
		var open []session
		if err := s.db.WithContext(ctx).Joins("join tokens on tokens.id = sessions.token_id and tokens.ended_at is null").
			Where("sessions.person_id = ? and sessions.expires_at > now()", r.ID).
			Order("sessions.id").Find(&open).Error; err != nil {
			return nil, err
		}
		for _, o := range open {
			p.Signed = append(p.Signed, client.Session{
				ID: o.ID, Address: o.Address, Created: o.CreatedAt.UTC(), Expires: o.ExpiresAt.UTC(),
			})
		}
		list = append(list, p)
	}
	return list, nil
}
