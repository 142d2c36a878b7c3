package plan

import (
	"strings"

	"fiume/internal/core/sql"
)

// Sampled is a place whose data tells the columns of a stream or table.
type Sampled struct {
	Place   string
	Address string
	Via     *Endpoint
	Schemas *Endpoint // has the schemas of the messages, or nil
	Options Options
	Table   bool
}

// sample puts the columns into a declaration that does not list them. It gives false where that failed, and where
// nothing is looked at.
func (c *Catalog) sample(st sql.Statement, errs *sql.Errors) bool {
	var in Sampled
	var from sql.Place
	var name sql.Name
	told := false
	stream, _ := st.(*sql.DeclareStream)
	table, _ := st.(*sql.DeclareTable)
	if stream != nil {
		name, from, told = stream.Name, stream.From, stream.Sampled
	} else {
		name, from, told = table.Name, table.From, table.Sampled
		in.Table = true
	}
	before, as := len(errs.List), roleStream
	if in.Table {
		as = roleTable
	}
	in.Place, in.Address = from.Kind.Text, from.Address.Value
	in.Via, in.Options = c.place(from, as, errs)
	in.Schemas = c.schemas(in.Options, errs)
	_, schema := in.Options["schema"]
	schema = schema || in.Schemas != nil // it tells the columns
	const list = "list them like (chip VARCHAR NOT NULL, read_at TIMESTAMP)"
	switch place := strings.ToUpper(in.Place); {
	case len(errs.List) > before:
	case !told && !c.Places[in.Place].Columns && !schema:
		errs.Add(sql.WrongPlace, name.Span, list+", or write COLUMNS SAMPLED", "%s does not tell the columns of %q", place, name.Text)
	case in.Table && !c.Places[in.Place].Columns: // a schema tells none, either
		errs.Add(sql.WrongPlace, name.Span, "list the columns, with PRIMARY KEY behind one", "a sample of %s does not tell the key of the table %q", place, name.Text)
	case in.Options.Word("delimiter", ",") != "," || in.Options.Word("quote", `"`) != `"` || in.Options.Word("null word", "") != "":
		errs.Add(sql.WrongPlace, name.Span, list, "columns are sampled of CSV with commas, double quotes and no NULL WORD alone")
	case c.Sample != nil:
		columns, key, err := c.Sample(in)
		if err != nil {
			errs.Add(sql.NoValue, from.Address.Span, list, "the columns of %q cannot be found: %s", name.Text, err)
			return false
		}
		for i := range columns {
			columns[i].Span, columns[i].Name.Span = name.Span, name.Span
		}
		if stream != nil {
			stream.Columns, stream.Sampled = columns, false
		} else {
			table.Columns, table.Key, table.Sampled = columns, key, false
		}
		return true
	}
	return false
}
