package backup

import (
	"fmt"
	"slices"
	"time"
)

// The names of entries.
const (
	headName  = "backup.json"
	sumsName  = "sums.json"
	tablesDir = "tables/"
	bagsDir   = "bags/"
)

// format is what a file's head has to say of itself.
const format = "diorthos-backup-1"

// schemaVersion asks which version the tables are of.
const schemaVersion = "select max(version_id) from goose_db_version where is_applied"

// tables are those that are kept, each behind those that it refers to.
var tables = []string{
	"people", "tokens", "machines", "bags", "cohorts", "cases", "climbs", "took", "audit", "outbreaks", "tries",
	"attribute_counts", "notices", "service_keys", "agents", "rollouts", "orders", "approvals", "site_rules", "logins",
	"site_knowledge",
}

// Left are the tables that are not kept: who is signed in and who may enrol is soon over, and the queue is filled anew.
var Left = []string{"sessions", "agent_codes", "knocks", "goose_db_version", "river_*"}

// Kept lists the tables that are kept.
func Kept() []string { return slices.Clone(tables) }

// head says what is in a file.
type head struct {
	Format string    `json:"format"`
	Made   time.Time `json:"made"`
	Schema int64     `json:"schema"` // version of the tables
	Tables []table   `json:"tables"`
	Bags   []kept    `json:"bags"`
}

type table struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
}

type kept struct {
	Key  string `json:"key"`
	Size int64  `json:"size"`
}

// A Summary says what a file holds.
type Summary struct {
	Made     time.Time        `json:"made"`
	Rows     map[string]int64 `json:"rows"` // by table
	Bags     int              `json:"bags"`
	BagBytes int64            `json:"bagBytes"`
}

func (h *head) summary() Summary {
	s := Summary{Made: h.Made, Rows: map[string]int64{}, Bags: len(h.Bags)}
	for _, t := range h.Tables {
		s.Rows[t.Name] = t.Rows
	}
	for _, b := range h.Bags {
		s.BagBytes += b.Size
	}
	return s
}

// A DamagedError says where a file is not as it was written.
type DamagedError struct{ What string }

func (e *DamagedError) Error() string {
	return "backup: the file is damaged: " + e.What + "; nothing was restored from it"
}

func damaged(format string, a ...any) error { return &DamagedError{What: fmt.Sprintf(format, a...)} }

// Progress hears how many bytes of bags are done, of how many.
type Progress func(done, total int64)
