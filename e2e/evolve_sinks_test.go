package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fiume/internal/api"
	"fiume/internal/trial/kit"
)

// TestColumnsReachSinks: a column that a stream gets flows through a view and * to tables of databases, an open table and the schemas of a registry, where the sinks may evolve. A dry run says
// what will be changed there, and refuses where a sink may not.
func TestColumnsReachSinks(t *testing.T) {
	t.Parallel()
	pg := kit.StartPostgres(t)
	pgDB := pg.Database(t, "harbour")
	p := serve(t, t.TempDir())
	schemas := start(t, "registry", "--listen", "127.0.0.1:0")
	p.fiume("", "database", "create", "harbour").want(t, 0)
	p.fiume(pg.Password, "secret", "set", "pg").want(t, 0)
	stream := `DECLARE %sSTREAM reads (chip VARCHAR, n BIGINT%s) FROM TOPIC 'reads';`
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC told (PARTITIONS 1);` + fmt.Sprintf(stream, "", "") + `
		CREATE VIEW marked AS SELECT *, n * 2 AS twice FROM reads;
		DECLARE ENDPOINT early MARIADB 'harbour@private/harbour' SECRET 'harbour';
		DECLARE ENDPOINT pg POSTGRES 'timing@` + pg.Addr + `/harbour' SECRET 'pg';
		DECLARE ENDPOINT pond LAKE '` + filepath.Join(t.TempDir(), "lake") + `';
		DECLARE ENDPOINT schemas REGISTRY '` + schemas.base + `';
		DECLARE SINK to_early TO MARIADB 'marked' VIA early (CREATE true, EVOLVE true);
		DECLARE SINK to_pg TO POSTGRES 'marked' VIA pg (CREATE true, EVOLVE true);
		DECLARE SINK to_pond TO LAKE 'race.marked' VIA pond (EVOLVE true);
		DECLARE SINK told TO TOPIC 'told' (FORMAT avro, SCHEMAS schemas);
		DECLARE SINK fixed TO POSTGRES 'fixed' VIA pg (CREATE true);`)
	job := `CREATE JOB marking AS SELECT * FROM marked ROUTE TO to_early, to_pg, to_pond, told SET (CHECKPOINT EVERY 200 MILLISECONDS);`
	file := writeFile(t, t.TempDir(), "job.sql", job)
	p.fiume("", "apply", file, "--dry-run").want(t, 0, "the sink to_early makes its table: CREATE TABLE `marked`", `the sink to_pg makes its table: CREATE TABLE "marked"`,
		"the sink to_pond makes its table race.marked", "the sink told begins the subject 'told-value' in the registry schemas")
	p.fiume("", "connections", "--file", file).want(t, 0, "the job makes its table: CREATE TABLE `marked`", `the job makes its table: CREATE TABLE "marked"`)
	p.apply(job)
	p.send("reads", `{"chip":"P1","n":1}`)
	rows := func(columns string) (early, far int) {
		r := p.fiume("", "database", "run", "early", "--execute", "SELECT "+columns+" FROM marked")
		if r.code == 0 {
			early = strings.Count(r.out, "P")
		}
		if err := pgDB.QueryRow("SELECT COUNT(*) FROM (SELECT " + columns + " FROM marked) AS x").Scan(&far); err != nil {
			far = -1
		}
		return early, far
	}
	eventually(t, "the first row is everywhere", func() bool {
		early, far := rows("chip, n, twice")
		return early == 1 && far == 1 && len(p.all("told")) == 1
	})
	wider := fmt.Sprintf(stream, "OR REPLACE ", ", club VARCHAR, fee DECIMAL(8, 2)")
	said := p.fiume(wider, "apply", "-", "--dry-run").want(t, 0, "the job marking goes along",
		"the sink to_early adds a column to its table: ALTER TABLE `marked` ADD COLUMN IF NOT EXISTS `club` TEXT",
		`the sink to_pg adds a column to its table: ALTER TABLE "marked" ADD COLUMN IF NOT EXISTS "fee" NUMERIC(8, 2)`,
		"the sink to_pond adds a column to its table race.marked: club VARCHAR", "the sink told adds a schema to the subject 'told-value' in the registry schemas")
	if _, far := rows("club"); far != -1 {
		t.Errorf("a dry run has done what it says:\n%s", said.out)
	}
	p.fiume(wider, "apply", "-").want(t, 0, "stream reads replaced")
	p.send("reads", `{"chip":"P2","n":2,"club":"North","fee":12.50}`)
	eventually(t, "the wider row is everywhere", func() bool {
		early, far := rows("chip, club, fee")
		return early == 2 && far == 2 && len(p.all("told")) == 2
	})
	p.fiume("", "database", "run", "early", "--execute", "SELECT chip, club, fee FROM marked WHERE n = 2").want(t, 0, "P2", "North", "12.5")
	p.fiume("", "database", "run", "early", "--execute", "SELECT COUNT(*) AS narrow FROM marked WHERE n = 1 AND club IS NULL").want(t, 0, "1")
	p.apply(`DECLARE STREAM back (chip VARCHAR, n BIGINT, twice BIGINT, club VARCHAR, fee DECIMAL(8, 2)) FROM LAKE 'race.marked' VIA pond;`)
	p.fiume("", "query", "SELECT chip, club, fee FROM back SINCE BEGINNING WHERE n = 2 UNTIL NOW;").want(t, 0, "P2", "North", "12.50")

	// A sink that may not evolve holds the declaration, and says how it may.
	p.apply(`CREATE JOB fixing AS SELECT chip, n, club FROM marked ROUTE TO fixed SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	eventually(t, "the table is made", func() bool {
		var there bool
		return pgDB.QueryRow("SELECT to_regclass('fixed') IS NOT NULL").Scan(&there) == nil && there
	})
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: `CREATE OR REPLACE JOB fixing AS SELECT * FROM marked ROUTE TO fixed SET (CHECKPOINT EVERY 200 MILLISECONDS);`})
	if err == nil && r.Problem == nil {
		t.Error("a column was added to a table that may not get one")
	}
	p.fiume("CREATE OR REPLACE JOB fixing AS SELECT * FROM marked ROUTE TO fixed;", "apply", "-", "--dry-run").want(t, 3, "the table fixed has no column fee", "with (EVOLVE true) it is added")
}
