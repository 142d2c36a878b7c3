package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fiume/internal/service/samples"
)

// TestForget: a runner is forgotten in topics of three formats, also in messages that cannot be read, in samples and in rows set aside, while a job reads and writes; nothing
// else changes, no file has him any more, and what is not reached is said.
func TestForget(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC lines (PARTITIONS 1); CREATE TOPIC keyed (PARTITIONS 1); CREATE TOPIC other (PARTITIONS 1); CREATE TOPIC out (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
		DECLARE STREAM lines (chip VARCHAR, mat VARCHAR) FROM TOPIC 'lines' (FORMAT csv);
		DECLARE SINK keyed TO TOPIC 'keyed' (KEY (chip));
		DECLARE SINK out TO TOPIC 'out';
		DECLARE SINK away TO FILES '` + filepath.Join(dir, "out") + `';
		CREATE JOB counts WITH
			c AS (SELECT chip, COUNT(*) AS n FROM reads GROUP BY chip FORGET AFTER 1 DAY),
			o AS (SELECT chip, mat FROM reads)
			ROUTE c TO keyed ROUTE o TO out, away SET (CHECKPOINT EVERY 1 SECOND);`)
	var ms, lines []string
	for i := range 600 {
		ms = append(ms, fmt.Sprintf(`{"chip":"P%05d","mat":"km-%02d","at":"2026-05-17T09:00:%02dZ"}`, i%6, i%7, i/10))
		lines = append(lines, fmt.Sprintf("P%05d,km-%02d", i%6, i%7))
	}
	ms = append(ms, `{"chip":"P00003"`, `{"chip":"\u0050\u0030\u0030\u0030\u0030\u0033","mat":"escaped","at":"2026-05-17T09:01:00Z"}`, `{"chip":"P000031","mat":"longer","at":"2026-05-17T09:01:00Z"}`,
		`{"chip":null,"note":"P00003 is no chip here"}`)
	p.send("reads", ms...)
	p.send("lines", lines...)
	p.send("other", `{"runner":{"chip":"P00003"}}`, `{"all":[{"chip":"P00003"}]}`, `{"name":"P00003"}`)
	eventually(t, "the job to have read it, and to show what it rejects", func() bool {
		r := p.fiume("", "job", "aside", "counts", "--kind", "rejected")
		return len(p.all("out")) == 602 && strings.Contains(r.out, "P00003") && len(p.latest("keyed")) == 7
	})
	if _, err := p.KeepSample(t.Context(), samples.SampleRequest{Name: "some", Topic: "reads", Limit: 300}); err != nil {
		t.Fatal(err)
	}
	reads := p.all("reads")
	p.fiume("", "forget", "chip").want(t, 2, "COLUMN=VALUE")
	p.fiume("", "forget", "chip=P00003", "--dry-run", "--topic", "read").want(t, 4, `did you mean "reads"?`)
	r := p.fiume("", "forget", "chip=P00003", "--dry-run").want(t, 0, "topic reads has 102 of 604", "topic lines has 100 of 600", "topic out has 101", "nothing was changed")
	if len(p.all("reads")) != len(reads) || strings.Contains(r.out, "topic other has") {
		t.Errorf("a dry run: %s", r.out)
	}
	r = p.fiume("", "forget", "chip=P00003", "--yes").want(t, 0, "topic reads had 102 of 604", "topic lines had 100 of 600", "topic out had 101", "samples had", "rows set aside had",
		"not reached: the state and the checkpoints of the job counts", "START JOB counts FROM BEGINNING", "not reached: what the job counts has written outside: away (FILES)")
	p.fiume("", "forget", "runner.chip=P00003", "--yes", "--topic", "other").want(t, 0, "topic other had 1 of 3")
	var want []string
	for _, m := range reads {
		if !strings.Contains(m, `"P00003"`) && !strings.Contains(m, "escaped") {
			want = append(want, m)
		}
	}
	full := func(rows []string) (out []string) {
		for _, r := range rows {
			if r != "" {
				out = append(out, r)
			}
		}
		return out
	}
	if got := full(p.all("reads")); len(want) != 502 || strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%d reads are left and not %d", len(got), len(want))
	}
	if got := full(p.all("lines")); len(got) != 500 {
		t.Errorf("%d lines are left", len(got))
	}
	if s := p.fiume("", "job", "aside", "counts", "--kind", "rejected").out; strings.Contains(s, "P00003\"") {
		t.Errorf("set aside:\n%s", s)
	}
	p.send("reads", `{"chip":"P00004","mat":"after","at":"2026-05-17T09:02:00Z"}`) // all goes on
	eventually(t, "the job goes on", func() bool { return strings.Contains(strings.Join(p.all("out"), "\n"), `"mat":"after"`) })
	p.stop()
	p = serve(t, dir)
	if got := full(p.all("reads")); len(got) != 503 {
		t.Errorf("%d reads in a new process", len(got))
	}
	p.stop()
	err := filepath.WalkDir(filepath.Join(dir, "topics"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if bytes.Contains(b, []byte(`P00003"`)) && !strings.Contains(path, "other") || bytes.Contains(b, []byte("P00003,")) {
			t.Errorf("%s has him still", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
