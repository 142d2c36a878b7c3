package lake

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/lake/delta"
	"fiume/internal/connect/spool"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
)

// Tables of the format Delta have no catalogue: a table is a directory, and its log, the ledger, tells all of it.

// openLedgers opens a place with such tables.
func (l *lake) openLedgers() error {
	kind, err := kindOf(l.e.Address)
	switch {
	case err != nil:
		return fmt.Errorf("endpoint %s: %w", l.e.Name, err)
	case kind == inStore && l.reach.far == nil:
		return fmt.Errorf("endpoint %s: the tables are in an object store: say which with STORE 'https://key@host:port'", l.e.Name)
	case kind == inStore:
		l.root = strings.TrimSuffix(l.e.Address, "/")
	case kind == inDirectory:
		dir, err := l.reach.path("open", l.e.Address)
		if err == nil {
			dir, err = filepath.Abs(dir)
		}
		if err != nil {
			return fmt.Errorf("endpoint %s: %w", l.e.Name, err)
		}
		l.root = dir
	default:
		return fmt.Errorf("endpoint %s: tables of the format delta lie in a directory, or in s3://bucket/path", l.e.Name)
	}
	l.ledgers = map[string]*ledgerLook{}
	return nil
}

// deepest is how many directories below the address a table may lie.
const deepest = 4

const logDir = "_delta_log"

// ledgerNames lists the tables.
func (l *lake) ledgerNames(ctx context.Context) (out []string, err error) {
	found := func(rel string) {
		out = append(out, strings.ReplaceAll(filepath.ToSlash(rel), "/", "."))
	}
	if l.reach.far != nil && strings.HasPrefix(l.root, "s3") {
		key, _ := object(l.root)
		var walk func(at string, depth int) error
		walk = func(at string, depth int) error {
			dirs, _, _, err := l.reach.far.Dir(ctx, at+"/", mostDirs)
			if err != nil {
				return err
			}
			for _, d := range dirs {
				if path.Base(strings.TrimSuffix(d, "/")) == logDir {
					found(strings.TrimPrefix(at, key+"/"))
					return nil
				}
			}
			for _, d := range dirs {
				if depth < deepest {
					if err := walk(strings.TrimSuffix(d, "/"), depth+1); err != nil {
						return err
					}
				}
			}
			return nil
		}
		err = walk(key, 0)
		slices.Sort(out)
		return out, l.said(err)
	}
	err = filepath.WalkDir(l.root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if p == l.root && errors.Is(err, fs.ErrNotExist) {
				return fs.SkipAll // it has no table yet
			}
			return err
		}
		if !d.IsDir() {
			return ctx.Err()
		}
		rel, _ := filepath.Rel(l.root, p)
		if d.Name() == logDir {
			if dir := filepath.Dir(rel); dir != "." {
				found(dir)
			}
			return fs.SkipDir
		}
		if strings.Count(rel, string(filepath.Separator)) > deepest || strings.HasPrefix(d.Name(), ".") && rel != "." {
			return fs.SkipDir
		}
		return ctx.Err()
	})
	slices.Sort(out)
	return out, l.said(err)
}

// mostDirs are looked at in each directory of an object store.
const mostDirs = 1000

// ledgerLook is a look at a table of that format. Its snapshots are the versions of the log, their numbers one more.
type ledgerLook struct {
	l      *lake
	t      *delta.Table
	loaded time.Time
}

// anew is after how long the log is read from its last checkpoint on, in case what follows is not kept any more.
const anew = 10 * time.Minute

// ledger looks at a table: what was written since the last look is read.
func (l *lake) ledger(ctx context.Context, address string) (*ledgerLook, error) {
	ident, err := identOf(address)
	if err != nil {
		return nil, err
	}
	k := l.ledgers[address]
	if k != nil && time.Since(k.loaded) < anew {
		if err := k.t.Refresh(); err != nil {
			delete(l.ledgers, address) // how much of it was taken is not known
			return nil, l.said(err)
		}
		return k, nil
	}
	t, err := delta.Load(l.reach, l.root+"/"+path.Join(ident...), delta.Newest)
	if errors.Is(err, delta.ErrNoTable) {
		return nil, l.noTable(ctx, address)
	}
	if err != nil {
		return nil, l.said(err)
	}
	k = &ledgerLook{l, t, time.Now()}
	l.ledgers[address] = k
	return k, nil
}

func (k *ledgerLook) columns() (*arrow.Schema, error) { return k.t.Columns() }
func (k *ledgerLook) keys() []string                  { return nil }
func (k *ledgerLook) newest() int64                   { return k.t.Version + 1 }
func (k *ledgerLook) has(id int64) bool               { return id > 0 && id <= k.t.Version+1 }
func (k *ledgerLook) named(id int64) string           { return strconv.FormatInt(id-1, 10) }

func (k *ledgerLook) numbered(text string) int64 {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 0 {
		return 0
	}
	return id + 1
}

func (k *ledgerLook) recent() string {
	first, err := k.t.First()
	if err != nil {
		return "none"
	}
	return fmt.Sprintf("%d to %d", first, k.t.Version)
}

func (k *ledgerLook) before(upTo, at int64) (id int64, whole bool, err error) {
	for v := upTo - 1; v >= 0; v-- {
		e, err := k.t.Entry(v)
		if errors.Is(err, fs.ErrNotExist) {
			return 0, false, nil
		}
		if err != nil {
			return 0, false, err
		}
		if e.Info.At*1000 < at {
			return v + 1, true, nil
		}
	}
	return 0, true, nil
}

func (k *ledgerLook) since(after, upTo int64) (ids []int64, there bool, err error) {
	for id := after + 1; id <= upTo; id++ {
		ids = append(ids, id)
	}
	return ids, after <= upTo, nil
}

// at gives the table as it stood at a snapshot.
func (k *ledgerLook) at(id int64) (*delta.Table, error) {
	if id == k.t.Version+1 {
		return k.t, nil
	}
	t, err := delta.Load(k.l.reach, k.t.Location, id-1)
	if errors.Is(err, delta.ErrGone) || errors.Is(err, delta.ErrNoTable) {
		return nil, errLost
	}
	return t, err
}

func (k *ledgerLook) all(ctx context.Context, id int64, columns []string, _ int) (iter.Seq2[arrow.RecordBatch, error], func(), error) {
	f, err := k.files(ctx, id, true, columns)
	if err != nil {
		return nil, nil, err
	}
	return func(yield func(arrow.RecordBatch, error) bool) {
		for i := range f.len() {
			for rec, err := range f.rows(ctx, i) {
				if !yield(rec, err) || err != nil {
					return
				}
			}
		}
	}, f.close, nil
}

// ledgerFiles are files of one.
type ledgerFiles struct {
	k       *ledgerLook
	t       *delta.Table // whose columns they have
	adds    []*delta.Add
	when    int64
	columns []string
}

func (f *ledgerFiles) len() int  { return len(f.adds) }
func (f *ledgerFiles) at() int64 { return f.when }
func (f *ledgerFiles) close()    {}

func (f *ledgerFiles) rows(_ context.Context, file int) iter.Seq2[arrow.RecordBatch, error] {
	return func(yield func(arrow.RecordBatch, error) bool) {
		a := f.adds[file]
		stopped := errors.New("no more is wanted")
		err := func() error {
			name, err := f.t.PathOf(a)
			if err != nil {
				return err
			}
			in, err := f.k.l.reach.Open(name)
			if err != nil {
				return err
			}
			defer in.Close()
			st, err := in.Stat()
			if err != nil {
				return err
			}
			return f.t.EachRow(a, in, st.Size(), f.columns, batchRows, func(rec arrow.RecordBatch) error {
				rec.Retain()
				if !yield(rec, nil) {
					return stopped
				}
				return nil
			})
		}()
		if err != nil && err != stopped {
			yield(nil, fmt.Errorf("the file %s of the table: %w", a.Path, err))
		}
	}
}

func (k *ledgerLook) files(_ context.Context, id int64, whole bool, columns []string) (files, error) {
	f := &ledgerFiles{k: k, t: k.t, columns: columns}
	e, err := k.t.Entry(id - 1)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !whole:
		return nil, errLost
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, err
	default:
		f.when = e.Info.At * 1000
	}
	if whole {
		if f.t, err = k.at(id); err != nil {
			return nil, err
		}
		f.adds = f.t.Sorted()
		return f, nil
	}
	if e.Changes() {
		how := strings.ToLower(e.Info.Operation)
		if how == "" {
			how = "files are taken out"
		}
		return nil, &saying{how, errChanges}
	}
	f.adds = e.Added()
	return f, nil
}

func (k *ledgerLook) browse(_ context.Context, out *contract.Browsed, most int) error {
	t := k.t
	fact(out, "lies at", t.Location)
	fact(out, "format", fmt.Sprintf("Delta, for readers of protocol %d and writers of %d, Parquet", t.Protocol.MinReader, t.Protocol.MinWriter))
	fact(out, "partitioned by", strings.Join(t.Metadata.PartitionBy, ", "))
	var parts partitions
	rows, bytes, told := int64(0), int64(0), true
	for _, a := range t.Adds {
		n, ok := a.Rows()
		rows, bytes, told = rows+n, bytes+a.Size, told && ok
		var name []string
		for _, c := range t.Metadata.PartitionBy {
			v := "NULL"
			if p := a.PartitionValues[c]; p != nil {
				v = *p
			}
			name = append(name, c+"="+v)
		}
		parts.add(strings.Join(name, "/"), n, a.Size)
	}
	if told {
		fact(out, "rows in files", strconv.FormatInt(rows, 10))
	}
	fact(out, "files", strconv.Itoa(len(t.Adds)))
	fact(out, "bytes", strconv.FormatInt(bytes, 10))
	fact(out, "snapshots", k.recent())
	for v := t.Version; v >= 0; v-- {
		if len(out.Snapshots) == most {
			out.More = true
			break
		}
		e, err := t.Entry(v)
		if errors.Is(err, fs.ErrNotExist) {
			break
		}
		if err != nil {
			return err
		}
		m := contract.Snapshot{ID: strconv.FormatInt(v, 10), At: time.UnixMilli(e.Info.At).UTC(), What: strings.ToLower(e.Info.Operation), Writer: e.Info.Writer}
		added := int64(0)
		for _, a := range e.Added() {
			n, _ := a.Rows()
			added += n
		}
		if added > 0 {
			m.Added = strconv.FormatInt(added, 10)
		}
		out.Snapshots = append(out.Snapshots, m)
	}
	parts.to(out, most)
	return nil
}

// fitsLedger says whether rows can be written to a table of that format.
func (s *shape) fitsLedger(o plan.Options) error {
	for _, n := range []string{"key", "bucket by", "buckets", "sort by", "compact every", "keep", "each"} {
		if _, ok := o[n]; ok {
			why := "is for tables of the format iceberg"
			if n == "key" {
				why = "is for tables of the format iceberg: to those of delta rows are added, and none is replaced"
			}
			return fmt.Errorf("%s %s", strings.ToUpper(n), why)
		}
	}
	for _, c := range s.cut {
		if f := s.fields[c.column]; f.Type.Kind == types.Timestamp {
			return fmt.Errorf("PARTITION BY names %s, and a table of the format delta is told apart by its columns as they are: add a column CAST(%s AS DATE) AS day, and write PARTITION BY (day)", f.Name, f.Name)
		}
	}
	if len(s.cut) == len(s.fields) && len(s.cut) > 0 {
		return errors.New("PARTITION BY names all columns, and no file would have any")
	}
	return nil
}

// partitionBy names the columns that files are told apart by.
func (s *shape) partitionBy() (out []string) {
	for _, c := range s.cut {
		out = append(out, s.fields[c.column].Name)
	}
	return out
}

// fitsTable says whether a table takes the rows.
func (s *shape) fitsTable(t *delta.Table) error {
	cols, err := t.Columns()
	if err == nil {
		err = t.Writable()
	}
	if err != nil {
		return err
	}
	return s.fitsColumns(cols)
}

// ledgerWriter writes to a table of that format.
type ledgerWriter struct {
	lake  *lake
	shape *shape
	k     *ledgerLook
}

// ledgerWriter opens the table, which is made where it is not there, and gives its columns.
func (l *lake) ledgerWriter(ctx context.Context, s *shape) (writer, *arrow.Schema, error) {
	if key, far := object(l.root); far {
		if err := l.reach.far.Guards(ctx, key); err != nil {
			return nil, nil, err
		}
	}
	k, err := l.ledger(ctx, s.address)
	for try := 0; errors.Is(err, errNoTable) && try < 20; try++ {
		ident, _ := identOf(s.address)
		err = delta.Make(l.reach, l.root+"/"+path.Join(ident...), tableID(), format.ArrowSchema(s.fields), s.partitionBy())
		if err == nil || errors.Is(err, delta.ErrMet) {
			k, err = l.ledger(ctx, s.address)
		}
	}
	for try := 0; err == nil && try < 5; try++ {
		if err = s.fitsTable(k.t); err != nil {
			break
		}
		var cols *arrow.Schema
		if cols, err = k.t.Columns(); err != nil {
			break
		}
		var added []types.Field
		for _, f := range s.fields {
			if format.FieldOf(cols, f.Name) < 0 {
				added = append(added, f)
			}
		}
		if len(added) == 0 {
			return &ledgerWriter{l, s, k}, cols, nil
		}
		var m *delta.Metadata
		if m, err = k.t.With(format.ArrowSchema(added)); err != nil {
			break
		}
		if err = k.t.Commit(delta.Columns(m)); err == nil || errors.Is(err, delta.ErrMet) { // somebody else may have been before us
			k, err = l.ledger(ctx, s.address)
		}
	}
	if err == nil {
		err = errMet
	}
	return nil, nil, l.said(err)
}

// tableID names a table.
func tableID() string {
	n := spool.NewWriter() + spool.NewWriter()
	return n[:8] + "-" + n[8:12] + "-4" + n[13:16] + "-8" + n[17:20] + "-" + n[20:32]
}

func (w *ledgerWriter) last(ctx context.Context, writer string) (n int64, err error) {
	if w.k, err = w.lake.ledger(ctx, w.shape.address); err != nil {
		return 0, err
	}
	return w.k.t.Writers[writer].Number, nil
}

func (w *ledgerWriter) write(ctx context.Context, writer string, number int64, recs []arrow.RecordBatch) error {
	t := w.k.t
	if err := w.shape.fitsTable(t); err != nil { // it may have changed since
		return fmt.Errorf("the table %s: %w", w.shape.address, err)
	}
	parts, err := delta.Split(recs, t.Metadata.PartitionBy)
	if err != nil {
		return err
	}
	var adds []*delta.Add
	for _, p := range parts {
		a, err := w.file(t, p)
		if err != nil {
			return w.lake.said(err)
		}
		adds = append(adds, a)
	}
	cut, schema := t.Metadata.PartitionBy, t.Metadata.Schema
	for range 100 {
		err := t.Commit(delta.Append(writer, number, adds))
		if err == nil {
			if t.Due() {
				if err := t.Checkpoint(); err != nil && !w.lake.passing(err) {
					return w.lake.said(fmt.Errorf("a checkpoint of the log cannot be written: %w", err))
				}
			}
			return nil
		}
		if !errors.Is(err, delta.ErrMet) {
			return w.lake.said(err)
		}
		last, err := w.last(ctx, writer)
		if err != nil {
			return err
		}
		if last >= number {
			return nil // no answer came, and yet it is there
		}
		if t = w.k.t; !slices.Equal(t.Metadata.PartitionBy, cut) || t.Metadata.Schema != schema {
			return errMet // the files may not fit any more
		}
	}
	return errMet
}

// file writes the rows of a part.
func (w *ledgerWriter) file(t *delta.Table, p *delta.Part) (a *delta.Add, err error) {
	where := p.Path(t.Metadata.PartitionBy, tableID())
	out, err := w.lake.reach.Create(t.Location + "/" + where)
	if err != nil {
		return nil, err
	}
	if a, err = p.Write(out, where, t.Metadata.PartitionBy); err != nil {
		if f, ok := out.(*written); ok { // what is not whole is not sent
			return nil, errors.Join(err, f.File.Close())
		}
		return nil, errors.Join(err, out.Close())
	}
	return a, out.Close()
}
