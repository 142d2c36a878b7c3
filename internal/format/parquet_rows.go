package format

import (
	"context"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// EachParquet hands out the rows of a file of Parquet, with those of some columns, or parts of columns ("row.part"), that it has, in their order; nil stands
// for all. A batch is good until the next one.
func EachParquet(f io.ReaderAt, size int64, columns []string, batch int64, each func(arrow.RecordBatch) error) error {
	next, done, err := parquetRows(f, size, columns, batch)
	if err != nil {
		return err
	}
	defer done()
	for {
		rec, err := next()
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = each(rec)
		}
		if err != nil {
			return err
		}
	}
}

func parquetRows(f io.ReaderAt, size int64, columns []string, batch int64) (next func() (arrow.RecordBatch, error), done func(), err error) {
	defer recovered(&err)
	in, err := parquetReader(f, size)
	if err != nil {
		return nil, nil, err
	}
	r, err := pqarrow.NewFileReader(in, pqarrow.ArrowReadProperties{BatchSize: batch}, memory.DefaultAllocator)
	if err != nil {
		return nil, nil, err
	}
	leaves := []int{}
	for i := range in.MetaData().Schema.NumColumns() {
		path := in.MetaData().Schema.Column(i).ColumnPath().String()
		if columns == nil || slices.ContainsFunc(columns, func(c string) bool { return path == c || strings.HasPrefix(path, c+".") }) {
			leaves = append(leaves, i)
		}
	}
	if len(leaves) == 0 { // rows are counted alone
		left := in.NumRows()
		return func() (arrow.RecordBatch, error) {
			n := min(left, batch)
			if left -= n; n <= 0 {
				return nil, io.EOF
			}
			return array.NewRecordBatch(arrow.NewSchema(nil, nil), nil, n), nil
		}, func() {}, nil
	}
	rows, err := r.GetRecordReader(context.Background(), leaves, nil)
	if err != nil {
		return nil, nil, err
	}
	return func() (rec arrow.RecordBatch, err error) {
		defer recovered(&err)
		if !rows.Next() {
			if err := rows.Err(); err != nil && err != io.EOF {
				return nil, err
			}
			return nil, io.EOF
		}
		return rows.RecordBatch(), nil
	}, rows.Release, nil
}
