package delta

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"

	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// A checkpoint is a file of Parquet with a row for each action that still counts. It may be in parts.

// checkpoint is one that was found.
type checkpoint struct {
	version int64
	names   []string
}

// lastCheckpoint is what the file _last_checkpoint says.
type lastCheckpoint struct {
	Version int64 `json:"version"`
	Size    int64 `json:"size"`
	Parts   int   `json:"parts,omitempty"`
}

// checkpointBefore finds the last checkpoint that is whole, up to a version; nil: there is none.
func (t *Table) checkpointBefore(version int64) (*checkpoint, error) {
	from := ""
	b, err := t.files.ReadFile(dir(t.Location) + "_last_checkpoint")
	switch {
	case err == nil:
		var last lastCheckpoint
		if json.Unmarshal(b, &last) == nil && last.Version <= version { // it is but a hint, and may be cut short
			from = fmt.Sprintf("%020d", last.Version)
		}
	case errors.Is(err, fs.ErrNotExist):
		if version == Newest { // most often there are no others
			if _, err := t.files.ReadFile(dir(t.Location) + entryName(0)); err == nil {
				return nil, nil
			} else if !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
	default:
		return nil, err
	}
	names, err := t.files.Names(dir(t.Location), from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoTable
	}
	if err != nil {
		return nil, err
	}
	parts := map[[2]int64][]string{} // by version and how many there are
	var found *checkpoint
	for _, n := range names {
		rest, ok := strings.CutSuffix(n, ".parquet")
		if !ok || len(rest) < 31 || rest[20:31] != ".checkpoint" {
			continue
		}
		var v, part, of int64
		if _, err := fmt.Sscanf(rest[:20], "%020d", &v); err != nil || v > version {
			continue
		}
		if rest = rest[31:]; rest == "" {
			of = 1
		} else if _, err := fmt.Sscanf(rest, ".%010d.%010d", &part, &of); err != nil || len(rest) != 22 {
			continue
		}
		k := [2]int64{v, of}
		parts[k] = append(parts[k], n)
		if int64(len(parts[k])) == of && (found == nil || v >= found.version) {
			found = &checkpoint{v, parts[k]}
		}
	}
	return found, nil
}

// listed is a map as rows of Arrow say it in JSON.
type listed map[string]*string

// MarshalJSON implements json.Marshaler.
func (l listed) MarshalJSON() ([]byte, error) {
	type pair struct {
		Key   string  `json:"key"`
		Value *string `json:"value"`
	}
	out := []pair{}
	for _, k := range slices.Sorted(maps.Keys(l)) {
		out = append(out, pair{k, l[k]})
	}
	return json.Marshal(out)
}

// UnmarshalJSON implements json.Unmarshaler.
func (l *listed) UnmarshalJSON(b []byte) error {
	var pairs []struct {
		Key   string  `json:"key"`
		Value *string `json:"value"`
	}
	if err := json.Unmarshal(b, &pairs); err != nil {
		return err
	}
	*l = listed{}
	for _, p := range pairs {
		(*l)[p.Key] = p.Value
	}
	return nil
}

func (l listed) plain() map[string]string {
	out := map[string]string{}
	for k, v := range l {
		if v != nil {
			out[k] = *v
		}
	}
	return out
}

func listedOf(m map[string]string) listed {
	out := listed{}
	for k, v := range m {
		out[k] = &v
	}
	return out
}

// The actions as rows of a checkpoint say them.
type (
	addRow struct {
		*Add
		PartitionValues listed `json:"partitionValues"`
	}
	formatRow struct {
		Provider string `json:"provider"`
		Options  listed `json:"options"`
	}
	metadataRow struct {
		*Metadata
		Format        formatRow `json:"format"`
		Configuration listed    `json:"configuration"`
	}
	row struct {
		Protocol *Protocol    `json:"protocol"`
		Metadata *metadataRow `json:"metaData"`
		Writer   *Writer      `json:"txn"`
		Add      *addRow      `json:"add"`
		Remove   *Remove      `json:"remove"`
	}
)

// readCheckpoint takes the table from a checkpoint.
func (t *Table) readCheckpoint(cp *checkpoint) error {
	for _, name := range cp.names {
		b, err := t.files.ReadFile(dir(t.Location) + name)
		if err == nil {
			err = t.readPart(b)
		}
		if err != nil {
			return fmt.Errorf("the checkpoint %s of the table at %s: %w", name, t.Location, err)
		}
	}
	t.Version = cp.version
	return nil
}

// checkpointColumns are read of one; others may have more.
var checkpointColumns = []string{"protocol", "metaData", "txn", "add.path", "add.partitionValues", "add.size", "add.modificationTime", "add.dataChange", "add.stats", "add.deletionVector",
	"remove.path", "remove.deletionTimestamp", "remove.dataChange"}

func (t *Table) readPart(b []byte) error {
	return format.EachParquet(bytes.NewReader(b), int64(len(b)), checkpointColumns, 1<<14, func(rec arrow.RecordBatch) error {
		for r := range int(rec.NumRows()) {
			var line bytes.Buffer
			line.WriteByte('{')
			for c, f := range rec.Schema().Fields() {
				if rec.Column(c).IsNull(r) {
					continue
				}
				v, err := json.Marshal(rec.Column(c).GetOneForMarshal(r))
				if err != nil {
					return err
				}
				if line.Len() > 1 {
					line.WriteByte(',')
				}
				fmt.Fprintf(&line, "%q:%s", f.Name, v)
			}
			line.WriteByte('}')
			var x row
			if err := json.Unmarshal(line.Bytes(), &x); err != nil {
				return err
			}
			e := Entry{Protocol: x.Protocol}
			if x.Metadata != nil && x.Metadata.Metadata != nil {
				x.Metadata.Metadata.Configuration = x.Metadata.Configuration.plain()
				x.Metadata.Metadata.Format = Format{x.Metadata.Format.Provider, x.Metadata.Format.Options.plain()}
				e.Metadata = x.Metadata.Metadata
			}
			if x.Writer != nil {
				e.Writers = []Writer{*x.Writer}
			}
			if x.Add != nil && x.Add.Add != nil {
				x.Add.Add.PartitionValues = x.Add.PartitionValues
				e.Adds = []*Add{x.Add.Add}
			}
			if x.Remove != nil {
				e.Removes = []*Remove{x.Remove}
			}
			t.apply(&e)
		}
		return nil
	})
}

// checkpointSchema is that of what is written.
var checkpointSchema = func() *arrow.Schema {
	text, long, yes := arrow.BinaryTypes.String, arrow.PrimitiveTypes.Int64, arrow.FixedWidthTypes.Boolean
	f := func(name string, t arrow.DataType) arrow.Field {
		return arrow.Field{Name: name, Type: t, Nullable: true}
	}
	texts := arrow.ListOfField(arrow.Field{Name: "element", Type: text, Nullable: true})
	pairs := arrow.MapOf(text, text)
	return arrow.NewSchema([]arrow.Field{
		f("txn", arrow.StructOf(f("appId", text), f("version", long), f("lastUpdated", long))),
		f("add", arrow.StructOf(f("path", text), f("partitionValues", pairs), f("size", long), f("modificationTime", long), f("dataChange", yes), f("stats", text))),
		f("remove", arrow.StructOf(f("path", text), f("deletionTimestamp", long), f("dataChange", yes))),
		f("metaData", arrow.StructOf(f("id", text), f("name", text), f("description", text), f("format", arrow.StructOf(f("provider", text), f("options", pairs))), f("schemaString", text),
			f("partitionColumns", texts), f("configuration", pairs), f("createdTime", long))),
		f("protocol", arrow.StructOf(f("minReaderVersion", arrow.PrimitiveTypes.Int32), f("minWriterVersion", arrow.PrimitiveTypes.Int32), f("readerFeatures", texts), f("writerFeatures", texts))),
	}, nil)
}()

const (
	// checkpointEvery is after how many versions a checkpoint is written, where the table does not say.
	checkpointEvery = 10
	// goneFor is how long it is told of files that are not part of the table any more: somebody may still be reading them, and whoever removes files asks.
	goneFor = 7 * 24 * time.Hour
)

// Due says whether it is time for a checkpoint.
func (t *Table) Due() bool {
	every := int64(checkpointEvery)
	if n, err := fmt.Sscan(t.Metadata.Configuration["delta.checkpointInterval"], &every); err != nil || n != 1 || every <= 0 {
		every = checkpointEvery
	}
	return t.Version > 0 && t.Version%every == 0
}

// Checkpoint writes one of the table as it stands.
func (t *Table) Checkpoint() error {
	build := array.NewRecordBuilder(memory.DefaultAllocator, checkpointSchema)
	defer build.Release()
	rows := int64(0)
	put := func(r row) error {
		rows++
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		return build.UnmarshalJSON(b)
	}
	errs := []error{put(row{Protocol: &t.Protocol}), put(row{Metadata: &metadataRow{&t.Metadata, formatRow{cmp.Or(t.Metadata.Format.Provider, "parquet"), listedOf(t.Metadata.Format.Options)}, listedOf(t.Metadata.Configuration)}})}
	for _, id := range slices.Sorted(maps.Keys(t.Writers)) {
		w := t.Writers[id]
		errs = append(errs, put(row{Writer: &w}))
	}
	oldest := time.Now().Add(-goneFor).UnixMilli()
	for _, p := range slices.Sorted(maps.Keys(t.gone)) {
		r := *t.gone[p]
		if r.Deleted == nil || *r.Deleted < oldest {
			delete(t.gone, p)
			continue
		}
		r.DataChange = false
		errs = append(errs, put(row{Remove: &r}))
	}
	for _, a := range t.Sorted() {
		kept := *a
		kept.DataChange = false
		errs = append(errs, put(row{Add: &addRow{&kept, kept.PartitionValues}}))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	rec := build.NewRecordBatch()
	defer rec.Release()
	var out bytes.Buffer
	w, err := pqarrow.NewFileWriter(checkpointSchema, &out, parquet.NewWriterProperties(parquet.WithCompression(compress.Codecs.Snappy), parquet.WithCreatedBy(engine)), pqarrow.DefaultWriterProps())
	if err == nil {
		err = errors.Join(w.WriteBuffered(rec), w.Close())
	}
	if err != nil {
		return err
	}
	// Somebody else may write the same: what counts is that it is whole.
	if err := t.files.Put(fmt.Sprintf("%s%020d.checkpoint.parquet", dir(t.Location), t.Version), out.Bytes()); err != nil {
		return err
	}
	b, err := json.Marshal(lastCheckpoint{Version: t.Version, Size: rows})
	if err != nil {
		return err
	}
	return t.files.Put(dir(t.Location)+"_last_checkpoint", b)
}
