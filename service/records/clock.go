package records

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// The database's clock is the only one by which it is judged whether something is over, silent or due: those of the
// processes may be others.

// fromNow is a time, by the database's clock.
func fromNow(d time.Duration) clause.Expr {
	return gorm.Expr("now() + ? * interval '1 second'", d.Seconds())
}

// seconds is a length of time in SQL.
func seconds(d time.Duration) string { return fmt.Sprintf("interval '%d seconds'", int(d.Seconds())) }

// agentSilent is the condition under which an agent was not heard for too long, by its column seen_at.
func agentSilent(seen string) string {
	return "coalesce(" + seen + " < now() - " + seconds(agentSilentAfter) + ", true)"
}
