package text

import (
	"fiume/internal/core/column"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Describe writes row i as one JSON object, for people. Columns nobody uses are left out.
func Describe(fields []types.Field, b *column.Batch, i int) string {
	var kept []types.Field
	var cols []*column.Vector
	for k, f := range fields {
		if k < len(b.Cols) && b.Cols[k] != nil {
			kept, cols = append(kept, f), append(cols, b.Cols[k])
		}
	}
	if len(kept) == 0 {
		return "{}"
	}
	return string(format.NewJSONEncoder(kept).Append(nil, &column.Batch{Cols: cols}, i))
}
