package internal_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"fiume/internal/connect"
)

// floors are the packages from the bottom up. A package may import packages of lower floors, and of
// its own where inside is set.
var floors = []struct {
	name   string
	inside bool // its packages may import each other, in the order of core
	paths  []string
}{
	{"core", true, []string{"internal/core"}},
	{"disk and ports", false, []string{"internal/disk", "internal/loopback"}},
	{"formats and topics", false, []string{"internal/format", "internal/topiclog"}},
	{"connectors", true, []string{"internal/connect"}},
	{"checkpoints", false, []string{"internal/checkpoint"}},
	{"trials", true, []string{"internal/trial"}},
	{"catalog", false, []string{"internal/catalog"}},
	{"service", true, []string{"internal/service"}},
	{"network interface and console", false, []string{"internal/api", "internal/devices", "internal/wire", "console", "demo"}},
	{"client", false, []string{"internal/client"}},
	{"command line", false, []string{"internal/cli"}},
	{"program", false, []string{"cmd", "scripts"}},
}

// orders list packages of one floor from the bottom up; those at the top may import all of them.
var orders = map[string][]string{
	"internal/core":    {"types", "sql", "column", "state", "eval", "plan", "step", "flow"},
	"internal/service": {"traces", "access", "base", "people", "secrets", "databases", "topics", "sensitive", "jobs", "samples", "declare", "questions", "boards", "advice", "alerts", "backup", "forget"},
}

// outside are imports that the core must not have: it knows nothing of the web, the terminal or the
// database.
var outside = []string{"net/http", "database/sql", "github.com/gin-gonic", "github.com/spf13", "gorm.io", "github.com/go-sql-driver", "os/exec"}

func under(path, dir string) bool { return path == dir || strings.HasPrefix(path, dir+"/") }

func floorOf(path string) int {
	for i, f := range floors {
		for _, p := range f.paths {
			if under(path, p) {
				return i
			}
		}
	}
	return -1
}

// placeOf gives where a package stands in the order of its floor, if that has one.
func placeOf(path string) (place int, ok bool) {
	for dir, order := range orders {
		if !under(path, dir) {
			continue
		}
		for i, c := range order {
			if under(path, dir+"/"+c) {
				return i, true
			}
		}
		return len(order), true
	}
	return 0, false
}

// ordered says whether a package stands below another one of its floor, where that has an order.
func ordered(below, above string) bool {
	b, ok := placeOf(below)
	a, _ := placeOf(above)
	return !ok || b < a
}

// TestImportsRunDownwards fails when a package imports one of a floor above its own.
func TestImportsRunDownwards(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "e2e" || d.Name() == "third_party") {
			return fs.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		pkg := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../"))
		floor := floorOf(pkg)
		if floor < 0 {
			t.Errorf("%s stands on no floor; give %s one in this test and in docs/architecture.md", path, pkg)
			return nil
		}
		seen++
		for _, imp := range file.Imports {
			p, err := strconv.Unquote(imp.Path.Value)
			if err != nil {
				return err
			}
			if floor == 0 {
				for _, o := range outside {
					if under(p, o) {
						t.Errorf("%s: the core imports %s", path, p)
					}
				}
			}
			p, ours := strings.CutPrefix(p, "fiume/")
			if !ours {
				continue
			}
			to := floorOf(p)
			switch {
			case to > floor:
				t.Errorf("%s: %s imports upwards, from %s to %s", path, p, floors[floor].name, floors[to].name)
			case to == floor && !floors[floor].inside && p != pkg:
				t.Errorf("%s: %s is a neighbour on the same floor", path, p)
			case to == floor && p != pkg && !ordered(p, pkg):
				t.Errorf("%s: %s imports upwards inside the floor %s", path, p, floors[floor].name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 30 {
		t.Fatalf("only %d files were looked at", seen)
	}
}

// mayKnow are the packages that may import the folder of a connector: the list of connectors, and what has built-in topics to look
// after, or simulates the disk below them.
var mayKnow = map[string][]string{
	"internal/connect":           {"amqp", "broker", "files", "generator", "lake", "mail", "mariadb", "mqtt", "nats", "postgres", "registry", "search", "tcp", "topics", "web"},
	"internal/service/topics":    {"topics"},
	"internal/service/questions": {"topics"},
	"internal/trial":             {"files", "topics"},
}

// helpers are what connectors share.
var helpers = []string{"batches", "contract", "dbserver", "dbtable", "history", "inbox", "lake/delta", "lookups", "outbox", "recorded", "roots", "rows", "schemas", "schemas/standin", "search/standin", "spool", "store", "store/standin", "text", "trust", "web/standin", "webclient"}

// TestNobodyKnowsPlaces: a connector is one folder and one entry in the list. What others must know of a place they ask as a trait or
// of its connector, and compare nothing with its name.
func TestNobodyKnowsPlaces(t *testing.T) {
	words := map[string]bool{}
	for _, p := range connect.Places() {
		words[strconv.Quote(p.Kind)] = true
	}
	asksPlace := func(e ast.Expr) bool {
		x, ok := e.(*ast.SelectorExpr)
		return ok && (x.Sel.Name == "Place" || x.Sel.Name == "Kind" && strings.HasSuffix(fmt.Sprint(x.X), "lace"))
	}
	word := func(e ast.Expr) bool {
		l, ok := e.(*ast.BasicLit)
		return ok && words[l.Value]
	}
	looked := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		pkg := "internal/" + filepath.ToSlash(filepath.Dir(path))
		folder, connector := strings.CutPrefix(pkg, "internal/connect/")
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		looked++
		for _, imp := range file.Imports {
			p, _ := strconv.Unquote(imp.Path.Value)
			if of, ok := strings.CutPrefix(p, "fiume/internal/connect/"); ok && !slices.Contains(helpers, of) && !slices.Contains(mayKnow[pkg], of) && of != folder {
				t.Errorf("%s imports the connector %s", path, of)
			}
		}
		if connector {
			return nil
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.BinaryExpr:
				if asksPlace(x.X) && word(x.Y) || asksPlace(x.Y) && word(x.X) {
					t.Errorf("%s: a place is asked for by its name", set.Position(x.Pos()))
				}
			case *ast.SwitchStmt:
				for _, c := range x.Body.List {
					if x.Tag != nil && asksPlace(x.Tag) && slices.ContainsFunc(c.(*ast.CaseClause).List, word) {
						t.Errorf("%s: a place is asked for by its name", set.Position(c.Pos()))
					}
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if looked < 150 {
		t.Fatalf("only %d files were looked at", looked)
	}
	sources, err := filepath.Glob("../console/src/*.ts*")
	if err != nil || len(sources) < 20 {
		t.Fatalf("%d files of the console, %v", len(sources), err)
	}
	asks := regexp.MustCompile(`[Pp]lace\s*[!=]==?\s*"`)
	for _, path := range sources {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if m := asks.Find(b); m != nil && !strings.HasSuffix(path, "schema.d.ts") {
			t.Errorf("%s: a place is asked for by its name: %s", path, m)
		}
	}
}
