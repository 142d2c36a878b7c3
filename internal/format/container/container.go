// Package container takes files of lines apart into messages, and makes files of rows. It is for samples and downloads:
// whole files in memory, not streams.
package container

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Formats are the kinds of files that Messages reads.
var Formats = []string{"json", "csv", "text"}

// FormatOf guesses the format of a file by its name and its first bytes.
func FormatOf(name string, data []byte) string {
	lower := strings.ToLower(name)
	for _, packed := range []string{".gz", ".zst"} {
		lower = strings.TrimSuffix(lower, packed)
	}
	switch {
	case bytes.HasPrefix(data, []byte("PAR1")):
		return "parquet"
	case bytes.HasPrefix(data, []byte("Obj\x01")):
		return "avro"
	case strings.HasSuffix(lower, ".csv"), strings.HasSuffix(lower, ".tsv"):
		return "csv"
	case strings.HasSuffix(lower, ".avro"), strings.HasSuffix(lower, ".parquet"): // a broken one, which is no text for that
		return lower[strings.LastIndexByte(lower, '.')+1:]
	}
	if t := bytes.TrimLeft(data, "\ufeff \t\r\n"); len(t) > 0 && (t[0] == '{' || t[0] == '[') {
		return "json"
	}
	if strings.HasSuffix(lower, ".txt") || strings.HasSuffix(lower, ".log") || !bytes.Contains(data, []byte(",")) {
		return "text"
	}
	return "csv"
}

// Messages takes a file apart. The elements of a JSON array become JSON objects; a CSV file's first record is its header where header is set. most bounds how many there are.
func Messages(format string, data []byte, header bool, most int) (messages [][]byte, names []string, err error) {
	switch format {
	case "json":
		messages, err = jsonMessages(data, most)
	case "csv":
		return csvMessages(data, header, most)
	case "text":
		if !utf8.Valid(data) {
			return nil, nil, errors.New("the text is not UTF-8")
		}
		for line := range strings.Lines(string(data)) {
			if line = strings.TrimRight(line, "\r\n"); line != "" && len(messages) < most {
				messages = append(messages, []byte(line))
			}
		}
	default:
		err = fmt.Errorf("no format is called %q; there are %s", format, strings.Join(Formats, ", "))
	}
	if err == nil && len(messages) == 0 {
		err = errors.New("there are no rows in it")
	}
	return messages, nil, err
}

// jsonMessages takes lines as they are, so that broken ones stay, or else the values of a document.
func jsonMessages(data []byte, most int) (out [][]byte, err error) {
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	trimmed := bytes.TrimSpace(data)
	if len(trimmed) > 0 && trimmed[0] == '[' {
		var elements []json.RawMessage
		if err := json.Unmarshal(trimmed, &elements); err != nil {
			return nil, fmt.Errorf("the JSON array cannot be read: %w", err)
		}
		for _, e := range elements[:min(most, len(elements))] {
			out = append(out, compact(e))
		}
		return out, nil
	}
	first, _, _ := bytes.Cut(trimmed, []byte("\n"))
	if json.Valid(first) {
		for line := range bytes.Lines(data) {
			if line = bytes.TrimSpace(line); len(line) > 0 && len(out) < most {
				out = append(out, bytes.Clone(line))
			}
		}
		return out, nil
	}
	for d := json.NewDecoder(bytes.NewReader(trimmed)); len(out) < most; { // objects that go over several lines
		var e json.RawMessage
		err := d.Decode(&e)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the JSON at byte %d cannot be read: %w", d.InputOffset(), err)
		}
		out = append(out, compact(e))
	}
	return out, nil
}

func compact(b []byte) []byte {
	var out bytes.Buffer
	if json.Compact(&out, b) != nil {
		return b
	}
	return out.Bytes()
}

func csvMessages(data []byte, header bool, most int) (out [][]byte, names []string, err error) {
	r := csv.NewReader(transform.NewReader(bytes.NewReader(data), unicode.BOMOverride(unicode.UTF8.NewDecoder())))
	r.FieldsPerRecord, r.Comma = -1, Delimiter(data)
	for len(out) < most {
		rec, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("the CSV cannot be read: %w", err)
		}
		if header && names == nil {
			names = rec
			continue
		}
		out = append(out, CSVRecord(rec))
	}
	if len(out) == 0 {
		return nil, nil, errors.New("there are no rows in it")
	}
	return out, names, nil
}

// Delimiter guesses what stands between the fields of a CSV file: what gives its first records as many fields each, and
// more than one; a comma where nothing does.
func Delimiter(data []byte) rune {
	const looked = 20
	best, most := ',', 1
	for _, d := range []rune{',', ';', '\t', '|'} {
		r := csv.NewReader(transform.NewReader(bytes.NewReader(data), unicode.BOMOverride(unicode.UTF8.NewDecoder())))
		r.Comma, r.FieldsPerRecord = d, 0 // as many as the first record has
		n := 0
		for range looked {
			rec, err := r.Read()
			if errors.Is(err, io.EOF) {
				break
			}
			if n = len(rec); err != nil {
				n = 0
				break
			}
		}
		if n > most {
			best, most = d, n
		}
	}
	return best
}

// CSVRecord writes one record without a line end, with commas between its fields.
func CSVRecord(fields []string) []byte { return CSVRecordWith(fields, ',') }

// CSVRecordWith writes one record without a line end.
func CSVRecordWith(fields []string, delimiter rune) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = delimiter
	_ = w.Write(fields) // a buffer takes all
	w.Flush()
	return bytes.TrimRight(b.Bytes(), "\n")
}

// WriteCSV makes a CSV file with a header of rows, which are JSON objects. NULL is empty, and an empty text is quoted.
func WriteCSV(names []string, rows []json.RawMessage) ([]byte, error) {
	var b bytes.Buffer
	put := func(fields []string, null []bool) {
		for i, f := range fields {
			if i > 0 {
				b.WriteByte(',')
			}
			if f == "" && !null[i] || strings.ContainsAny(f, ",\"\r\n") || strings.TrimSpace(f) != f {
				b.WriteString(`"` + strings.ReplaceAll(f, `"`, `""`) + `"`)
			} else {
				b.WriteString(f)
			}
		}
		b.WriteString("\r\n")
	}
	put(names, make([]bool, len(names)))
	for _, row := range rows {
		var cells map[string]json.RawMessage
		if err := json.Unmarshal(row, &cells); err != nil {
			return nil, err
		}
		fields, null := make([]string, len(names)), make([]bool, len(names))
		for i, n := range names {
			raw := cells[n]
			switch {
			case len(raw) == 0 || string(raw) == "null":
				null[i] = true
			case raw[0] == '"':
				if err := json.Unmarshal(raw, &fields[i]); err != nil {
					return nil, err
				}
			default:
				fields[i] = string(raw)
			}
		}
		put(fields, null)
	}
	return b.Bytes(), nil
}

// CSVFields takes one record apart.
func CSVFields(record []byte) ([]string, error) {
	r := csv.NewReader(bytes.NewReader(record))
	r.FieldsPerRecord = -1
	return r.Read()
}
