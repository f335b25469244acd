package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"diorthos/service/bags"
)

// Write writes everything to out, as it stands at one moment, while the service may run.
// A bag that is recorded and cannot be read is an error: a backup without it is none.
func Write(
	ctx context.Context,
	dsn string,
	store *bags.Store,
	out io.Writer,
	progress Progress,
) (s Summary, err error) {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	h, err := survey(ctx, tx)
	if err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	z, err := zstd.NewWriter(out)
	if err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	w := &writer{tar: tar.NewWriter(z), made: h.Made, sums: map[string]string{}}
	if err := w.all(ctx, tx, store, h, progress); err != nil {
		return s, fmt.Errorf("backup: %w", err)
	}
	return h.summary(), errors.Join(w.tar.Close(), z.Close())
}

// survey says what there is, within the transaction that everything is read in.
func survey(ctx context.Context, tx pgx.Tx) (*head, error) {
	h := &head{Format: format, Made: time.Now().UTC(), Bags: []kept{}}
	if err := tx.QueryRow(ctx, schemaVersion).Scan(&h.Schema); err != nil {
		return nil, err
	}
	for _, name := range tables {
		t := table{Name: name}
		rows, err := tx.Query(
			ctx,
			"select column_name from information_schema.columns where table_schema = current_schema() "+
				"and table_name = $1 and is_generated = 'NEVER' order by ordinal_position",
			name,
		)
		if err != nil {
			return nil, err
		}
		if t.Columns, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
			return nil, err
		}
		if err := tx.QueryRow(ctx, "select count(*) from "+pgx.Identifier{name}.Sanitize()).Scan(&t.Rows); err != nil {
			return nil, err
		}
		h.Tables = append(h.Tables, t)
	}
	rows, err := tx.Query(ctx, "select blob, size from bags where removed_at is null order by blob")
	if err != nil {
		return nil, err
	}
	h.Bags, err = pgx.CollectRows(rows, pgx.RowToStructByPos[kept])
	return h, err
}

type writer struct {
	tar  *tar.Writer
	made time.Time
	sums map[string]string
}

func (w *writer) all(ctx context.Context, tx pgx.Tx, store *bags.Store, h *head, progress Progress) error {
	if err := w.document(headName, h); err != nil {
		return err
	}
	for _, t := range h.Tables {
		if err := w.table(ctx, tx, t); err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
	}
	total, done := h.summary().BagBytes, int64(0)
	for _, b := range h.Bags {
		if err := w.bag(ctx, store, b); err != nil {
			return err
		}
		if done += b.Size; progress != nil {
			progress(done, total)
		}
	}
	return w.document(sumsName, w.sums)
}

func (w *writer) document(name string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return w.entry(name, int64(len(raw)), strings.NewReader(string(raw)))
}

func (w *writer) entry(name string, size int64, r io.Reader) error {
	err := w.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: w.made, Format: tar.FormatPAX})
	if err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.Copy(io.MultiWriter(w.tar, sum), r); err != nil {
		return err
	}
	w.sums[name] = hex.EncodeToString(sum.Sum(nil))
	return nil
}

// table goes by way of a file: a tar says the size first.
func (w *writer) table(ctx context.Context, tx pgx.Tx, t table) error {
	f, err := os.CreateTemp("", "diorthos-backup-*")
	if err != nil {
		return err
	}
	defer func() { _, _ = f.Close(), os.Remove(f.Name()) }()
	if _, err := tx.Conn().PgConn().CopyTo(ctx, f, "copy "+t.target()+" to stdout"); err != nil {
		return err
	}
	size, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return w.entry(tablesDir+t.Name, size, f)
}

// target is a table with its columns, as SQL writes it.
func (t table) target() string {
	var columns []string
	for _, c := range t.Columns {
		columns = append(columns, pgx.Identifier{c}.Sanitize())
	}
	return pgx.Identifier{t.Name}.Sanitize() + " (" + strings.Join(columns, ", ") + ")"
}

func (w *writer) bag(ctx context.Context, store *bags.Store, b kept) error {
	r, size, err := store.Open(ctx, b.Key)
	if err != nil {
		return fmt.Errorf("bag %s is recorded and cannot be read: %w", b.Key, err)
	}
	defer func() { _ = r.Close() }()
	if size != b.Size {
		return fmt.Errorf("bag %s is recorded with %d bytes and has %d: have its case read again first", b.Key, b.Size, size)
	}
	return w.entry(bagsDir+b.Key, size, r)
}
