package plan

import (
	"fmt"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
)

// FunctionColumns are the columns of what SHOW FUNCTIONS gives.
var FunctionColumns = []string{"function", "kind", "signature", "gives"}

// AllFunctions gives the functions of the language and those that users have made, the latter first.
func (c *Catalog) AllFunctions() (out []*eval.Function) {
	for _, n := range keys(c.Functions) {
		out = append(out, c.Functions[n].Entry())
	}
	return append(out, eval.Functions()...)
}

// FunctionRows is what SHOW FUNCTIONS gives.
func (c *Catalog) FunctionRows() [][]string {
	out := [][]string{}
	for _, f := range c.AllFunctions() {
		out = append(out, []string{f.Name, string(f.Kind), f.Signatures[0], f.Doc})
	}
	return out
}

// Function finds a function by its name; the error suggests another.
func (c *Catalog) Function(name string) (*eval.Function, error) {
	var names []string
	for _, f := range c.AllFunctions() {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	hint := ""
	if s := sql.DidYouMean(name, names); s != "" {
		hint = "; " + s
	}
	return nil, fmt.Errorf("no function is called %s%s", strings.ToUpper(name), hint)
}

// FunctionEntry is a function as programs read it: for completion, and --output json.
type FunctionEntry struct {
	Name       string   `json:"name"`
	Kind       string   `json:"kind" doc:"scalar, aggregate or over"`
	Group      string   `json:"group" doc:"the chapter of the manual"`
	Signatures []string `json:"signatures"`
	Gives      string   `json:"gives"`
	Nulls      string   `json:"nulls" doc:"what NULL arguments do"`
	Example    string   `json:"example,omitempty"`
	Result     string   `json:"result,omitempty" doc:"of the example, as text"`
}

// Entry makes the entry of a function.
func Entry(f *eval.Function) FunctionEntry {
	return FunctionEntry{f.Name, string(f.Kind), f.Group, f.Signatures, f.Doc, f.Nulls, f.Example, f.Result}
}

// DescribeFunction is what DESCRIBE FUNCTION gives.
func (c *Catalog) DescribeFunction(name string) (string, error) {
	f, err := c.Function(name)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, s := range f.Signatures {
		fmt.Fprintln(&b, s)
	}
	fmt.Fprintf(&b, "\n%s\n%s: %s\n", f.Doc, "NULL", f.Nulls)
	if f.Example != "" {
		result := f.Result
		if result == "" {
			result = "NULL"
		}
		fmt.Fprintf(&b, "\nExample: %s\nGives:   %s\n", f.Example, result)
	}
	return b.String(), nil
}
