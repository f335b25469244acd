// Package health looks whether the service has what it needs where it runs: before it
// is started, and when something is odd. It changes nothing but a file that it makes in
// the store of bags and takes away again.
//
//	for _, f := range health.Look(ctx, wanted) {
//		fmt.Println(f.Rating, f.What, f.Saw, f.Do)
//	}
package health

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"

	"diorthos/core/knowledge"
	"diorthos/core/units"
	"diorthos/service/bags"
	"diorthos/service/records"
)

// A Rating is how a thing stands.
type Rating string

// The ratings.
const (
	Good     Rating = "good"
	Doubtful Rating = "doubtful" // it works, and something may go wrong
	Bad      Rating = "bad"
	Unasked  Rating = "not asked" // it was not said where it is
)

// A Finding is what was seen of one thing.
type Finding struct {
	What   string `json:"what"`
	Rating Rating `json:"rating"`
	Saw    string `json:"saw"`
	Do     string `json:"do,omitempty"` // what to do, where something is not good
}

// Wanted says where the parts of a service are. What is empty is not asked.
type Wanted struct {
	Database  string
	Bags      string // a folder
	Temporary string
	Knowledge func() (*knowledge.Knowledge, error)
}

// Bounds of what is good.
const (
	leastRoom  = 1 << 30 // bytes free for bags, and for unpacking them
	mostSkew   = 5 * time.Second
	leastFiles = 1024
	oldestGood = 13_00_00 // of PostgreSQL
)

// Look looks at everything that was named.
func Look(ctx context.Context, w Wanted) []Finding {
	list := database(ctx, w.Database)
	list = append(list, storeOfBags(ctx, w.Bags), folder("temporary files", w.Temporary, false))
	list = append(list, knowledgeOf(w.Knowledge), openFiles())
	for _, t := range []struct{ name, need, get string }{
		{"qemu-system-x86_64", "a rehearsal of a machine's start", "apt-get install qemu-system-x86 ovmf"},
		{"mount", "a system's own tools on a draft of its disk", "apt-get install mount"},
	} {
		list = append(list, tool(t.name, t.need, t.get))
	}
	return list
}

// Worst is the gravest rating of a list.
func Worst(list []Finding) Rating {
	worst := Good
	for _, f := range list {
		if f.Rating == Bad || f.Rating == Doubtful && worst == Good {
			worst = f.Rating
		}
	}
	return worst
}

func database(ctx context.Context, dsn string) []Finding {
	const what = "database"
	if dsn == "" {
		return []Finding{{What: what, Rating: Unasked, Saw: "no --database was named"}}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return []Finding{{
			What: what, Rating: Bad, Saw: err.Error(),
			Do: "start PostgreSQL, or correct --database (postgres://NAME@HOST/DATABASE)",
		}}
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	return []Finding{version(ctx, conn), schema(ctx, conn), rights(ctx, conn), clock(ctx, conn)}
}

func version(ctx context.Context, conn *pgx.Conn) Finding {
	var number int
	var name string
	err := conn.QueryRow(ctx, "select current_setting('server_version_num')::int, current_setting('server_version')").
		Scan(&number, &name)
	f := Finding{What: "database", Rating: Good, Saw: "PostgreSQL " + name}
	switch {
	case err != nil:
		f.Rating, f.Saw = Bad, err.Error()
	case number < oldestGood:
		f.Rating, f.Do = Bad, "use PostgreSQL 13 or newer"
	}
	return f
}

func schema(ctx context.Context, conn *pgx.Conn) Finding {
	f := Finding{What: "tables", Rating: Good}
	newest, err := records.Newest()
	var has bool
	if err == nil {
		err = conn.QueryRow(ctx, "select to_regclass('goose_db_version') is not null").Scan(&has)
	}
	if err != nil {
		f.Rating, f.Saw = Bad, err.Error()
		return f
	}
	if !has {
		f.Saw = "none yet: \"diorthos serve\" makes them"
		return f
	}
	var at int64
	if err := conn.QueryRow(ctx, "select max(version_id) from goose_db_version where is_applied").Scan(&at); err != nil {
		f.Rating, f.Saw = Bad, err.Error()
		return f
	}
	f.Saw = fmt.Sprintf("version %d of %d", at, newest)
	switch {
	case at > newest:
		f.Rating, f.Do = Bad, "a newer Diorthos made them: run that one"
	case at < newest:
		f.Rating, f.Do = Doubtful, "\"diorthos serve\" brings them up to date; make a backup first"
	}
	return f
}

// rights asks whether tables can be made, and whether the audit can be changed.
func rights(ctx context.Context, conn *pgx.Conn) Finding {
	f := Finding{What: "rights", Rating: Good, Saw: "tables can be made, the audit cannot be changed"}
	var mayCreate, guarded, there bool
	err := conn.QueryRow(
		ctx, "select has_schema_privilege(current_schema(), 'create'), to_regclass('audit') is not null, exists ("+
			"select 1 from pg_trigger where tgrelid = to_regclass('audit') and tgname = 'audit_stays' and tgenabled <> 'D')",
	).
		Scan(&mayCreate, &there, &guarded)
	switch {
	case err != nil:
		f.Rating, f.Saw = Bad, err.Error()
	case !mayCreate:
		f.Rating, f.Saw, f.Do = Bad, "this role may make no tables", "grant create on the schema to it"
	case there && !guarded:
		f.Rating, f.Saw = Bad, "the audit can be changed: its guard is switched off"
		f.Do = "alter table audit enable trigger all"
	}
	return f
}

func clock(ctx context.Context, conn *pgx.Conn) Finding {
	f := Finding{What: "clocks", Rating: Good}
	var there time.Time
	before := time.Now()
	if err := conn.QueryRow(ctx, "select clock_timestamp()").Scan(&there); err != nil {
		f.Rating, f.Saw = Bad, err.Error()
		return f
	}
	skew := there.Sub(before.Add(time.Since(before) / 2)).Abs().Round(time.Millisecond)
	f.Saw = fmt.Sprintf("that of the database differs by %s", skew)
	if skew > mostSkew {
		f.Rating, f.Do = Doubtful, "set both by the same time server: heartbeats are judged by them"
	}
	return f
}

func folder(what, path string, private bool) Finding {
	f := Finding{What: what, Rating: Good}
	if path == "" {
		f.Rating, f.Saw = Unasked, "no folder was named"
		return f
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f.Rating, f.Saw, f.Do = Doubtful, path+" is not there yet", "\"diorthos serve\" makes it, if it may"
		return f
	case err != nil:
		f.Rating, f.Saw = Bad, err.Error()
		return f
	case !info.IsDir():
		f.Rating, f.Saw, f.Do = Bad, path+" is not a folder", "name a folder"
		return f
	}
	probe, err := os.CreateTemp(path, ".diorthos-probe-*")
	if err != nil {
		f.Rating, f.Saw, f.Do = Bad, err.Error(), "let the account of the service write there"
		return f
	}
	_, _ = probe.Close(), os.Remove(probe.Name())
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		f.Rating, f.Saw = Bad, err.Error()
		return f
	}
	free := int64(s.Bavail) * s.Bsize
	f.Saw = fmt.Sprintf("%s, %s free", path, units.FormatBytes(free))
	switch {
	case free < leastRoom:
		f.Rating, f.Do = Doubtful, "make room: bags are refused when there is none"
	case private && info.Mode().Perm()&0o077 != 0:
		f.Rating, f.Do = Doubtful, fmt.Sprintf("chmod 700 %s: bags hold evidence of people's machines", path)
	}
	return f
}

// storeOfBags looks at a folder, or at a bucket by its address.
func storeOfBags(ctx context.Context, where string) Finding {
	if !strings.Contains(where, "://") {
		return folder("bags", where, true)
	}
	f := Finding{What: "bags", Rating: Good}
	address, _, _ := strings.Cut(where, "?")
	f.Saw = address + " answers"
	s, err := bags.Open(ctx, where)
	if err == nil {
		err = errors.Join(s.Reachable(ctx), s.Close())
	}
	if err != nil {
		f.Rating, f.Saw, f.Do = Bad, address+": "+err.Error(), "see that the address, the bucket and the key are right"
	}
	return f
}

func knowledgeOf(load func() (*knowledge.Knowledge, error)) Finding {
	f := Finding{What: "knowledge", Rating: Good}
	if load == nil {
		f.Rating, f.Saw = Unasked, "not asked"
		return f
	}
	k, err := load()
	if err != nil {
		f.Rating, f.Saw, f.Do = Bad, err.Error(), "\"diorthos knowledge check FOLDER\" says more"
		return f
	}
	f.Saw = fmt.Sprintf("version %s, %d causes", k.Version, len(k.Causes))
	return f
}

func openFiles() Finding {
	f := Finding{What: "open files", Rating: Good}
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		f.Rating, f.Saw = Doubtful, err.Error()
		return f
	}
	f.Saw = fmt.Sprintf("%d at once", limit.Cur)
	if limit.Cur < leastFiles {
		f.Rating, f.Do = Doubtful, "raise LimitNOFILE of the service's unit to 65536"
	}
	return f
}

func tool(name, need, get string) Finding {
	f := Finding{What: name, Rating: Good}
	path, err := exec.LookPath(name)
	if err != nil {
		f.Rating, f.Saw, f.Do = Doubtful, "not found; needed for "+need, get
		return f
	}
	f.Saw = path
	return f
}

// Certificate looks at the files for TLS; now is what they are held against.
func Certificate(cert, key string, now time.Time) Finding {
	f := Finding{What: "certificate", Rating: Good}
	if cert == "" && key == "" {
		f.Rating, f.Saw = Unasked, "none: the service is reached on this computer alone, or through a proxy"
		return f
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		f.Rating, f.Saw, f.Do = Bad, err.Error(), "--tls-cert and --tls-key name a certificate and its key, both PEM"
		return f
	}
	leaf := pair.Leaf
	f.Saw = fmt.Sprintf("for %v, until %s", leaf.DNSNames, leaf.NotAfter.Format(time.DateOnly))
	switch {
	case now.After(leaf.NotAfter):
		f.Rating, f.Do = Bad, "it has expired: put a new one in its place; the service reads it by itself"
	case now.Before(leaf.NotBefore):
		f.Rating, f.Do = Bad, "it is not valid yet by this computer's clock"
	case leaf.NotAfter.Sub(now) < 14*24*time.Hour:
		f.Rating, f.Do = Doubtful, "it expires in less than two weeks"
	}
	return f
}
