package demo

import (
	"bufio"
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"time"
)

//go:embed sql/*.sql
var files embed.FS

// Workload is a job over files of the race day that speed is measured on.
type Workload struct {
	Name  string
	About string
	SQL   string // with the parameters reads, calls, entrants and out
}

// Workloads gives the measured jobs, in order.
func Workloads() []Workload {
	out := []Workload{
		{"W1", "filter and project", "strong-reads"}, {"W2", "tumbling windows, few keys", "reads-by-mat"}, {"W2b", "tumbling windows, many keys", "reads-by-chip"},
		{"W3", "sliding windows", "crowd-by-mat"}, {"W4", "stream joined with stream", "calls-with-reads"}, {"W5", "stream joined with table", "reads-with-entrants"},
	}
	for i := range out {
		b, err := files.ReadFile("sql/" + out[i].SQL + ".sql")
		if err != nil {
			panic(err) // they are built in
		}
		out[i].SQL = string(b)
	}
	return out
}

// DayFiles are the files that a workload reads.
type DayFiles struct {
	Reads, Calls, Entrants string
	Rows                   int   // reads
	Bytes                  int64 // of the reads
}

// runnersADay makes many keys and a day that fits in memory.
const runnersADay = 20_000

// WriteFiles writes race days, one behind the other, to files in a directory until they have so many
// reads. progress is called now and then with the reads written.
func WriteFiles(dir string, seed uint64, reads int, progress func(int)) (DayFiles, error) {
	f := DayFiles{Reads: filepath.Join(dir, "mat-reads.ndjson"), Calls: filepath.Join(dir, "medical-calls.ndjson"), Entrants: filepath.Join(dir, "entrants.csv")}
	w := map[string]*bufio.Writer{}
	for topic, name := range map[string]string{"mat-reads": f.Reads, "medical-calls": f.Calls, "entrants": f.Entrants} {
		file, err := os.Create(name)
		if err != nil {
			return f, err
		}
		defer file.Close()
		w[topic] = bufio.NewWriterSize(file, 1<<20)
	}
	fmt.Fprintln(w["entrants"], "chip,bib,name,club,wave,birth_year,updated_at")
	for day := 0; f.Rows < reads; day++ {
		d := Day{Seed: seed + uint64(day), Runners: min(runnersADay, (reads-f.Rows)/30+1), Start: FirstStart.Add(time.Duration(day) * 24 * time.Hour)}
		for _, m := range d.Messages() {
			if w[m.Topic] == nil || m.Topic == "mat-reads" && f.Rows == reads {
				continue
			}
			n, err := w[m.Topic].Write(append(m.Value, '\n'))
			if err != nil {
				return f, err
			}
			if m.Topic == "mat-reads" {
				f.Rows++
				f.Bytes += int64(n)
				if f.Rows%100_000 == 0 {
					progress(f.Rows)
				}
			}
		}
	}
	for _, b := range w {
		if err := b.Flush(); err != nil {
			return f, err
		}
	}
	return f, nil
}
