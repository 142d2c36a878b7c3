package lake

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
)

// What a table tells of its writers: the last delivery of each, and when that was.
const (
	deliveredProperty = "fiume.delivered."
	writerSummary     = "fiume.writer"
	deliverySummary   = "fiume.delivery"
	// forgotten is after how long it is forgotten what a writer has delivered.
	forgotten = 90 * 24 * time.Hour
)

// delivered gives the number of the last delivery of a writer; 0: none.
func delivered(t *table.Table, writer string) int64 {
	n, _, _ := strings.Cut(t.Properties()[deliveredProperty+writer], " ")
	number, _ := strconv.ParseInt(n, 10, 64)
	return number
}

// stale lists what is told of writers that have not delivered for long.
func stale(t *table.Table) (keys []string) {
	for k, v := range t.Properties() {
		if strings.HasPrefix(k, deliveredProperty) {
			_, when, _ := strings.Cut(v, " ")
			if at, err := time.Parse(time.RFC3339, when); err == nil && time.Since(at) > forgotten {
				keys = append(keys, k)
			}
		}
	}
	return keys
}

// icebergWriter writes to a table of that format.
type icebergWriter struct {
	lake   *lake
	shape  *shape
	upkeep upkeep
	t      *table.Table // as last saw it
}

// icebergWriter opens the table, which is made where it is not there, and gives its columns.
func (l *lake) icebergWriter(ctx context.Context, s *shape, u upkeep) (writer, *arrow.Schema, error) {
	t, err := l.table(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	cols, err := tableColumns(t)
	return &icebergWriter{lake: l, shape: s, upkeep: u}, cols, err
}

func (s *icebergWriter) last(ctx context.Context, writer string) (n int64, err error) {
	if s.t, err = s.lake.load(ctx, s.shape.address); err != nil {
		return 0, err
	}
	return delivered(s.t, writer), nil
}

func (s *icebergWriter) write(ctx context.Context, writer string, number int64, recs []arrow.RecordBatch) error {
	t := s.t
	if err := s.shape.fits(t); err != nil { // it may have changed since
		return fmt.Errorf("the table %s: %w", s.shape.address, err)
	}
	var rows, deletes []iceberg.DataFile
	var err error
	written := false
	for range 10 {
		tx := t.NewTransaction()
		if !written {
			if rows, deletes, err = s.files(ctx, t, tx, recs); err != nil {
				return s.lake.said(err)
			}
			written = true
		}
		err = s.commit(ctx, t, tx, writer, number, rows, deletes)
		if err == nil {
			return s.upkeep.tend(ctx, s.lake, s.shape.address)
		}
		fresh, again := s.lake.load(ctx, s.shape.address)
		if again != nil {
			return again
		}
		if delivered(fresh, writer) >= number {
			return nil // no answer came, and yet it is there
		}
		if fresh.MetadataLocation() == t.MetadataLocation() || fresh.Metadata().DefaultPartitionSpec() != t.Metadata().DefaultPartitionSpec() || fresh.Schema().ID != t.Schema().ID {
			return s.lake.said(err) // it was not that others wrote, or the files do not fit any more
		}
		t = fresh
	}
	return errMet
}

// commit makes a snapshot of files, if the table is as it was when they were written.
func (s *icebergWriter) commit(ctx context.Context, t *table.Table, tx *table.Transaction, writer string, number int64, rows, deletes []iceberg.DataFile) error {
	if err := tx.AssertRefSnapshotID("main"); err != nil { // without it the library tries again by itself, on a table that may have the delivery
		return err
	}
	n := strconv.FormatInt(number, 10)
	if len(rows)+len(deletes) > 0 {
		d := tx.NewRowDelta(iceberg.Properties{writerSummary: writer, deliverySummary: n})
		d.AddRows(rows...)
		d.AddDeletes(deletes...)
		if err := d.Commit(ctx); err != nil {
			return err
		}
	}
	if err := tx.SetProperties(iceberg.Properties{deliveredProperty + writer: n + " " + time.Now().UTC().Format(time.RFC3339)}); err != nil {
		return err
	}
	if old := stale(t); len(old) > 0 {
		if err := tx.RemoveProperties(old); err != nil {
			return err
		}
	}
	_, err := tx.Commit(ctx)
	return err
}

// files writes the files of a delivery: those of rows, and those of deletes.
func (s *icebergWriter) files(ctx context.Context, t *table.Table, tx *table.Transaction, recs []arrow.RecordBatch) (rows, deletes []iceberg.DataFile, err error) {
	put := recs
	if s.shape.key != nil {
		var gone []arrow.RecordBatch
		if put, gone, err = s.newest(ctx, recs); err != nil {
			return nil, nil, err
		}
		if t.CurrentSnapshot() != nil {
			var ids []int
			for _, k := range s.shape.key {
				f, _ := t.Schema().FindFieldByNameCaseInsensitive(s.shape.fields[k].Name)
				ids = append(ids, f.ID)
			}
			if deletes, err = tx.WriteEqualityDeletes(ctx, ids, each(gone)); err != nil {
				return nil, nil, err
			}
		}
	}
	if len(put) == 0 {
		return nil, deletes, nil
	}
	for f, err := range table.WriteRecords(ctx, t, put[0].Schema(), each(put), table.WithMaxWriteWorkers(2)) {
		if err != nil {
			return nil, nil, err
		}
		rows = append(rows, f)
	}
	return rows, deletes, nil
}

// each hands batches over to the library, which releases them.
func each(recs []arrow.RecordBatch) iter.Seq2[arrow.RecordBatch, error] {
	return func(yield func(arrow.RecordBatch, error) bool) {
		for _, r := range recs {
			r.Retain()
			if !yield(r, nil) {
				return
			}
		}
	}
}

// newest gives, of each key, the last row, unless that is taken away, and the keys of all.
func (s *icebergWriter) newest(ctx context.Context, recs []arrow.RecordBatch) (put, keys []arrow.RecordBatch, err error) {
	type place struct{ rec, row int }
	last := map[string]place{}
	var key []byte
	for n, rec := range recs {
		for row := range int(rec.NumRows()) {
			key = key[:0]
			for _, k := range s.shape.key {
				key = appendKey(key, rec.Column(k), row)
			}
			last[string(key)] = place{n, row}
		}
	}
	stays := make([][]bool, len(recs))
	for n, rec := range recs {
		stays[n] = make([]bool, rec.NumRows())
	}
	for _, p := range last {
		stays[p.rec][p.row] = true
	}
	width := len(s.shape.fields)
	for n, rec := range recs {
		what := rec.Column(width).(*array.Int8)
		puts := make([]bool, len(stays[n]))
		for row, stay := range stays[n] {
			puts[row] = stay && what.Value(row) == rowPut
		}
		all := make([]int, width)
		for i := range all {
			all[i] = i
		}
		if put, err = appendSome(ctx, put, rec, all, puts); err == nil {
			keys, err = appendSome(ctx, keys, rec, s.shape.key, stays[n])
		}
		if err != nil {
			return nil, nil, err
		}
	}
	return put, keys, nil
}

// appendSome appends some columns of some rows of a batch.
func appendSome(ctx context.Context, to []arrow.RecordBatch, rec arrow.RecordBatch, cols []int, which []bool) ([]arrow.RecordBatch, error) {
	if !slices.Contains(which, true) {
		return to, nil
	}
	var fields []arrow.Field
	var values []arrow.Array
	for _, c := range cols {
		fields, values = append(fields, rec.Schema().Field(c)), append(values, rec.Column(c))
	}
	some := array.NewRecordBatch(arrow.NewSchema(fields, nil), values, rec.NumRows())
	if !slices.Contains(which, false) {
		return append(to, some), nil
	}
	b := array.NewBooleanBuilder(memory.DefaultAllocator)
	b.AppendValues(which, nil)
	out, err := compute.FilterRecordBatch(ctx, some, b.NewArray(), compute.DefaultFilterOptions())
	if err != nil {
		return nil, err
	}
	return append(to, out), nil
}

// appendKey appends a value of a key, so that two keys are one if all their values are.
func appendKey(b []byte, a arrow.Array, row int) []byte {
	if a.IsNull(row) {
		return append(b, 0)
	}
	text := a.ValueStr(row)
	return append(append(append(strconv.AppendInt(append(b, 1), int64(len(text)), 10), ' '), text...), 0)
}
