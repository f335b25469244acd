package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("not found")

// A Store is the database. It is safe for concurrent use.
type Store struct {
	Pool *pgxpool.Pool // for the queue and for listening
	sql  *sql.DB
	db   *gorm.DB
	notes
}

// Open connects to the database that dsn names and brings its tables up to
// date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	conf, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	// A filter may match nearly all rows or none: one plan for both is slow for one.
	conf.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	pool, err := pgxpool.NewWithConfig(ctx, conf)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{Pool: pool, sql: stdlib.OpenDBFromPool(pool)}
	s.db, err = gorm.Open(postgres.New(postgres.Config{Conn: s.sql}), &gorm.Config{
		Logger:               logger.Discard,
		DisableAutomaticPing: true,
		TranslateError:       true,
		NowFunc:              func() time.Time { return time.Now().UTC() },
	})
	if err == nil {
		err = s.migrate(ctx)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	return s, nil
}

// migrationLock keeps two processes that start together from migrating at
// the same time.
const migrationLock = 0x64696f72

func (s *Store) migrate(ctx context.Context) error {
	conn, err := s.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	if _, err := conn.ExecContext(ctx, "select pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", migrationLock)
	}()
	scripts, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, s.sql, scripts)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Close gives the connections back.
func (s *Store) Close() {
	_ = s.sql.Close()
	s.Pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.Pool.Ping(ctx) }

// inTx runs do in one transaction. What do passes to raw runs in the same
// transaction on the driver's own connection, which the queue needs.
func (s *Store) inTx(ctx context.Context, do func(db *gorm.DB, raw func(func(pgx.Tx) error) error) error) error {
	conn, err := s.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing once committed
	db := s.db.Session(&gorm.Session{Context: ctx, NewDB: true, SkipDefaultTransaction: true})
	db.Statement.ConnPool = tx
	err = do(db, func(use func(pgx.Tx) error) error {
		return conn.Raw(func(driver any) error {
			c, ok := driver.(*stdlib.Conn)
			if !ok {
				return fmt.Errorf("database driver is %T", driver)
			}
			return use(joined{c.Conn(), c.Conn()})
		})
	})
	if err != nil {
		return err
	}
	return committed(tx.Commit())
}

// ErrCommitUnknown means that the answer to a commit was lost: what was to be
// recorded may be recorded or not.
var ErrCommitUnknown = errors.New("the database did not say whether it kept this")

// committed tells a commit that was refused from one whose answer was lost.
func committed(err error) error {
	var refused *pgconn.PgError
	if err == nil || errors.As(err, &refused) || errors.Is(err, pgx.ErrTxCommitRollback) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrCommitUnknown, err)
}

// joined lets somebody take part in a transaction that somebody else began
// on the same connection and will end.
type joined struct {
	*onConn
	c *pgx.Conn
}

// onConn keeps the embedded connection from hiding the method Conn.
type onConn = pgx.Conn

var (
	_          pgx.Tx = joined{}
	errNotOurs        = errors.New("the transaction is ended by whoever began it")
)

func (joined) Begin(context.Context) (pgx.Tx, error) { return nil, errNotOurs }
func (joined) Commit(context.Context) error          { return errNotOurs }
func (joined) Rollback(context.Context) error        { return errNotOurs }
func (joined) LargeObjects() pgx.LargeObjects        { return pgx.LargeObjects{} }
func (j joined) Conn() *pgx.Conn                     { return j.c }

// Ears are called with what changes.
type Ears struct {
	Case  func(number int64)
	Agent func(machine string) // there is something for its agent; empty for those of all machines
	Lost  func()               // changes may have been missed
}

// Listen tells of changes until ctx ends. It connects anew when the connection is lost, and then
// says so, that nobody waits for what was missed.
func (s *Store) Listen(ctx context.Context, ears Ears) {
	for ctx.Err() == nil {
		if err := s.listen(ctx, ears); err != nil && ctx.Err() == nil {
			slog.Warn("live changes: connection lost", "error", err)
			ears.Lost()
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}
}

func (s *Store) listen(ctx context.Context, ears Ears) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen diorthos_case; listen "+agentChannel); err != nil {
		return err
	}
	ears.Lost() // what changed before this
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return errors.Join(err, conn.Conn().Close(context.WithoutCancel(ctx)))
		}
		if n.Channel == agentChannel {
			ears.Agent(n.Payload)
		} else if number, err := strconv.ParseInt(n.Payload, 10, 64); err == nil {
			ears.Case(number)
		}
	}
}

func mapNotFound(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) || errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Newest is the version of the tables that this program makes.
func Newest() (int64, error) {
	list, err := fs.ReadDir(migrations, "migrations")
	if err != nil || len(list) == 0 {
		return 0, fmt.Errorf("database: no migrations: %w", err)
	}
	number, _, _ := strings.Cut(list[len(list)-1].Name(), "_")
	return strconv.ParseInt(number, 10, 64)
}
