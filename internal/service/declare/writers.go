package declare

import (
	"fmt"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// Some places have one writer, such as a directory of part files. That two jobs, or two sinks of one, would write into it is said when
// they are applied; at the latest the place itself says it.

// sharedPlace says which other writer has what a job would write to, or gives "".
func (s *Definitions) sharedPlace(st *sql.CreateJob, cat *plan.Catalog, gone map[string]bool) (sink sql.Name, why string) {
	mine := map[owned]sql.Name{}
	for _, k := range sinksOf(st) {
		own, ok := s.ownedBy(cat, k.Text)
		if !ok {
			continue
		}
		if other, there := mine[own]; there && other.Text != k.Text {
			return k, fmt.Sprintf("the sinks %q and %q both write into %s; each needs its own", other.Text, k.Text, own.name)
		}
		mine[own] = k
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
				if own, ok := s.ownedBy(cat, k.Text); ok {
					if sink, there := mine[own]; there {
						return sink, fmt.Sprintf("the job %q writes into %s, too; each job needs its own", n, own.name)
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

// owned is what a sink has for itself, such as its directory.
type owned struct{ place, name string }

// ownedBy gives what a sink has for itself, where there is such a thing.
func (s *Definitions) ownedBy(cat *plan.Catalog, sink string) (owned, bool) {
	k := cat.Sinks[sink]
	if k == nil {
		return owned{}, false
	}
	c, ok := connect.Of(k.Place).(contract.Owner)
	if !ok {
		return owned{}, false
	}
	name, ok := c.Owned(s.Env(), k)
	return owned{k.Place, name}, ok
}
