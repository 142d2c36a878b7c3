package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
	objectstore "fiume/internal/connect/store/standin"
	"fiume/internal/service/backup"

	"github.com/klauspost/compress/zstd"
)

// TestBackup takes backups while reads come in and a job writes to topics, files and the service's own MariaDB, ends the service in the midst of it, and restores each
// in another directory: over it the job goes on, gets the reads that came later, and in the end each sink holds just what that of a job holds that ran without a
// break. BACKUPS and RATE make it longer.
func TestBackup(t *testing.T) {
	t.Parallel()
	backups, rate := setting("BACKUPS", 2), setting("RATE", 4000)
	dir, kept := t.TempDir(), t.TempDir()
	here := func(dir string) *process { return start(t, "serve", "--dir", dir, "--listen", "127.0.0.1:0") }
	p := here(dir)
	if _, err := p.CreateDatabase(t.Context(), api.DatabaseRequest{Name: "harbour"}); err != nil {
		t.Fatal(err)
	}
	run := func(p *process, sql string) [][]string {
		t.Helper()
		out, err := p.RunStatements(t.Context(), "race_db", sql)
		if err != nil || out.Problem != "" {
			t.Fatal(err, out.Problem)
		}
		if len(out.Results) == 0 {
			return nil
		}
		var rows [][]string
		for _, row := range out.Results[len(out.Results)-1].Rows {
			var cells []string
			for _, c := range row {
				if c == nil {
					cells = append(cells, "NULL")
					continue
				}
				cells = append(cells, *c)
			}
			rows = append(rows, cells)
		}
		return rows
	}
	job := func(p *process, name string) {
		t.Helper()
		for _, q := range rivalTables(name) {
			run(p, q)
		}
		p.apply(rivalJob(name, "out"))
	}
	p.apply(declareReads + "DECLARE ENDPOINT race_db MARIADB 'harbour@private/harbour' SECRET 'harbour';")
	run(p, "CREATE TABLE odd (id INT PRIMARY KEY AUTO_INCREMENT, b VARBINARY(9), t TEXT, long_as INT AS (LENGTH(t)) PERSISTENT); INSERT INTO odd (b, t) VALUES (UNHEX('00FF8027'), 'it''s \\\\ 🏁'), (NULL, '');")
	job(p, "broken")

	var reads []api.MessageRequest
	for _, m := range (demo.Day{Seed: 9, Runners: max(200, rate*(3*backups+3)/36)}).Messages() {
		if m.Topic == "mat-reads" {
			key := m.Key
			reads = append(reads, api.MessageRequest{Key: &key, Value: string(m.Value)})
		}
	}
	var ending atomic.Bool
	taken := make(chan struct{})
	fed := make(chan int)
	go func() { // they come at a rate
		began, i := time.Now(), 0
		for i < len(reads) && !ending.Load() {
			n := min(500, len(reads)-i)
			if i > len(reads)*3/4 { // some come behind the last backup, however long they take
				<-taken
			}
			if p.Write(t.Context(), "mat-reads", reads[i:i+n]) != nil {
				break
			}
			i += n
			time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / time.Duration(rate))))
		}
		fed <- i
	}()
	secret := filepath.Join(kept, "passphrase")
	if err := os.WriteFile(secret, []byte("correct horse battery\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var archives []string
	for i := range backups {
		time.Sleep(1500 * time.Millisecond)
		file := filepath.Join(kept, fmt.Sprintf("%d.backup", i))
		p.fiume("", "backup", file, "--passphrase-file", secret).want(t, 0, "1 jobs, 4 topics", "the key of the secrets, sealed", "fiume, harbour")
		archives = append(archives, file)
	}
	close(taken)
	p.fiume("", "backup", archives[0]).want(t, 2, "is there already")
	time.Sleep(500 * time.Millisecond)
	p.kill() // the machine is gone
	ending.Store(true)
	sent := <-fed

	for i, file := range archives {
		p.fiume("", "restore", "--check", file).want(t, 0, "is whole")
		to := filepath.Join(t.TempDir(), "restored")
		p.fiume("", "restore", file, "--dir", to, "--passphrase-file", secret).want(t, 0, "start it with: fiume serve --dir "+to)
		p.fiume("", "restore", file, "--dir", to).want(t, 1, "is there already")
		q := here(to)
		odd := run(q, "SELECT id, HEX(b), HEX(t), long_as FROM odd ORDER BY id")
		if s := fmt.Sprint(odd); s != "[[1 00FF8027 69742773205C20F09F8F81 11] [2 NULL  0]]" {
			t.Errorf("%d: %s", i, s)
		}
		there := map[string]int{} // some are the same
		kept := q.all("mat-reads")
		for _, value := range kept {
			there[value]++
		}
		var missing []api.MessageRequest
		for _, r := range reads {
			if there[r.Value]--; there[r.Value] < 0 {
				missing = append(missing, r)
			}
		}
		if len(kept) == 0 || len(missing) == 0 || len(kept) > sent || len(kept)+len(missing) != len(reads) {
			t.Errorf("backup %d has %d reads of %d, %d of which were sent, and lacks %d", i, len(kept), len(reads), sent, len(missing))
		}
		for at := 0; at < len(missing); at += 5000 {
			if err := q.Write(t.Context(), "mat-reads", missing[at:min(at+5000, len(missing))]); err != nil {
				t.Fatal(err)
			}
		}
		job(q, "whole")
		q.rivalsSettle(int64(len(reads)), func() {})
		for _, name := range []string{"broken", "whole"} {
			q.fiume("", "job", "stop", name).want(t, 0)
		}
		q.rivalsAgree(filepath.Join(to, "files", "out"), func(cols, name string) []string { // too many to be shown
			row := fmt.Sprintf("CRC32(CONCAT_WS('|', %s))", cols)
			return run(q, fmt.Sprintf("SELECT COUNT(*), SUM(%s), BIT_XOR(%s) FROM %s", row, row, name))[0]
		})
		q.stop()
		t.Logf("backup %d has %d of %d reads", i, len(kept), len(reads))
	}

	// What is not as it was written restores nothing.
	whole, err := os.ReadFile(archives[0])
	if err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(kept, "none")
	wrong := filepath.Join(kept, "wrong")
	if err := os.WriteFile(wrong, []byte("another one altogether"), 0o600); err != nil {
		t.Fatal(err)
	}
	p.fiume("", "restore", archives[0], "--dir", to, "--passphrase-file", wrong).want(t, 1, "does not open the key")
	for name, change := range map[string]func(b []byte) []byte{
		"cut":     func(b []byte) []byte { return b[:len(b)/2] },
		"changed": func(b []byte) []byte { b[len(b)/3] ^= 4; return b },
		"other":   func([]byte) []byte { return []byte("no archive at all") },
		"empty":   func([]byte) []byte { return nil },
	} {
		if err := os.WriteFile(wrong, change(bytes.Clone(whole)), 0o600); err != nil {
			t.Fatal(err)
		}
		r := p.fiume("", "restore", wrong, "--dir", to)
		c := p.fiume("", "restore", "--check", wrong)
		if r.code != 1 || !strings.Contains(r.err, "nothing was restored") || c.code != 1 {
			t.Errorf("%s: %d %s, checked %d %s", name, r.code, r.err, c.code, c.err)
		}
	}
	if left, _ := filepath.Glob(to + "*"); len(left) > 0 {
		t.Errorf("it left %v", left)
	}
}

// TestBackupOfWhatIsThere: an archive without a passphrase has no secrets, a second one at once is refused, people and definitions are as they were, and a service that runs
// is not upgraded.
func TestBackupOfWhatIsThere(t *testing.T) {
	t.Parallel()
	dir, kept := t.TempDir(), t.TempDir()
	p := serve(t, dir)
	if err := p.SetSecret(t.Context(), "s", "a marker that nobody may see"); err != nil {
		t.Fatal(err)
	}
	p.apply("CREATE TOPIC t (PARTITIONS 3); CREATE BOARD b PANEL 'x' TEXT 'words'; CREATE ALERT a WHEN (SELECT job FROM fiume.jobs);")
	p.send("t", `{"a":1}`, `{"a":2}`)
	p.fiume("", "upgrade", "--check", "--dir", dir).want(t, 1, "runs; stop it first")
	r := p.fiume("", "backup", kept, "-o", "json").want(t, 0)
	var out struct {
		File     string
		Manifest backup.Manifest
	}
	if err := json.Unmarshal([]byte(r.out), &out); err != nil || out.Manifest.Secrets || len(out.Manifest.Topics) != 1 || out.Manifest.Files == 0 {
		t.Fatalf("%+v %v", out, err)
	}
	key, err := os.ReadFile(filepath.Join(dir, "secrets.key"))
	if err != nil {
		t.Fatal(err)
	}
	secret := filepath.Join(kept, "passphrase")
	if err := os.WriteFile(secret, []byte("correct horse battery"), 0o600); err != nil {
		t.Fatal(err)
	}
	sealed := filepath.Join(kept, "sealed.backup")
	p.fiume("", "backup", sealed, "--passphrase-file", secret).want(t, 0)
	for _, file := range []string{out.File, sealed} {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		z, err := zstd.NewReader(bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		plain, err := io.ReadAll(z)
		z.Close()
		if err != nil || !bytes.Contains(plain, []byte("manifest.json")) || !bytes.Contains(plain, []byte(`{"a":2}`)) {
			t.Fatalf("%s cannot be read: %v", file, err)
		}
		if bytes.Contains(plain, []byte("a marker")) || bytes.Contains(plain, key) || bytes.Contains(plain, []byte("correct horse")) {
			t.Errorf("%s has what opens the secrets", file)
		}
	}
	stream := p.fiume("", "backup", "-").want(t, 0)
	if r := p.fiume(stream.out, "restore", "--check", "-"); r.code != 0 {
		t.Errorf("%+v", r)
	}
	objects, err := objectstore.New("fiume", "the secret part", "backups")
	if err != nil {
		t.Fatal(err)
	}
	at := httptest.NewServer(objects)
	defer at.Close()
	address := strings.Replace(at.URL, "http://", "http://fiume@", 1)
	writeFile(t, kept, "store", "the secret part\n")
	writeFile(t, kept, "wrong", "another\n")
	far := func(name string) []string {
		return []string{"--store", address, "--store-secret-file", filepath.Join(kept, name)}
	}
	sent := p.fiume("", append(far("store"), "backup", "s3://backups/day/")...).want(t, 0, "s3://backups/day/fiume-", "1 topics").out
	sent = sent[:strings.Index(sent, ",")]
	p.fiume("", append(far("store"), "backup", sent)...).want(t, 2, sent+" is there already")
	p.fiume("", append(far("wrong"), "backup", "s3://backups/x")...).want(t, 1, "does not let the key fiume in with this secret")
	p.fiume("", append(far("store"), "backup", "s3://none/x")...).want(t, 1, "there is no bucket none")
	p.fiume("", "backup", "s3://backups/x").want(t, 2, "say where the object store of s3://backups/x is: --store https://key@host:port")
	p.fiume("", append(far("store"), "restore", "--check", sent)...).want(t, 0, sent+" is whole")
	p.fiume("", append(far("store"), "restore", "--check", "s3://backups/nothing")...).want(t, 1, "there is no such object")
	from := filepath.Join(kept, "from-far")
	p.fiume("", append(far("store"), "restore", sent, "--dir", from)...).want(t, 0, from+" is the service as it was")
	p.stop()
	p.fiume("", "upgrade", "--check", "--dir", dir).want(t, 0, "up to date")
	to := filepath.Join(kept, "to")
	p.fiume("", "restore", out.File, "--dir", to).want(t, 0)
	q := serve(t, to)
	if got := q.all("t"); len(got) != 2 {
		t.Errorf("the topic has %q", got)
	}
	for _, name := range []string{"a", "b"} {
		if _, err := q.Definition(t.Context(), name); err != nil {
			t.Error(err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "backup-*")); len(left) > 0 {
		t.Errorf("it left %v", left)
	}
	q.stop()
}
