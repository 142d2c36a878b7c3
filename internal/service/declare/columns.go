package declare

import (
	"cmp"
	"strings"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// Listed says whether a declaration lists its columns.
func Listed(st sql.Statement) bool {
	switch d := st.(type) {
	case *sql.DeclareStream:
		return d.Columns != nil
	case *sql.DeclareTable:
		return d.Columns != nil
	}
	return true
}

// sameButColumns says whether a declaration that does not list its columns is, but for them, what is declared. What a
// first look found stays then.
func sameButColumns(st sql.Statement, src string) bool {
	script, err := sql.Parse("", src, nil)
	if err != nil {
		return false
	}
	switch d := st.(type) {
	case *sql.DeclareStream:
		if old, ok := script.Statements[0].(*sql.DeclareStream); ok {
			old.Columns, old.Sampled = nil, d.Sampled
			return !d.Replace && sql.Print(old) == sql.Print(d)
		}
	case *sql.DeclareTable:
		if old, ok := script.Statements[0].(*sql.DeclareTable); ok {
			old.Columns, old.Key, old.Sampled = nil, nil, d.Sampled
			return !d.Replace && sql.Print(old) == sql.Print(d)
		}
	}
	return false
}

// foundColumns says which columns were found.
func foundColumns(s *plan.Stream) string {
	var out []string
	for _, f := range s.InValues() {
		out = append(out, sql.Quoted(f.Name)+" "+f.Type.String())
	}
	return "columns found: " + cmp.Or(strings.Join(out, ", "), "none")
}
