package lake

import (
	"context"
	"iter"

	"fiume/internal/connect/contract"

	"github.com/apache/arrow-go/v18/arrow"
)

// look is an open table of one of the formats as it stood when it was looked at. Its snapshots have numbers that are more than 0.
type look interface {
	// columns gives its columns.
	columns() (*arrow.Schema, error)
	// keys names the columns of its key.
	keys() []string
	// newest gives its last snapshot; 0: it has none.
	newest() int64
	// has says whether a snapshot can be read.
	has(id int64) bool
	// numbered gives the snapshot that a text names, be it there or not; 0: it names none.
	numbered(text string) int64
	// named says the number of a snapshot as users know it.
	named(id int64) string
	// recent names the last snapshots.
	recent() string
	// before gives the last snapshot up to one that was made before a time, in microseconds; 0: there is none, and whole says whether that is because the
	// table had none then.
	before(upTo, at int64) (id int64, whole bool, err error)
	// since gives the snapshots behind one, or all where that is 0, up to another, oldest first; false: some are gone.
	since(after, upTo int64) (ids []int64, there bool, err error)
	// all gives the rows of a snapshot, with those of some columns; nil stands for all. Limit is how many are wanted, 0: all. Done is called when no more are.
	all(ctx context.Context, id int64, columns []string, limit int) (rows iter.Seq2[arrow.RecordBatch, error], done func(), err error)
	// files gives the files of a snapshot, or those that it adds, in an order that is always the same. That it does not only add rows is errChanges, and that
	// it is gone may be errLost.
	files(ctx context.Context, id int64, whole bool, columns []string) (files, error)
	// browse says what is known of the table, with so many snapshots and partitions at most.
	browse(ctx context.Context, out *contract.Browsed, most int) error
}

// files are files of one snapshot.
type files interface {
	len() int
	// at is when the snapshot was made, in microseconds.
	at() int64
	rows(ctx context.Context, file int) iter.Seq2[arrow.RecordBatch, error]
	close()
}

// look looks at a table. That it is not there is errNoTable, which names those that are.
func (l *lake) look(ctx context.Context, address string) (look, error) {
	if l.delta {
		t, err := l.ledger(ctx, address)
		if err != nil {
			return nil, err
		}
		return t, nil
	}
	t, err := l.load(ctx, address)
	if err != nil {
		return nil, err
	}
	return icebergLook{t}, nil
}
