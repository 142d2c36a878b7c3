package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// floors are the packages from the bottom up. A package may import packages of lower floors, and of
// its own where inside is set.
var floors = []struct {
	name   string
	inside bool // its packages may import each other, in the order of core
	paths  []string
}{
	{"core", true, []string{"internal/core"}},
	{"disk", false, []string{"internal/disk"}},
	{"formats and topics", false, []string{"internal/format", "internal/topiclog"}},
	{"connectors", true, []string{"internal/connect"}},
	{"checkpoints", false, []string{"internal/checkpoint"}},
	{"trials", false, []string{"internal/trial"}},
	{"catalog", false, []string{"internal/catalog"}},
	{"service", true, []string{"internal/service"}},
	{"network interface and console", false, []string{"internal/api", "console", "demo"}},
	{"client", false, []string{"internal/client"}},
	{"command line", false, []string{"internal/cli"}},
	{"program", false, []string{"cmd"}},
}

// orders list packages of one floor from the bottom up; those at the top may import all of them.
var orders = map[string][]string{
	"internal/core":    {"types", "sql", "column", "state", "eval", "plan", "step", "flow"},
	"internal/service": {"base", "secrets", "databases", "topics", "jobs", "samples", "declare", "questions"},
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
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "e2e") {
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

// TestCoreKnowsNoPlace: what the core must know of a place it asks as a trait (plan.Traits), never by the place's name.
func TestCoreKnowsNoPlace(t *testing.T) {
	looked := 0
	err := filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		looked++
		ast.Inspect(file, func(n ast.Node) bool {
			x, ok := n.(*ast.BinaryExpr)
			if !ok || x.Op != token.EQL && x.Op != token.NEQ {
				return true
			}
			for _, side := range []ast.Expr{x.X, x.Y} {
				if l, ok := side.(*ast.BasicLit); ok && slices.Contains([]string{`"files"`, `"topic"`, `"mariadb"`}, l.Value) {
					t.Errorf("%s: the core asks for the place %s by its name", set.Position(l.Pos()), l.Value)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if looked < 60 {
		t.Fatalf("only %d files were looked at", looked)
	}
}
