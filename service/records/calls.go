package records

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/core/bag"
	"diorthos/service/lifecycle"
)

// join gives a bag to the latest case of its machine that began with words and has no
// evidence yet. It returns 0 if there is none, and the blob of the words' own bag, which
// nobody needs any more.
func join(db *gorm.DB, machineID int64, b Bag) (number int64, unused string, err error) {
	var c caseRow
	err = db.Clauses(clause.Locking{Strength: "UPDATE"}).Select("number", "state", "bag_digest").
		Where("machine_id = ? and call is not null and joined_at is null and state in ?",
			machineID, lifecycle.From(lifecycle.Joined)).
		Order("number desc").Take(&c).Error
	if err != nil {
		return 0, "", ignoreNotFound(mapNotFound(err))
	}
	next, err := lifecycle.Next(c.State, lifecycle.Joined)
	if err != nil {
		return 0, "", err
	}
	if err := db.Exec(
		"update cases set bag_digest = ?, state = ?, joined_at = now(), problem = '', updated_at = now() where number = ?",
		b.Digest, next, c.Number,
	).Error; err != nil {
		return 0, "", err
	}
	err = db.Raw("delete from bags where digest = ? returning blob", c.BagDigest).Scan(&unused).Error
	return c.Number, unused, err
}

// CallOf is what a case began with; nil if it began with evidence.
func (s *Store) CallOf(ctx context.Context, number int64) (*bag.Call, error) {
	var raw []byte
	err := s.db.WithContext(ctx).Raw("select call from cases where number = ?", number).Row().Scan(&raw)
	if err != nil || raw == nil {
		return nil, mapNotFound(err)
	}
	var c bag.Call
	return &c, json.Unmarshal(raw, &c)
}
