package lake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/catalog"
	"github.com/apache/iceberg-go/table"
)

// shape is how the rows of an output lie in a table.
type shape struct {
	fields  []types.Field
	key     []int // columns; nil: rows are added
	cut     []cut // how a table that is made is partitioned
	sort    []int
	evolve  bool
	exact   bool // the key is that of the step: a replacement has the key of what it replaces
	address string
}

// cut is a column that files are told apart by, and how.
type cut struct {
	column int
	by     iceberg.Transform
	name   string // of the partition's field
}

// shapeOf reads the options of a sink.
func shapeOf(out *plan.Op) (*shape, error) {
	o := out.Sink.Options
	s := &shape{fields: out.Fields, evolve: o.Flag("evolve", false), address: out.Sink.Address}
	columns := func(option string) (list []int, err error) {
		for _, n := range o.Names(option) {
			i := slices.IndexFunc(out.Fields, func(f types.Field) bool { return f.Name == n })
			if i < 0 {
				return nil, fmt.Errorf("%s names %q, which the rows do not have: they have %s", strings.ToUpper(option), n, names(out.Fields))
			}
			list = append(list, i)
		}
		return list, nil
	}
	var err error
	if s.key, err = columns("key"); err != nil {
		return nil, err
	}
	for _, k := range s.key {
		switch f := out.Fields[k]; {
		case f.Type.Kind == types.Double:
			return nil, fmt.Errorf("KEY names %q, which is %s: rows are found again by values that are exact; cast it to DECIMAL", f.Name, f.Type)
		case f.Type.IsNested():
			return nil, fmt.Errorf("KEY names %q, which is %s: a key is of plain values", f.Name, f.Type)
		}
	}
	by, err := columns("partition by")
	if err != nil {
		return nil, err
	}
	each, timed := strings.ToLower(o.Word("each", "day")), false
	for _, i := range by {
		f := out.Fields[i]
		switch f.Type.Kind {
		case types.Timestamp:
			timed = true
			s.cut = append(s.cut, cut{i, map[string]iceberg.Transform{"hour": iceberg.HourTransform{}, "day": iceberg.DayTransform{}, "month": iceberg.MonthTransform{}, "year": iceberg.YearTransform{}}[each], f.Name + "_" + each})
		case types.Varchar, types.Boolean, types.Int, types.BigInt, types.Decimal, types.Date:
			s.cut = append(s.cut, cut{i, iceberg.IdentityTransform{}, f.Name})
		default:
			return nil, fmt.Errorf("PARTITION BY takes texts, whole numbers, decimals, truth, dates and times, and %s is %s", f.Name, f.Type)
		}
	}
	if _, ok := o["each"]; ok && !timed {
		return nil, fmt.Errorf("EACH %s is for a column of time in PARTITION BY", each)
	}
	if by, err = columns("bucket by"); err != nil {
		return nil, err
	}
	if _, ok := o["buckets"]; ok && by == nil {
		return nil, errors.New("BUCKETS is for columns in BUCKET BY")
	}
	for _, i := range by {
		f := out.Fields[i]
		if !slices.Contains([]types.Kind{types.Varchar, types.Int, types.BigInt, types.Decimal, types.Date, types.Timestamp}, f.Type.Kind) {
			return nil, fmt.Errorf("BUCKET BY takes texts, whole numbers, decimals, dates and times, and %s is %s", f.Name, f.Type)
		}
		s.cut = append(s.cut, cut{i, iceberg.BucketTransform{NumBuckets: o.Number("buckets", 16)}, f.Name + "_bucket"})
	}
	for _, c := range s.cut {
		if s.key != nil && !slices.Contains(s.key, c.column) {
			return nil, fmt.Errorf("with KEY, the columns of PARTITION BY and BUCKET BY must be among the key's, or a row that goes to another part would stay in the one before: add %s to KEY, or leave it out", out.Fields[c.column].Name)
		}
	}
	if s.sort, err = columns("sort by"); err != nil {
		return nil, err
	}
	for _, i := range s.sort {
		if f := out.Fields[i]; f.Type.IsNested() {
			return nil, fmt.Errorf("SORT BY names %q, which is %s", f.Name, f.Type)
		}
	}
	s.exact = out.Changes && !out.Full
	for _, k := range s.key {
		s.exact = s.exact && slices.Contains(out.Keys, k)
	}
	seen := map[string]string{}
	for _, f := range out.Fields {
		low := strings.ToLower(f.Name)
		if seen[low] != "" {
			return nil, fmt.Errorf("the columns %s and %s have one name in an open table, where letters are not told apart", seen[low], f.Name)
		}
		seen[low] = f.Name
	}
	return s, nil
}

func names(fields []types.Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.Name)
	}
	return strings.Join(out, ", ")
}

// tableColumns gives the columns of a table, with the numbers of the format in their metadata.
func tableColumns(t *table.Table) (*arrow.Schema, error) {
	return table.SchemaToArrowSchema(t.Schema(), nil, true, false)
}

// writable says whether values of a column can be written as a type.
func writable(t types.Type, as arrow.DataType) bool {
	is := format.ArrowSchema([]types.Field{{Name: "x", Type: t}}).Field(0).Type
	if arrow.TypeEqual(is, as) || is.ID() == as.ID() && t.IsNested() && alike(is, as) {
		return true
	}
	switch as := as.(type) {
	case *arrow.Int64Type:
		return t.Kind == types.Int
	case *arrow.Decimal128Type:
		return t.Kind == types.Decimal && as.Scale == int32(t.Scale) && as.Precision >= int32(t.Precision)
	case *arrow.TimestampType:
		return t.Kind == types.Timestamp && as.Unit == arrow.Microsecond
	}
	return false
}

// alike compares nested types but for the names of what is in lists and maps, and for what may be NULL.
func alike(a, b arrow.DataType) bool {
	x, ok := a.(arrow.NestedType)
	y, ok2 := b.(arrow.NestedType)
	if !ok || !ok2 {
		return arrow.TypeEqual(a, b)
	}
	if a.ID() != b.ID() || len(x.Fields()) != len(y.Fields()) {
		return false
	}
	for i, f := range x.Fields() {
		if a.ID() == arrow.STRUCT && f.Name != y.Fields()[i].Name || !alike(f.Type, y.Fields()[i].Type) {
			return false
		}
	}
	return true
}

// fitsColumns says whether a table with these columns takes the rows.
func (s *shape) fitsColumns(cols *arrow.Schema) error {
	var missing []string
	taken := map[string]bool{}
	for _, f := range s.fields {
		at := slices.IndexFunc(cols.Fields(), func(c arrow.Field) bool { return strings.EqualFold(c.Name, f.Name) })
		if at < 0 {
			missing = append(missing, f.Name)
			continue
		}
		c := cols.Field(at)
		taken[c.Name] = true
		if !writable(f.Type, c.Type) {
			is := format.ArrowColumns(arrow.NewSchema([]arrow.Field{c}, nil))[0].Type
			return fmt.Errorf("the column %s is %s, and the table's is %s: write CAST(%s AS %s)", f.Name, f.Type, is, f.Name, is)
		}
		if !c.Nullable && !f.NotNull {
			return fmt.Errorf("the column %s of the table takes no NULL, and the rows may have one: write COALESCE(%s, …)", c.Name, f.Name)
		}
	}
	var have []string
	for _, c := range cols.Fields() {
		have = append(have, c.Name)
		if !c.Nullable && !taken[c.Name] {
			return fmt.Errorf("the table wants a value for %s in every row, and the rows have no such column", c.Name)
		}
	}
	if len(missing) > 0 && !s.evolve {
		return fmt.Errorf("the table has no column %s (it has: %s); with (EVOLVE true) it is added", strings.Join(missing, ", "), strings.Join(have, ", "))
	}
	return nil
}

// fits says whether a table takes the rows.
func (s *shape) fits(t *table.Table) error {
	cols, err := tableColumns(t)
	if err != nil {
		return err
	}
	if v := t.Metadata().Version(); v < 2 && s.key != nil {
		return fmt.Errorf("the table %s is of version %d of its format, which cannot take rows away; write without KEY, or have it upgraded to version 2", s.address, v)
	}
	if err := s.fitsColumns(cols); err != nil {
		return err
	}
	if s.key != nil {
		spec := t.Spec()
		for _, f := range spec.Fields() {
			for _, id := range f.SourceIDs {
				name, _ := t.Schema().FindColumnName(id)
				if !slices.ContainsFunc(s.key, func(k int) bool { return strings.EqualFold(s.fields[k].Name, name) }) {
					return fmt.Errorf("the table is partitioned by %s, which is not in the KEY: a row that goes to another part would stay in the one before", name)
				}
			}
		}
	}
	return nil
}

// Properties of tables that are made here. Rows are taken away by files of deletes: the library's other way of deleting brings rows back that were
// taken away before (version 0.7.0).
var properties = iceberg.Properties{
	"format-version":                          "2",
	table.WriteDeleteModeKey:                  "merge-on-read",
	"write.update.mode":                       "merge-on-read",
	"write.merge.mode":                        "merge-on-read",
	table.MetadataDeleteAfterCommitEnabledKey: "true",
	table.MetadataPreviousVersionsMaxKey:      "50",
	table.WriteTargetFileSizeBytesKey:         "134217728",
	table.ManifestMergeEnabledKey:             "true",
	"write.parquet.compression-codec":         "zstd",
}

// keyProperty tells the columns of the key of a table.
const keyProperty = "fiume.key"

// table opens the table of a sink; it is made where it is not there, and gets the columns that it has not where that is wanted.
func (l *lake) table(ctx context.Context, s *shape) (*table.Table, error) {
	t, err := l.load(ctx, s.address)
	for try := 0; errors.Is(err, errNoTable) && try < 20; try++ { // somebody else may be about to make it
		if try > 0 {
			time.Sleep(100 * time.Millisecond)
		}
		if err = l.make(ctx, s); err == nil {
			t, err = l.load(ctx, s.address)
		}
	}
	if err == nil {
		err = s.fits(t)
	}
	if err != nil {
		return nil, err
	}
	for range 5 {
		var added []types.Field
		for _, f := range s.fields {
			if _, there := t.Schema().FindFieldByNameCaseInsensitive(f.Name); !there {
				added = append(added, f)
			}
		}
		if len(added) == 0 {
			return t, nil
		}
		shape, err := table.ArrowSchemaToIcebergWithFreshIDs(format.ArrowSchema(added), false)
		if err != nil {
			return nil, err
		}
		tx := t.NewTransaction()
		u := tx.UpdateSchema(true, false)
		for _, f := range shape.Fields() {
			u.AddColumn([]string{f.Name}, f.Type, "", false, nil)
		}
		if err = u.Commit(); err == nil {
			_, err = tx.Commit(ctx)
		}
		if err != nil && !l.passing(err) {
			return nil, l.said(err)
		}
		if t, err = l.load(ctx, s.address); err != nil { // somebody else may have been before us
			return nil, err
		}
	}
	return nil, errMet
}

// make makes the table, with its namespace.
func (l *lake) make(ctx context.Context, s *shape) error {
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	ident, err := identOf(s.address)
	if err != nil {
		return err
	}
	schema, err := table.ArrowSchemaToIcebergWithFreshIDs(format.ArrowSchema(s.fields), false)
	if err != nil {
		return err
	}
	id := func(column int) int {
		f, _ := schema.FindFieldByName(s.fields[column].Name)
		return f.ID
	}
	opts := []catalog.CreateTableOpt{}
	props := iceberg.Properties{}
	for k, v := range properties {
		props[k] = v
	}
	if s.key != nil {
		var key []string
		for _, k := range s.key {
			key = append(key, s.fields[k].Name)
		}
		props[keyProperty] = strings.Join(key, ",")
	}
	opts = append(opts, catalog.WithProperties(props))
	if s.cut != nil {
		var fields []iceberg.PartitionField
		for i, c := range s.cut {
			fields = append(fields, iceberg.PartitionField{SourceIDs: []int{id(c.column)}, FieldID: 1000 + i, Name: c.name, Transform: c.by})
		}
		spec := iceberg.NewPartitionSpec(fields...)
		opts = append(opts, catalog.WithPartitionSpec(&spec))
	}
	if s.sort != nil {
		var fields []table.SortField
		for _, i := range s.sort {
			fields = append(fields, table.SortField{SourceIDs: []int{id(i)}, Transform: iceberg.IdentityTransform{}, Direction: table.SortASC, NullOrder: table.NullsFirst})
		}
		order, err := table.NewSortOrder(1, fields)
		if err != nil {
			return err
		}
		opts = append(opts, catalog.WithSortOrder(order))
	}
	if l.dir != "" {
		if err := mkdir(l.dir); err != nil {
			return fmt.Errorf("endpoint %s: %w", l.e.Name, err)
		}
	}
	space := catalog.NamespaceFromIdent(ident)
	for i := range space {
		if err := l.cat.CreateNamespace(ctx, space[:i+1], nil); err != nil && !errors.Is(err, catalog.ErrNamespaceAlreadyExists) {
			return l.said(fmt.Errorf("the namespace %s cannot be made: %w", strings.Join(space[:i+1], "."), err))
		}
	}
	if _, err = l.cat.CreateTable(ctx, ident, schema, opts...); err != nil && !errors.Is(err, catalog.ErrTableAlreadyExists) {
		return l.said(fmt.Errorf("the table %s cannot be made: %w", s.address, err))
	}
	return nil
}

var errMet = errors.New("others wrote to the table at the same time, again and again")
