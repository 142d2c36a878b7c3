package format

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/types"
)

// Of a JSON Schema (draft 2020-12) what tells columns is read: types, formats, properties and which are required. Messages are read by their columns
// alone.

// jsonSchemaOf makes the JSON Schema (draft 2020-12) of rows.
func jsonSchemaOf(columns []types.Field) (*Schema, error) {
	b, err := json.Marshal(jsonSchemaObject(columns))
	return &Schema{Format: "json", Text: string(b)}, err
}

func jsonSchemaObject(columns []types.Field) map[string]any {
	props := map[string]any{}
	for _, c := range columns {
		t := jsonSchemaType(c.Type)
		if w, ok := t["type"].(string); ok {
			t["type"] = []string{w, "null"}
		}
		props[c.Name] = t
	}
	return map[string]any{"type": "object", "properties": props}
}

func jsonSchemaType(t types.Type) map[string]any {
	switch t.Kind {
	case types.Boolean:
		return map[string]any{"type": "boolean"}
	case types.Int, types.BigInt:
		return map[string]any{"type": "integer"}
	case types.Double, types.Decimal:
		return map[string]any{"type": "number"}
	case types.Timestamp:
		return map[string]any{"type": "string", "format": "date-time"}
	case types.Date:
		return map[string]any{"type": "string", "format": "date"}
	case types.Interval:
		return map[string]any{"type": "string", "format": "duration"}
	case types.Varbinary:
		return map[string]any{"type": "string", "contentEncoding": "base64"}
	case types.Row:
		return jsonSchemaObject(t.Fields)
	case types.Array:
		return map[string]any{"type": "array", "items": jsonSchemaType(t.Elem())}
	case types.Map:
		return map[string]any{"type": "object", "additionalProperties": jsonSchemaType(t.Elem())}
	case types.JSON:
		return map[string]any{}
	}
	return map[string]any{"type": "string"}
}

// jsonSchema is what of a JSON Schema tells columns.
type jsonSchema struct {
	Type       json.RawMessage `json:"type"`
	Format     string          `json:"format"`
	Encoding   string          `json:"contentEncoding"`
	Properties json.RawMessage `json:"properties"`
	Required   []string        `json:"required"`
	Items      json.RawMessage `json:"items"`
	More       json.RawMessage `json:"additionalProperties"`
}

// jsonSchemaColumns gives the columns that objects of a JSON Schema have, in its order.
func jsonSchemaColumns(text string) ([]types.Field, error) {
	t, _, err := jsonSchemaRead([]byte(text), 0)
	if err != nil {
		return nil, fmt.Errorf("the JSON Schema cannot be read: %w", err)
	}
	if t.Kind != types.Row {
		return nil, errors.New("the JSON Schema tells no properties of an object")
	}
	return t.Fields, nil
}

func jsonSchemaRead(b []byte, depth int) (t types.Type, null bool, err error) {
	document := types.Of(types.JSON)
	if len(b) == 0 || b[0] != '{' || depth > mostDepth {
		return document, true, nil
	}
	var s jsonSchema
	if err := json.Unmarshal(b, &s); err != nil {
		return t, false, err
	}
	var words []string
	if len(s.Type) > 0 && s.Type[0] == '"' {
		words = []string{strings.Trim(string(s.Type), `"`)}
	} else if len(s.Type) > 0 {
		_ = json.Unmarshal(s.Type, &words) // what is not understood is a document
	}
	if i := slices.Index(words, "null"); i >= 0 {
		words, null = slices.Delete(words, i, i+1), true
	}
	if len(words) == 0 && s.Properties != nil {
		words = []string{"object"}
	}
	if len(words) != 1 {
		return document, true, nil
	}
	switch words[0] {
	case "boolean":
		return types.Of(types.Boolean), null, nil
	case "integer":
		return types.Of(types.BigInt), null, nil
	case "number":
		return types.Of(types.Double), null, nil
	case "string":
		switch {
		case s.Format == "date-time":
			return types.Of(types.Timestamp), null, nil
		case s.Format == "date":
			return types.Of(types.Date), null, nil
		case s.Format == "duration":
			return types.Of(types.Interval), null, nil
		case s.Encoding == "base64":
			return types.Of(types.Varbinary), null, nil
		}
		return types.Of(types.Varchar), null, nil
	case "array":
		k, _, err := jsonSchemaRead(s.Items, depth+1)
		return types.ArrayOf(k), null, err
	case "object":
		if s.Properties == nil && len(s.More) > 0 && s.More[0] == '{' {
			k, _, err := jsonSchemaRead(s.More, depth+1)
			return types.MapOf(types.Of(types.Varchar), k), null, err
		}
		t.Kind = types.Row
		err := eachKey(s.Properties, func(name string, b json.RawMessage) error {
			k, null, err := jsonSchemaRead(b, depth+1)
			t.Fields = append(t.Fields, types.Field{Name: name, Type: k, NotNull: !null && slices.Contains(s.Required, name)})
			return err
		})
		if len(t.Fields) == 0 {
			return document, true, err
		}
		return t, null, err
	}
	return document, true, nil
}

// eachKey gives the members of an object in their order.
func eachKey(object []byte, each func(name string, b json.RawMessage) error) error {
	if len(object) == 0 {
		return nil
	}
	d := json.NewDecoder(strings.NewReader(string(object)))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return errors.Join(err, errors.New("properties are an object"))
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		var b json.RawMessage
		if err := d.Decode(&b); err != nil {
			return err
		}
		if err := each(fmt.Sprint(name), b); err != nil {
			return err
		}
	}
	return nil
}

// JSONFits says why messages of the schema written cannot be read by the schema read: a property of another type, or one that is required now.
func JSONFits(written, read *Schema) error {
	w, err := jsonSchemaColumns(written.Text)
	if err != nil {
		return err
	}
	r, err := jsonSchemaColumns(read.Text)
	if err != nil {
		return err
	}
	for _, c := range r {
		i := slices.IndexFunc(w, func(f types.Field) bool { return f.Name == c.Name })
		switch {
		case i < 0 && c.NotNull:
			return fmt.Errorf("%s is required, and was not there before", c.Name)
		case i < 0:
		case !w[i].Type.Equal(c.Type) && c.Type.Kind != types.JSON:
			return fmt.Errorf("%s is %s, and was %s", c.Name, c.Type, w[i].Type)
		case c.NotNull && !w[i].NotNull:
			return fmt.Errorf("%s is required, and was not before", c.Name)
		}
	}
	return nil
}
