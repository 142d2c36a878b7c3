package text

import (
	"fiume/internal/core/column"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Describe writes row i as one JSON object, for people. Columns and fields that nobody uses, and that
// have therefore not been read, are left out.
func Describe(fields []types.Field, b *column.Batch, i int) string {
	kept, cols := used(fields, b.Cols)
	if len(kept) == 0 {
		return "{}"
	}
	return string(format.NewJSONEncoder(kept).Append(nil, &column.Batch{Cols: cols}, i))
}

// used gives the fields that have been read, with their vectors.
func used(fields []types.Field, cols []*column.Vector) (kept []types.Field, vecs []*column.Vector) {
	for k, f := range fields {
		if k >= len(cols) || cols[k] == nil {
			continue
		}
		v := cols[k]
		if v.Type.Kind == types.Row {
			inner := &column.Vector{Type: types.Type{Kind: types.Row}, Nulls: v.Nulls}
			inner.Type.Fields, inner.Kids = used(v.Type.Fields, v.Kids)
			if len(inner.Kids) == 0 {
				continue
			}
			v, f.Type = inner, inner.Type
		}
		kept, vecs = append(kept, f), append(vecs, v)
	}
	return kept, vecs
}
