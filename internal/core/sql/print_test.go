package sql

import (
	"errors"
	"os"
	"reflect"
	"strings"
	"testing"
)

// equal compares trees without the places they stand at.
func equal(a, b reflect.Value) bool {
	if a.IsValid() != b.IsValid() {
		return false
	}
	if !a.IsValid() {
		return true
	}
	if a.Type() != b.Type() {
		return false
	}
	switch a.Kind() {
	case reflect.Interface, reflect.Pointer:
		if a.IsNil() || b.IsNil() {
			return a.IsNil() == b.IsNil()
		}
		return equal(a.Elem(), b.Elem())
	case reflect.Slice:
		if a.Len() != b.Len() {
			return false
		}
		for i := range a.Len() {
			if !equal(a.Index(i), b.Index(i)) {
				return false
			}
		}
		return true
	case reflect.Struct:
		if a.Type() == reflect.TypeFor[Span]() {
			return true
		}
		for i := range a.NumField() {
			if !equal(a.Field(i), b.Field(i)) {
				return false
			}
		}
		return true
	}
	return a.Equal(b)
}

// laidOut checks what laying out promises: the same trees, the same comments, and a text that stays.
func laidOut(t *testing.T, text string) string {
	s, err := Read("f", text)
	if err != nil {
		return ""
	}
	out := Format(s)
	again, err := Read("f", out)
	if err != nil {
		t.Fatalf("%q was laid out as %q, which does not parse: %v", text, out, err)
	}
	if len(s.Statements) != len(again.Statements) {
		t.Fatalf("%q was laid out as %q", text, out)
	}
	for i := range s.Statements {
		if !equal(reflect.ValueOf(s.Statements[i]), reflect.ValueOf(again.Statements[i])) {
			t.Fatalf("%q was laid out as %q, which is another statement", text, out)
		}
	}
	count := map[string]int{}
	for _, c := range s.comments {
		count[c.text]++
	}
	for _, c := range again.comments {
		count[c.text]--
	}
	for c, n := range count {
		if n != 0 {
			t.Fatalf("%q was laid out as %q: the comment %q is there %d times less", text, out, c, n)
		}
	}
	if third := Format(again); third != out {
		t.Fatalf("%q was laid out as\n%q, and that as\n%q", text, out, third)
	}
	return out
}

// TestFormat lays out testdata/layout.sql, which has every construct of the language and comments in
// all places, and compares with what is expected.
func TestFormat(t *testing.T) {
	in, err := os.ReadFile("testdata/layout.sql")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Read("layout.sql", string(in)); err != nil {
		t.Fatal(err)
	}
	want, _ := os.ReadFile("testdata/layout_canonical.sql")
	got := laidOut(t, string(in))
	if got != string(want) {
		if os.Getenv("RECORD") != "" {
			if err := os.WriteFile("testdata/layout_canonical.sql", []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
			return
		}
		t.Errorf("laid out as\n%s", got)
	}
}

// FuzzPrint: laying a text out keeps its trees and its comments, and is done once.
func FuzzPrint(f *testing.F) {
	in, err := os.ReadFile("testdata/layout.sql")
	if err != nil {
		f.Fatal(err)
	}
	for _, st := range strings.SplitAfter(string(in), ";\n") {
		f.Add(st)
	}
	f.Fuzz(func(t *testing.T, text string) {
		laidOut(t, text)
		s, err := Parse("f", text, map[string]string{"p": "5", "n": "-1"})
		var e *Errors
		if err != nil {
			if !errors.As(err, &e) || len(e.List) == 0 {
				t.Fatal(err)
			}
			return
		}
		for _, st := range s.Statements {
			out := Print(st)
			again, err := Parse("f", out, nil)
			if err != nil || len(again.Statements) != 1 || !equal(reflect.ValueOf(st), reflect.ValueOf(again.Statements[0])) {
				t.Fatalf("%q was printed as %q: %v", text, out, err)
			}
		}
	})
}
