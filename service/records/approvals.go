package records

import (
	"context"
	"time"

	"diorthos/client"
)

// approvalLasts is how long a person's word that a rung may be taken counts.
const approvalLasts = 24 * time.Hour

// Approve notes that a person agrees to a rung of a case. Said again, it counts from then.
func (s *Store) Approve(ctx context.Context, number int64, remedy, person string) error {
	return s.db.WithContext(ctx).Exec(
		`insert into approvals (case_number, remedy, person) values (?, ?, ?)
		on conflict (case_number, remedy, person) do update set at = now()`, number, remedy, person,
	).Error
}

// Approvals lists those of a case that count still, the latest first.
func (s *Store) Approvals(ctx context.Context, number int64) ([]client.Approval, error) {
	list := []client.Approval{}
	err := s.db.WithContext(ctx).Raw(
		"select remedy, person as by, at from approvals where case_number = ? and at > now() - "+
			seconds(approvalLasts)+" order by at desc, id desc", number,
	).Scan(&list).Error
	return list, err
}

// OthersMayApprove reports whether somebody else could agree to what destroys data on a machine of a site.
func (s *Store) OthersMayApprove(ctx context.Context, person, site string) (bool, error) {
	var list []Person
	err := s.db.WithContext(ctx).Where("name <> ? and ended_at is null and machine = '' and role in ?", person,
		[]client.Role{client.Approve, client.Administer}).Find(&list).Error
	if err != nil {
		return false, err
	}
	for _, p := range list {
		if (&Identity{Person: p}).At(site) {
			return true, nil
		}
	}
	return false, nil
}
