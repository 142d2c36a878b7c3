package connect_test

import (
	"strings"
	"testing"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestMadeTables: a job makes its table in MariaDB with columns of all types, begins again over it, and gives it those columns that its rows get.
func TestMadeTables(t *testing.T) {
	t.Parallel()
	server := databaseServer(t)
	name, db := server.database(t)
	log := newTopics(t, "in", "later")
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return server.dsn.Passwd, nil }}}
	src := `DECLARE ENDPOINT d MARIADB '` + server.dsn.User + "@" + server.dsn.Addr + "/" + name + `' SECRET 'd';
		DECLARE STREAM s (b BOOLEAN, i INT, l BIGINT, d DECIMAL(12, 3), x DOUBLE, says VARCHAR, at TIMESTAMP, day DATE, clock TIME, list ARRAY(INT), j JSON, r ROW(a INT, b VARCHAR)) FROM TOPIC 'in';
		DECLARE SINK made TO MARIADB 'made' VIA d (CREATE true, EVOLVE true, KEY (says, l));`
	tell := func(topic string, job *kit.Job, many int) {
		t.Helper()
		job.Start(t)
		if err := log.Topic(topic).Append([]topiclog.Record{{Value: []byte(`{"b":true,"i":-7,"l":` + string(rune('0'+many)) + `,"d":123456789.125,"x":0.25,"says":"it's","at":"2026-05-17T09:00:00.123456Z","day":"2026-05-17","clock":"09:30:15","list":[1,null,3],"j":{"a":[1,2]},"r":{"a":1,"b":"x"}}`)}}); err != nil {
			t.Fatal(err)
		}
		job.Until(t, "the row is there", func() bool {
			n := 0
			return db.QueryRow("SELECT COUNT(*) FROM "+name+".made WHERE d = 123456789.125 AND at = '2026-05-17 09:00:00.123456' AND day = '2026-05-17' AND `long` = 90000000").Scan(&n) == nil && n == many
		})
		if err := job.Stop(); err != nil {
			t.Fatal(err)
		}
	}
	job := kit.New(t, src+"CREATE JOB j AS SELECT b, i, l, d, x, says, at, day, INTERVAL '90' SECOND AS long FROM s ROUTE TO made;", env)
	tell("in", job, 1)
	tell("in", job, 2)
	wider := kit.New(t, strings.Replace(src, "TOPIC 'in'", "TOPIC 'later'", 1)+"CREATE JOB k AS SELECT b, i, l, d, x, says, at, day, INTERVAL '90' SECOND AS long, clock, list, j, r FROM s ROUTE TO made;", env)
	tell("later", wider, 3)
	tell("later", wider, 4)
	var clock, list, r string
	if err := db.QueryRow("SELECT clock, list, r FROM "+name+".made WHERE l = 4").Scan(&clock, &list, &r); err != nil || clock != "09:30:15" || list != "[1,null,3]" || r != `{"a":1,"b":"x"}` {
		t.Errorf("%q %q %q %v", clock, list, r, err)
	}
	var narrow int
	if err := db.QueryRow("SELECT COUNT(*) FROM " + name + ".made WHERE clock IS NULL").Scan(&narrow); err != nil || narrow != 2 {
		t.Errorf("%d rows without the columns that came later, %v", narrow, err)
	}
}
