package lake

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/contract"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go/table"
)

// icebergLook is a look at a table of that format.
type icebergLook struct{ t *table.Table }

func (i icebergLook) columns() (*arrow.Schema, error) { return tableColumns(i.t) }

func (i icebergLook) keys() []string {
	out := strings.Split(i.t.Properties()[keyProperty], ",")
	for _, id := range i.t.Schema().IdentifierFieldIDs {
		if n, ok := i.t.Schema().FindColumnName(id); ok {
			out = append(out, n)
		}
	}
	return out
}

func (i icebergLook) newest() int64 {
	if s := i.t.CurrentSnapshot(); s != nil {
		return s.SnapshotID
	}
	return 0
}

func (i icebergLook) has(id int64) bool { return i.t.SnapshotByID(id) != nil }

func (i icebergLook) numbered(text string) int64 {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0
	}
	return id
}

func (i icebergLook) named(id int64) string { return strconv.FormatInt(id, 10) }

func (i icebergLook) recent() string {
	var out []string
	for _, s := range i.t.Metadata().Snapshots() {
		out = append(out, i.named(s.SnapshotID))
	}
	if len(out) == 0 {
		return "none"
	}
	return strings.Join(out[max(0, len(out)-5):], ", ")
}

func (i icebergLook) before(upTo, at int64) (id int64, whole bool, err error) {
	s := i.t.SnapshotByID(upTo)
	for s != nil {
		if s.TimestampMs*1000 < at {
			return s.SnapshotID, true, nil
		}
		if s.ParentSnapshotID == nil {
			return 0, true, nil
		}
		s = i.t.SnapshotByID(*s.ParentSnapshotID)
	}
	return 0, false, nil
}

func (i icebergLook) since(after, upTo int64) (ids []int64, there bool, err error) {
	for s := i.t.SnapshotByID(upTo); s == nil || s.SnapshotID != after; {
		if s == nil {
			return nil, false, nil
		}
		ids = append(ids, s.SnapshotID)
		if s.ParentSnapshotID == nil {
			slices.Reverse(ids)
			return ids, after == 0, nil
		}
		s = i.t.SnapshotByID(*s.ParentSnapshotID)
	}
	slices.Reverse(ids)
	return ids, true, nil
}

// scan reads columns of a snapshot, in batches.
func (i icebergLook) scan(id int64, columns []string, more ...table.ScanOption) *table.Scan {
	more = append(more, table.WithSnapshotID(id), table.WithArrowBatchSize(batchRows), table.WithMaxConcurrency(2))
	if columns != nil {
		if len(columns) == 0 { // rows are counted alone
			columns = []string{i.t.Schema().Field(0).Name}
		}
		more = append(more, table.WithSelectedFields(columns...))
	}
	return i.t.Scan(more...)
}

func (i icebergLook) all(ctx context.Context, id int64, columns []string, limit int) (iter.Seq2[arrow.RecordBatch, error], func(), error) {
	var more []table.ScanOption
	if limit > 0 {
		more = append(more, table.WithLimit(int64(limit)))
	}
	scan := i.scan(id, columns, more...)
	_, rows, err := scan.ToArrowRecords(ctx)
	if err != nil {
		scan.Close()
		return nil, nil, err
	}
	return rows, func() { scan.Close() }, nil
}

// icebergFiles are files of one.
type icebergFiles struct {
	s     *table.Snapshot
	scan  *table.Scan
	tasks []table.FileScanTask
}

func (f *icebergFiles) len() int  { return len(f.tasks) }
func (f *icebergFiles) at() int64 { return f.s.TimestampMs * 1000 }
func (f *icebergFiles) close()    { f.scan.Close() }

func (f *icebergFiles) rows(ctx context.Context, file int) iter.Seq2[arrow.RecordBatch, error] {
	_, rows, err := f.scan.ReadTasks(ctx, f.tasks[file:file+1])
	if err != nil {
		return func(yield func(arrow.RecordBatch, error) bool) { yield(nil, err) }
	}
	return rows
}

func (i icebergLook) files(ctx context.Context, id int64, whole bool, columns []string) (files, error) {
	s := i.t.SnapshotByID(id)
	if s == nil {
		return nil, errLost
	}
	out := &icebergFiles{s: s, scan: i.scan(id, columns)}
	var err error
	switch {
	case whole:
		out.tasks, err = out.scan.PlanFiles(ctx)
	case s.Summary == nil:
		err = errors.New("the snapshot does not say what it does")
	case s.Summary.Operation == table.OpAppend:
		added := i.t.NewIncrementalAppendScan()
		if s.ParentSnapshotID != nil {
			added = added.FromSnapshotExclusive(*s.ParentSnapshotID)
		}
		out.tasks, err = added.ToSnapshot(s.SnapshotID).PlanFiles(ctx)
	case s.Summary.Operation == table.OpReplace: // the same rows in other files
	default:
		err = &saying{string(s.Summary.Operation), errChanges}
	}
	if err != nil {
		out.close()
		return nil, err
	}
	slices.SortFunc(out.tasks, func(a, b table.FileScanTask) int {
		n := func(x *int64) int64 {
			if x == nil {
				return 0
			}
			return *x
		}
		return cmp.Or(cmp.Compare(n(a.DataSequenceNumber), n(b.DataSequenceNumber)), cmp.Compare(a.File.FilePath(), b.File.FilePath()), cmp.Compare(a.Start, b.Start))
	})
	return out, nil
}

func (i icebergLook) browse(ctx context.Context, out *contract.Browsed, most int) error {
	t := i.t
	fact(out, "lies at", t.Location())
	fact(out, "format", fmt.Sprintf("Iceberg, version %d, Parquet", t.Metadata().Version()))
	spec := t.Spec()
	var cut []string
	for _, f := range spec.Fields() {
		cut = append(cut, f.Name)
	}
	fact(out, "partitioned by", strings.Join(cut, ", "))
	now := t.CurrentSnapshot()
	if now != nil && now.Summary != nil {
		for _, p := range [][2]string{{"rows in files", "total-records"}, {"files", "total-data-files"}, {"bytes", "total-files-size"}, {"files of deletes", "total-delete-files"}} {
			fact(out, p[0], now.Summary.Properties[p[1]])
		}
	}
	all := t.Metadata().Snapshots()
	fact(out, "snapshots", strconv.Itoa(len(all)))
	for _, s := range slices.Backward(all) {
		if len(out.Snapshots) == most {
			out.More = true
			break
		}
		m := contract.Snapshot{ID: i.named(s.SnapshotID), At: time.UnixMilli(s.TimestampMs).UTC()}
		if s.Summary != nil {
			p := s.Summary.Properties
			m.What, m.Added, m.Writer = string(s.Summary.Operation), p["added-records"], p[writerSummary]
			m.Deletes = cmp.Or(p["deleted-records"], p["added-equality-deletes"])
		}
		out.Snapshots = append(out.Snapshots, m)
	}
	if now == nil {
		return nil
	}
	tasks, err := t.Scan().PlanFiles(ctx)
	if err != nil {
		return err
	}
	var parts partitions
	for _, task := range tasks {
		name := ""
		for _, spec := range t.Metadata().PartitionSpecs() { // it may have changed
			if spec.ID() == int(task.File.SpecID()) && spec.NumFields() > 0 {
				name = spec.PartitionToPath(table.GetPartitionRecord(task.File, spec.PartitionType(t.Schema())), t.Schema())
			}
		}
		parts.add(name, task.File.Count(), task.File.FileSizeBytes())
	}
	parts.to(out, most)
	return nil
}
