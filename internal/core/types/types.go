// Package types holds the SQL types of Fiume and single values of them.
package types

import (
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
)

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
	Decimal        // exact number of Precision digits, Scale of them behind the point
	Varbinary      // bytes
	Time           // a time of day, microseconds since midnight
	Array          // elements of the type Fields[0]
	Map            // keys of the type Fields[0] to values of the type Fields[1]
	JSON           // a document of undeclared shape, as its text
)

var kindNames = map[Kind]string{
	Unknown: "UNKNOWN", Null: "NULL", Boolean: "BOOLEAN", Int: "INT", BigInt: "BIGINT", Double: "DOUBLE",
	Varchar: "VARCHAR", Timestamp: "TIMESTAMP", Date: "DATE", Interval: "INTERVAL", Row: "ROW",
	Decimal: "DECIMAL", Varbinary: "VARBINARY", Time: "TIME", Array: "ARRAY", Map: "MAP", JSON: "JSON",
}

func (k Kind) String() string { return kindNames[k] }

// Type is an SQL type.
type Type struct {
	Kind      Kind
	Precision uint8   // DECIMAL: digits, 1 to 38
	Scale     uint8   // DECIMAL: those behind the point, at most Precision
	Fields    []Field // ROW: its fields; ARRAY: its element; MAP: its key and its value
}

// Field is one named part of a ROW, or one column of a step.
type Field struct {
	Name      string
	Type      Type
	NotNull   bool
	Sensitive bool // its values are shown to those alone who may see them
}

// Of makes a type that needs no parameters.
func Of(k Kind) Type { return Type{Kind: k} }

// DecimalOf makes DECIMAL(precision, scale).
func DecimalOf(precision, scale int) Type {
	return Type{Kind: Decimal, Precision: uint8(precision), Scale: uint8(scale)}
}

// ArrayOf makes ARRAY(element).
func ArrayOf(element Type) Type { return Type{Kind: Array, Fields: []Field{{Type: element}}} }

// MapOf makes MAP(key, value).
func MapOf(key, value Type) Type { return Type{Kind: Map, Fields: []Field{{Type: key}, {Type: value}}} }

// Elem is the type of an ARRAY's elements or of a MAP's values.
func (t Type) Elem() Type { return t.Fields[len(t.Fields)-1].Type }

func (t Type) String() string {
	switch t.Kind {
	case Decimal:
		return "DECIMAL(" + strconv.Itoa(int(t.Precision)) + ", " + strconv.Itoa(int(t.Scale)) + ")"
	case Row, Array, Map:
	default:
		return kindNames[t.Kind]
	}
	var b strings.Builder
	b.WriteString(kindNames[t.Kind] + "(")
	for i, f := range t.Fields {
		if i > 0 {
			b.WriteString(", ")
		}
		if t.Kind == Row {
			b.WriteString(f.Name + " ")
		}
		b.WriteString(f.Type.String())
	}
	b.WriteString(")")
	return b.String()
}

// Equal says whether two types are the same, field names included.
func (t Type) Equal(u Type) bool {
	if t.Kind != u.Kind || t.Precision != u.Precision || t.Scale != u.Scale || len(t.Fields) != len(u.Fields) {
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
func (t Type) IsNumber() bool {
	return t.Kind == Int || t.Kind == BigInt || t.Kind == Double || t.Kind == Decimal
}

// IsWhole says whether the type is a whole number.
func (t Type) IsWhole() bool { return t.Kind == Int || t.Kind == BigInt }

// Words says whether values of the type are held as 64-bit integers.
func (t Type) Words() bool {
	switch t.Kind {
	case Int, BigInt, Timestamp, Date, Interval, Time:
		return true
	}
	return false
}

// IsText says whether values of the type are held as bytes: VARCHAR, VARBINARY and JSON.
func (t Type) IsText() bool { return t.Kind == Varchar || t.Kind == Varbinary || t.Kind == JSON }

// IsNested says whether values of the type have parts: ROW, ARRAY and MAP.
func (t Type) IsNested() bool { return t.Kind == Row || t.Kind == Array || t.Kind == Map }

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
	Kind  Kind
	Scale uint8   // DECIMAL
	I     int64   // BOOLEAN (0, 1), INT, BIGINT, TIMESTAMP, DATE, INTERVAL, TIME; DECIMAL: the low 64 bits
	Hi    int64   // DECIMAL: the high 64 bits
	F     float64 // DOUBLE
	S     string  // VARCHAR, VARBINARY, JSON
	Row   []Value // ROW: the fields; ARRAY: the elements; MAP: key, value, key, value, …
}

// IsNull says whether the value is NULL.
func (v Value) IsNull() bool { return v.Kind == Unknown || v.Kind == Null }

// Num gives the digits of a DECIMAL as a whole number, without its point.
func (v Value) Num() Num { return decimal128.New(v.Hi, uint64(v.I)) }

// DecimalValue makes a DECIMAL of its digits and the number of them behind the point.
func DecimalValue(n Num, scale uint8) Value {
	return Value{Kind: Decimal, Scale: scale, I: int64(n.LowBits()), Hi: n.HighBits()}
}
