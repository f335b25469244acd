package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"diorthos/service/bags"
	"diorthos/service/records"
)

// ErrNotEmpty means that the database holds something already.
var ErrNotEmpty = errors.New("backup: the database is not empty: restore into a new one")

// Check reads a file to its end and holds every entry against its sum.
func Check(in io.Reader) (Summary, error) {
	r, err := open(in)
	if err != nil {
		return Summary{}, err
	}
	defer r.unpacked.Close()
	err = r.each(func(string, int64, io.Reader) error { return nil })
	return r.head.summary(), err
}

// Restore makes a service's records and bags of a file. The database has to be empty; its
// tables are made. Unless the whole file is as it was written, nothing is restored.
func Restore(
	ctx context.Context, dsn string, store *bags.Store, in io.Reader, progress Progress,
) (s Summary, err error) {
	r, err := open(in)
	if err != nil {
		return s, err
	}
	defer r.unpacked.Close()
	made, err := records.Open(ctx, dsn) // makes the tables
	if err != nil {
		return s, err
	}
	made.Close()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	doing := &restoring{
		reader: r, store: store, progress: progress, rows: map[string]int64{}, bags: map[string]int64{},
	}
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		doing.tx = tx
		return doing.all(ctx)
	})
	if err != nil {
		for _, key := range doing.made {
			_ = store.Drop(context.WithoutCancel(ctx), key) // nothing names them
		}
	}
	return r.head.summary(), err
}

type reader struct {
	unpacked *zstd.Decoder
	tar      *tar.Reader
	head     head
	sums     map[string]string // of what was read
}

func open(in io.Reader) (*reader, error) {
	z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return nil, fmt.Errorf("backup: %w", err)
	}
	r := &reader{unpacked: z, tar: tar.NewReader(z), sums: map[string]string{}}
	if err := r.readHead(); err != nil {
		z.Close()
		return nil, err
	}
	return r, nil
}

func (r *reader) readHead() error {
	h, err := r.tar.Next()
	if err != nil || h.Name != headName {
		return damaged("it does not begin as a backup of Diorthos does")
	}
	sum := sha256.New()
	raw, err := io.ReadAll(io.TeeReader(io.LimitReader(r.tar, 1<<30), sum))
	if err != nil {
		return damaged("%s: %v", headName, err)
	}
	if err := json.Unmarshal(raw, &r.head); err != nil || r.head.Format != format {
		return damaged("%s says %q, want %q", headName, r.head.Format, format)
	}
	for _, t := range r.head.Tables {
		if !slices.Contains(tables, t.Name) {
			return damaged("%s lists the table %q, which is none of ours", headName, t.Name)
		}
	}
	r.note(headName, sum)
	return nil
}

func (r *reader) note(name string, sum hash.Hash) { r.sums[name] = hex.EncodeToString(sum.Sum(nil)) }

// each gives every entry behind the head to use, and ends with the sums: what was given
// before counts only when it returns no error.
func (r *reader) each(use func(name string, size int64, in io.Reader) error) error {
	for {
		h, err := r.tar.Next()
		if errors.Is(err, io.EOF) {
			return damaged("it is cut off: its last part is not there")
		}
		if err != nil {
			return damaged("%v", err)
		}
		if h.Name == sumsName {
			return r.compare()
		}
		sum := sha256.New()
		entry := io.TeeReader(r.tar, sum)
		if err := use(h.Name, h.Size, entry); err != nil {
			return err
		}
		if _, err := io.Copy(io.Discard, entry); err != nil {
			return damaged("%s: %v", h.Name, err)
		}
		if _, twice := r.sums[h.Name]; twice {
			return damaged("%s is in it twice", h.Name)
		}
		r.note(h.Name, sum)
	}
}

func (r *reader) compare() error {
	var want map[string]string
	if err := json.NewDecoder(r.tar).Decode(&want); err != nil {
		return damaged("%s: %v", sumsName, err)
	}
	if len(want) != len(r.sums) {
		return damaged("it holds %d parts, and %d are listed", len(r.sums), len(want))
	}
	for name, sum := range want {
		if r.sums[name] != sum {
			return damaged("%s is not as it was written", name)
		}
	}
	return nil
}

// plainKey is how keys of bags look; none leads out of the store.
var plainKey = regexp.MustCompile(`^[a-z0-9-]{1,100}$`)

type restoring struct {
	*reader
	tx       pgx.Tx
	store    *bags.Store
	progress Progress
	rows     map[string]int64
	bags     map[string]int64
	made     []string // bags that were not there before
	done     int64

	references []reference // that were taken away for the time being
}

func (r *restoring) all(ctx context.Context) error {
	if err := r.ready(ctx); err != nil {
		return err
	}
	if err := r.each(func(name string, size int64, in io.Reader) error {
		if t, ok := strings.CutPrefix(name, tablesDir); ok {
			return r.table(ctx, t, in)
		}
		if key, ok := strings.CutPrefix(name, bagsDir); ok {
			return r.bag(ctx, key, size, in)
		}
		return damaged("%q belongs to no backup", name)
	}); err != nil {
		return err
	}
	for _, t := range r.head.Tables {
		if r.rows[t.Name] != t.Rows {
			return damaged("%d rows of %s came back, want %d", r.rows[t.Name], t.Name, t.Rows)
		}
	}
	for _, b := range r.head.Bags {
		if size, ok := r.bags[b.Key]; !ok || size != b.Size {
			return damaged("the bag %s is not in it", b.Key)
		}
	}
	return r.goOn(ctx)
}

// ready refuses what cannot be restored into, and lets rows in as they are.
func (r *restoring) ready(ctx context.Context) error {
	var schema int64
	if err := r.tx.QueryRow(ctx, schemaVersion).Scan(&schema); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	if schema < r.head.Schema {
		return fmt.Errorf(
			"backup: the file is of a newer Diorthos: its tables are of version %d, those of this one of %d",
			r.head.Schema,
			schema,
		)
	}
	for _, name := range tables {
		var any bool
		query := "select exists (select 1 from " + pgx.Identifier{name}.Sanitize() + ")"
		if err := r.tx.QueryRow(ctx, query).Scan(&any); err != nil {
			return fmt.Errorf("backup: %w", err)
		}
		if any {
			return ErrNotEmpty
		}
	}
	if err := r.takeReferences(ctx); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	return r.triggers(ctx, "disable")
}

// takeReferences takes the references between tables away until all rows are back: two
// tables refer to each other.
func (r *restoring) takeReferences(ctx context.Context) error {
	rows, err := r.tx.Query(ctx, "select conrelid::regclass::text, conname, pg_get_constraintdef(oid) from pg_constraint "+
		"where contype = 'f' and connamespace = current_schema()::regnamespace and conrelid::regclass::text = any($1)",
		tables)
	if err != nil {
		return err
	}
	if r.references, err = pgx.CollectRows(rows, pgx.RowToStructByPos[reference]); err != nil {
		return err
	}
	for _, c := range r.references {
		_, err := r.tx.Exec(ctx, "alter table "+c.Table+" drop constraint "+pgx.Identifier{c.Name}.Sanitize())
		if err != nil {
			return err
		}
	}
	return nil
}

// giveReferences puts them back; every row is held against them.
func (r *restoring) giveReferences(ctx context.Context) error {
	for _, c := range r.references {
		_, err := r.tx.Exec(ctx, "alter table "+c.Table+" add constraint "+pgx.Identifier{c.Name}.Sanitize()+" "+c.Is)
		if err != nil {
			return fmt.Errorf("backup: rows of %s: %w", c.Table, err)
		}
	}
	return nil
}

type reference struct{ Table, Name, Is string }

func (r *restoring) triggers(ctx context.Context, how string) error {
	for _, name := range tables {
		if _, err := r.tx.Exec(ctx, "alter table "+pgx.Identifier{name}.Sanitize()+" "+how+" trigger user"); err != nil {
			return fmt.Errorf("backup: table %s: %w", name, err)
		}
	}
	return nil
}

func (r *restoring) table(ctx context.Context, name string, in io.Reader) error {
	i := slices.IndexFunc(r.head.Tables, func(t table) bool { return t.Name == name })
	if i < 0 {
		return damaged("the table %q is not in its list", name)
	}
	tag, err := r.tx.Conn().PgConn().CopyFrom(ctx, in, "copy "+r.head.Tables[i].target()+" from stdin")
	if err != nil {
		return fmt.Errorf("backup: rows of %s: %w", name, err)
	}
	r.rows[name] = tag.RowsAffected()
	return nil
}

func (r *restoring) bag(ctx context.Context, key string, size int64, in io.Reader) error {
	if !slices.Contains(r.head.Bags, kept{Key: key, Size: size}) || !plainKey.MatchString(key) {
		return damaged("the bag %q is not in its list", key)
	}
	made, err := r.store.Put(ctx, key, in)
	if err != nil {
		return fmt.Errorf("backup: bag %s: %w", key, err)
	}
	switch {
	case made:
		r.made = append(r.made, key)
	case !r.store.Holds(ctx, key, size):
		return fmt.Errorf("backup: another bag lies under %s already: restore into a store of bags of its own", key)
	}
	r.bags[key] = size
	if r.done += size; r.progress != nil {
		r.progress(r.done, r.head.summary().BagBytes)
	}
	return nil
}

// goOn lets numbers go on behind those that came back, and what the tables do by themselves.
func (r *restoring) goOn(ctx context.Context) error {
	rows, err := r.tx.Query(ctx, "select table_name, column_name from information_schema.columns "+
		"where table_schema = current_schema() and is_identity = 'YES' and table_name = any($1)", tables)
	if err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	numbered, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ Table, Column string }])
	if err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	for _, n := range numbered {
		table, column := pgx.Identifier{n.Table}.Sanitize(), pgx.Identifier{n.Column}.Sanitize()
		if _, err := r.tx.Exec(ctx, "select setval(pg_get_serial_sequence($1, $2), greatest(max("+column+"), 1), "+
			"max("+column+") is not null) from "+table, n.Table, n.Column); err != nil {
			return fmt.Errorf("backup: numbers of %s: %w", n.Table, err)
		}
	}
	if err := r.triggers(ctx, "enable"); err != nil {
		return err
	}
	return r.giveReferences(ctx)
}
