package plan

import (
	"fmt"
	"strings"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// PresentNumber is the column by which rows that stand are told apart. Queries do not see it.
const PresentNumber = "_row that stands"

// stands says whether the table has the rows of a job's step as they stand.
func (t *Table) stands() bool { return t.shown[0].Name == PresentNumber }

// Present adds the rows of a job's step as they stand, as a table that queries of this catalogue read as job.step. Whoever opens the plan gives its rows as messages, JSON
// with a number each.
func (c *Catalog) Present(name string, fields []types.Field) error {
	columns := []string{sql.Quoted(PresentNumber) + " BIGINT PRIMARY KEY"}
	for _, f := range fields {
		columns = append(columns, sql.Quoted(f.Name)+" "+sql.TypeText(f.Type)+sensitiveText(f))
	}
	text := fmt.Sprintf("DECLARE TABLE %s (%s) FROM TOPIC 'present' (FORMAT json);", sql.Quoted(name), strings.Join(columns, ", "))
	script, err := sql.Parse("present", text, nil)
	if err != nil {
		return err
	}
	errs := &sql.Errors{File: "present", Text: text}
	c.Define(script.Statements[0], errs)
	return errs.Err()
}

func sensitiveText(f types.Field) string {
	if f.Sensitive {
		return " SENSITIVE"
	}
	return ""
}
