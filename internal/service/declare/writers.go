package declare

import (
	"fmt"
	"path/filepath"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// A directory of part files has one writer. That two jobs, or two sinks of one, would write into it is said when they are
// applied; at the latest the directory's lock says it.

// sharedDirectory says which other writer has a directory of FILES that a job would write to, or gives "".
func (s *Definitions) sharedDirectory(st *sql.CreateJob, cat *plan.Catalog, gone map[string]bool) (sink sql.Name, why string) {
	mine := map[string]sql.Name{}
	for _, k := range sinksOf(st) {
		dir, ok := s.directoryOf(cat, k.Text)
		if !ok {
			continue
		}
		if other, there := mine[dir]; there && other.Text != k.Text {
			return k, fmt.Sprintf("the sinks %q and %q write into one directory, %s; each needs its own", other.Text, k.Text, dir)
		}
		mine[dir] = k
	}
	if len(mine) == 0 {
		return sink, ""
	}
	texts := map[string]string{}
	for _, j := range s.jobs.All() {
		if n := j.Name; n != st.Name.Text && !gone[n] {
			texts[n] = j.Text()
		}
	}
	for n, text := range texts {
		script, err := sql.Parse(n, text, nil)
		if err != nil {
			continue
		}
		for _, x := range script.Statements {
			job, ok := x.(*sql.CreateJob)
			if !ok {
				continue
			}
			for _, k := range sinksOf(job) {
				if dir, ok := s.directoryOf(cat, k.Text); ok {
					if own, there := mine[dir]; there {
						return own, fmt.Sprintf("the job %q writes into the directory %s, too; each job needs its own", n, dir)
					}
				}
			}
		}
	}
	return sink, ""
}

// sinksOf lists the sinks that a job names.
func sinksOf(st *sql.CreateJob) (out []sql.Name) {
	for _, r := range st.Routes {
		for _, b := range r.Branches {
			out = append(out, b.Sinks...)
		}
	}
	return out
}

// directoryOf gives the directory of a sink of FILES, with its links followed.
func (s *Definitions) directoryOf(cat *plan.Catalog, sink string) (string, bool) {
	k := cat.Sinks[sink]
	if k == nil || k.Place != "files" {
		return "", false
	}
	dir, err := s.Files.Path(k.Address)
	if err != nil {
		return "", false // that is said elsewhere
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	return dir, true
}
