// Package types holds the SQL types of Fiume and single values of them.
package types

import "strings"

// Kind names a type without its parameters.
type Kind uint8

const (
	Unknown   Kind = iota
	Null           // the type of a bare NULL; casts to anything
	Boolean        // true or false
	Int            // 32-bit whole number, held in 64 bits
	BigInt         // 64-bit whole number
	Double         // IEEE 754 binary64
	Varchar        // UTF-8 text
	Timestamp      // an instant, microseconds since 1970-01-01 UTC
	Date           // days since 1970-01-01
	Interval       // a length of time in microseconds
	Row            // named fields
)

var kindNames = map[Kind]string{
	Unknown: "UNKNOWN", Null: "NULL", Boolean: "BOOLEAN", Int: "INT", BigInt: "BIGINT", Double: "DOUBLE",
	Varchar: "VARCHAR", Timestamp: "TIMESTAMP", Date: "DATE", Interval: "INTERVAL", Row: "ROW",
}

// Type is an SQL type. Fields is set for ROW only.
type Type struct {
	Kind   Kind
	Fields []Field
}

// Field is one named part of a ROW, or one column of a step.
type Field struct {
	Name    string
	Type    Type
	NotNull bool
}

// Of makes a type that needs no parameters.
func Of(k Kind) Type { return Type{Kind: k} }

func (t Type) String() string {
	if t.Kind != Row {
		return kindNames[t.Kind]
	}
	var b strings.Builder
	b.WriteString("ROW(")
	for i, f := range t.Fields {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(f.Name + " " + f.Type.String())
	}
	b.WriteString(")")
	return b.String()
}

// Equal says whether two types are the same, field names included.
func (t Type) Equal(u Type) bool {
	if t.Kind != u.Kind || len(t.Fields) != len(u.Fields) {
		return false
	}
	for i := range t.Fields {
		if t.Fields[i].Name != u.Fields[i].Name || !t.Fields[i].Type.Equal(u.Fields[i].Type) {
			return false
		}
	}
	return true
}

// IsNumber says whether arithmetic is defined on the type.
func (t Type) IsNumber() bool { return t.Kind == Int || t.Kind == BigInt || t.Kind == Double }

// IsWhole says whether the type is a whole number.
func (t Type) IsWhole() bool { return t.Kind == Int || t.Kind == BigInt }

// Words says whether values of the type are held as 64-bit integers.
func (t Type) Words() bool {
	switch t.Kind {
	case Int, BigInt, Timestamp, Date, Interval:
		return true
	}
	return false
}

// FieldIndex finds a field by name, or gives -1.
func (t Type) FieldIndex(name string) int {
	for i, f := range t.Fields {
		if f.Name == name {
			return i
		}
	}
	return -1
}

// Value is one value of any type. The zero Value is NULL.
type Value struct {
	Kind Kind
	I    int64   // BOOLEAN (0, 1), INT, BIGINT, TIMESTAMP, DATE, INTERVAL
	F    float64 // DOUBLE
	S    string  // VARCHAR
	Row  []Value // ROW
}

// IsNull says whether the value is NULL.
func (v Value) IsNull() bool { return v.Kind == Unknown || v.Kind == Null }
