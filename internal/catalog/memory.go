package catalog

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
)

// Memory keeps what a Store keeps, as long as it lives: for tests of what stands on a store.
type Memory struct {
	// Fail is asked before each call, by its name; where it gives an error, the call does nothing and gives that. It is
	// set before the first call.
	Fail func(call string) error

	mu          sync.Mutex
	last        uint // number given last
	definitions []Definition
	jobs        map[string]Job
	versions    []Version
	checkpoints []Checkpoint
	aside       []SetAside
	reasons     []ReasonCount
	minutes     []Minute
	samples     []Sample
	secrets     map[string]Secret
	activity    []Activity
	kept        []Kept
	offsets     []GroupOffset
}

// NewMemory gives an empty one.
func NewMemory() *Memory { return &Memory{jobs: map[string]Job{}, secrets: map[string]Secret{}} }

// do makes a call, unless it is to fail.
func (m *Memory) do(call string, f func() error) error {
	if m.Fail != nil {
		if err := m.Fail(call); err != nil {
			return err
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return f()
}

func (m *Memory) next() uint { m.last++; return m.last }

// newestFirst gives those that are wanted, the last one first.
func newestFirst[T any](all []T, wanted func(T) bool) (out []T) {
	for _, x := range slices.Backward(all) {
		if wanted(x) {
			out = append(out, x)
		}
	}
	return out
}

// Definitions is as Store.Definitions.
func (m *Memory) Definitions() (out []Definition, err error) {
	return out, m.do("Definitions", func() error { out = slices.Clone(m.definitions); return nil })
}

// PutDefinition is as Store.PutDefinition.
func (m *Memory) PutDefinition(kind, name, text string) error {
	return m.do("PutDefinition", func() error { m.putDefinition(kind, name, text); return nil })
}

func (m *Memory) putDefinition(kind, name, text string) {
	now := time.Now()
	if i := slices.IndexFunc(m.definitions, func(d Definition) bool { return d.Name == name }); i >= 0 {
		d := &m.definitions[i]
		d.Kind, d.SQL, d.UpdatedAt = kind, text, now
		return
	}
	m.definitions = append(m.definitions, Definition{m.next(), kind, name, text, now, now})
}

// Redefine is as Store.Redefine.
func (m *Memory) Redefine(kind, name, text, actor string, versions []Version) error {
	return m.do("Redefine", func() error {
		for _, v := range versions {
			if err := m.mayAdd(v.Job, v.Version); err != nil {
				return err
			}
		}
		m.putDefinition(kind, name, text)
		for _, v := range versions {
			j := m.jobs[v.Job]
			j.Version = v.Version
			m.jobs[v.Job] = j
			v.Actor = actorName(actor)
			m.addVersion(v)
		}
		return nil
	})
}

// DropDefinition is as Store.DropDefinition.
func (m *Memory) DropDefinition(name string) error {
	return m.do("DropDefinition", func() error {
		m.definitions = slices.DeleteFunc(m.definitions, func(d Definition) bool { return d.Name == name })
		return nil
	})
}

// Jobs is as Store.Jobs.
func (m *Memory) Jobs() (out []Job, err error) {
	return out, m.do("Jobs", func() error {
		for _, n := range slices.Sorted(maps.Keys(m.jobs)) {
			out = append(out, m.jobs[n])
		}
		return nil
	})
}

// mayAdd says why there cannot be a version.
func (m *Memory) mayAdd(job string, version int) error {
	if slices.ContainsFunc(m.versions, func(v Version) bool { return v.Job == job && v.Version == version }) {
		return fmt.Errorf("there is already a version %d of %s", version, job)
	}
	return nil
}

func (m *Memory) addVersion(v Version) {
	v.ID, v.CreatedAt = m.next(), time.Now()
	m.versions = append(m.versions, v)
}

// CreateJob is as Store.CreateJob.
func (m *Memory) CreateJob(j *Job, actor string) error {
	return m.do("CreateJob", func() error {
		if _, there := m.jobs[j.Name]; there {
			return fmt.Errorf("there is already a job %s", j.Name)
		}
		if err := m.mayAdd(j.Name, j.Version); err != nil {
			return err
		}
		j.CreatedAt, j.UpdatedAt = time.Now(), time.Now()
		m.jobs[j.Name] = *j
		m.addVersion(Version{Job: j.Name, Version: j.Version, SQL: j.SQL, Actor: actorName(actor)})
		return nil
	})
}

// ReplaceJob is as Store.ReplaceJob.
func (m *Memory) ReplaceJob(name string, version int, sql, actor string) error {
	return m.do("ReplaceJob", func() error {
		if err := m.mayAdd(name, version); err != nil {
			return err
		}
		if j, ok := m.jobs[name]; ok {
			j.SQL, j.Version, j.UpdatedAt = sql, version, time.Now()
			m.jobs[name] = j
		}
		m.addVersion(Version{Job: name, Version: version, SQL: sql, Actor: actorName(actor)})
		return nil
	})
}

// Versions is as Store.Versions.
func (m *Memory) Versions(job string) (out []Version, err error) {
	return out, m.do("Versions", func() error {
		out = newestFirst(m.versions, func(v Version) bool { return v.Job == job })
		slices.SortStableFunc(out, func(a, b Version) int { return cmp.Compare(b.Version, a.Version) })
		return nil
	})
}

// SetJob is as Store.SetJob.
func (m *Memory) SetJob(name string, fields map[string]any) error {
	return m.do("SetJob", func() error {
		j, ok := m.jobs[name]
		if !ok {
			return nil
		}
		for column, value := range fields {
			switch column {
			case "state":
				j.State = value.(string)
			case "reason":
				j.Reason = value.(string)
			case "wanted":
				j.Wanted = value.(string)
			case "status":
				j.Status = value.(string)
			case "settled":
				j.Settled = value.(bool)
			case "parallelism":
				j.Parallelism = value.(int)
			default:
				return fmt.Errorf("a job has no column %q", column)
			}
		}
		j.UpdatedAt = time.Now()
		m.jobs[name] = j
		return nil
	})
}

// DropJob is as Store.DropJob.
func (m *Memory) DropJob(name string) error {
	return m.do("DropJob", func() error {
		delete(m.jobs, name)
		m.versions = slices.DeleteFunc(m.versions, func(x Version) bool { return x.Job == name })
		m.checkpoints = slices.DeleteFunc(m.checkpoints, func(x Checkpoint) bool { return x.Job == name })
		m.aside = slices.DeleteFunc(m.aside, func(x SetAside) bool { return x.Job == name })
		m.reasons = slices.DeleteFunc(m.reasons, func(x ReasonCount) bool { return x.Job == name })
		m.minutes = slices.DeleteFunc(m.minutes, func(x Minute) bool { return x.Job == name })
		return nil
	})
}

func (m *Memory) checkpointsOf(job string) []Checkpoint {
	out := newestFirst(m.checkpoints, func(c Checkpoint) bool { return c.Job == job })
	slices.SortStableFunc(out, func(a, b Checkpoint) int { return cmp.Compare(b.Number, a.Number) })
	return out
}

// AddCheckpoint is as Store.AddCheckpoint.
func (m *Memory) AddCheckpoint(c *Checkpoint, keep int) (removed []string, err error) {
	return removed, m.do("AddCheckpoint", func() error {
		c.ID = m.next()
		m.checkpoints = append(m.checkpoints, *c)
		if all := m.checkpointsOf(c.Job); len(all) > keep {
			for _, old := range all[keep:] {
				removed = append(removed, old.File)
				m.checkpoints = slices.DeleteFunc(m.checkpoints, func(x Checkpoint) bool { return x.ID == old.ID })
			}
		}
		return nil
	})
}

// Checkpoints is as Store.Checkpoints.
func (m *Memory) Checkpoints(job string) (out []Checkpoint, err error) {
	return out, m.do("Checkpoints", func() error { out = m.checkpointsOf(job); return nil })
}

// DropCheckpoints is as Store.DropCheckpoints.
func (m *Memory) DropCheckpoints(job string) (files []string, err error) {
	return files, m.do("DropCheckpoints", func() error {
		for _, c := range m.checkpoints {
			if c.Job == job {
				files = append(files, c.File)
			}
		}
		m.checkpoints = slices.DeleteFunc(m.checkpoints, func(x Checkpoint) bool { return x.Job == job })
		return nil
	})
}

// AddSetAside is as Store.AddSetAside.
func (m *Memory) AddSetAside(rows []SetAside, most int) error {
	return m.do("AddSetAside", func() error {
		for _, r := range rows {
			r.ID = m.next()
			m.aside = append(m.aside, r)
			same := func(x SetAside) bool { return x.Job == r.Job && x.Kind == r.Kind }
			if all := newestFirst(m.aside, same); len(all) > most {
				last := all[most].ID
				m.aside = slices.DeleteFunc(m.aside, func(x SetAside) bool { return same(x) && x.ID <= last })
			}
		}
		return nil
	})
}

// SetAsides is as Store.SetAsides.
func (m *Memory) SetAsides(l Looking) (out []SetAside, err error) {
	return out, m.do("SetAsides", func() error {
		out = newestFirst(m.aside, func(x SetAside) bool {
			return x.Job == l.Job && (l.Kind == "" || x.Kind == l.Kind) && (l.Step == "" || x.Step == l.Step) && (l.Class == "" || x.Class == l.Class) &&
				(l.Text == "" || strings.Contains(x.Row+" "+x.Reason+" "+x.Origin, l.Text)) && (l.Before == 0 || x.ID < l.Before)
		})
		out = out[:min(len(out), l.Limit)]
		return nil
	})
}

// ForgetAsides is as Store.ForgetAsides.
func (m *Memory) ForgetAsides(match func(x *SetAside) bool) (n int, err error) {
	return n, m.do("ForgetAsides", func() error {
		before := len(m.aside)
		m.aside = slices.DeleteFunc(m.aside, func(x SetAside) bool { return match(&x) })
		n = before - len(m.aside)
		return nil
	})
}

// SetAsideOf is as Store.SetAsideOf.
func (m *Memory) SetAsideOf(id uint) (out *SetAside, err error) {
	return out, m.do("SetAsideOf", func() error {
		if i := slices.IndexFunc(m.aside, func(x SetAside) bool { return x.ID == id }); i >= 0 {
			x := m.aside[i]
			out = &x
		}
		return nil
	})
}

// Sent is as Store.Sent.
func (m *Memory) Sent(id uint, at time.Time, actor string) error {
	return m.do("Sent", func() error {
		if i := slices.IndexFunc(m.aside, func(x SetAside) bool { return x.ID == id }); i >= 0 {
			m.aside[i].SentAt, m.aside[i].SentBy = &at, actorName(actor)
		}
		return nil
	})
}

// AddReasons is as Store.AddReasons.
func (m *Memory) AddReasons(counts []ReasonCount) error {
	return m.do("AddReasons", func() error {
		for _, c := range counts {
			i := slices.IndexFunc(m.reasons, func(x ReasonCount) bool { return x.Job == c.Job && x.Step == c.Step && x.Class == c.Class })
			if i >= 0 {
				m.reasons[i].Count += c.Count
				continue
			}
			c.ID = m.next()
			m.reasons = append(m.reasons, c)
		}
		return nil
	})
}

// Reasons is as Store.Reasons.
func (m *Memory) Reasons(job string) (out []ReasonCount, err error) {
	return out, m.do("Reasons", func() error {
		for _, c := range m.reasons {
			if c.Job == job {
				out = append(out, c)
			}
		}
		slices.SortStableFunc(out, func(a, b ReasonCount) int { return cmp.Compare(b.Count, a.Count) })
		return nil
	})
}

// AddMinutes is as Store.AddMinutes.
func (m *Memory) AddMinutes(points []Minute, before time.Time) error {
	return m.do("AddMinutes", func() error {
		for _, p := range points {
			p.ID = m.next()
			m.minutes = append(m.minutes, p)
		}
		m.minutes = slices.DeleteFunc(m.minutes, func(x Minute) bool { return x.At.Before(before) })
		return nil
	})
}

// Minutes is as Store.Minutes.
func (m *Memory) Minutes(job string, since time.Time) (out []Minute, err error) {
	return out, m.do("Minutes", func() error {
		for _, x := range m.minutes {
			if x.Job == job && !x.At.Before(since) {
				out = append(out, x)
			}
		}
		slices.SortStableFunc(out, func(a, b Minute) int { return a.At.Compare(b.At) })
		return nil
	})
}

// PutSample is as Store.PutSample.
func (m *Memory) PutSample(x *Sample) error {
	return m.do("PutSample", func() error {
		x.ID, x.CreatedAt = m.next(), time.Now()
		kept := *x
		kept.Data = bytes.Clone(x.Data)
		m.samples = append(m.samples, kept)
		return nil
	})
}

// Samples is as Store.Samples.
func (m *Memory) Samples() (out []Sample, err error) {
	return out, m.do("Samples", func() error {
		out = newestFirst(m.samples, func(Sample) bool { return true })
		for i := range out {
			out[i].Data = nil
		}
		return nil
	})
}

// SampleOf is as Store.SampleOf.
func (m *Memory) SampleOf(id uint) (out *Sample, err error) {
	return out, m.do("SampleOf", func() error {
		if i := slices.IndexFunc(m.samples, func(x Sample) bool { return x.ID == id }); i >= 0 {
			x := m.samples[i]
			out = &x
		}
		return nil
	})
}

// DropSample is as Store.DropSample.
func (m *Memory) DropSample(id uint) (there bool, err error) {
	return there, m.do("DropSample", func() error {
		n := len(m.samples)
		m.samples = slices.DeleteFunc(m.samples, func(x Sample) bool { return x.ID == id })
		there = len(m.samples) < n
		return nil
	})
}

// PutOffsets is as Store.PutOffsets.
func (m *Memory) PutOffsets(offsets []GroupOffset) error {
	return m.do("PutOffsets", func() error {
		for _, x := range offsets {
			m.offsets = slices.DeleteFunc(m.offsets, func(o GroupOffset) bool {
				return o.Group == x.Group && o.Topic == x.Topic && o.Partition == x.Partition
			})
			m.offsets = append(m.offsets, x)
		}
		slices.SortFunc(m.offsets, func(a, b GroupOffset) int {
			return cmp.Or(cmp.Compare(a.Group, b.Group), cmp.Compare(a.Topic, b.Topic), cmp.Compare(a.Partition, b.Partition))
		})
		return nil
	})
}

// Offsets is as Store.Offsets.
func (m *Memory) Offsets(group string) (out []GroupOffset, err error) {
	return out, m.do("Offsets", func() error {
		for _, x := range m.offsets {
			if x.Group == group {
				out = append(out, x)
			}
		}
		return nil
	})
}

// GroupNames is as Store.GroupNames.
func (m *Memory) GroupNames() (out []string, err error) {
	return out, m.do("GroupNames", func() error {
		for _, x := range m.offsets {
			if !slices.Contains(out, x.Group) {
				out = append(out, x.Group)
			}
		}
		return nil
	})
}

// DropOffsets is as Store.DropOffsets.
func (m *Memory) DropOffsets(group, topic string) error {
	return m.do("DropOffsets", func() error {
		m.offsets = slices.DeleteFunc(m.offsets, func(o GroupOffset) bool {
			return (group == "" || o.Group == group) && (topic == "" || o.Topic == topic)
		})
		return nil
	})
}

// PutSecret is as Store.PutSecret.
func (m *Memory) PutSecret(name, address string, sealed []byte) error {
	return m.do("PutSecret", func() error {
		m.secrets[name] = Secret{name, bytes.Clone(sealed), address, time.Now()}
		return nil
	})
}

// BindSecret is as Store.BindSecret.
func (m *Memory) BindSecret(name, address string) (bound string, err error) {
	return bound, m.do("BindSecret", func() error {
		x, ok := m.secrets[name]
		if !ok {
			return fmt.Errorf("there is no secret %s", name)
		}
		x.Address = cmp.Or(x.Address, address)
		m.secrets[name] = x
		bound = x.Address
		return nil
	})
}

// SecretNamed is as Store.SecretNamed.
func (m *Memory) SecretNamed(name string) (sealed []byte, err error) {
	return sealed, m.do("SecretNamed", func() error { sealed = m.secrets[name].Sealed; return nil })
}

// Secrets is as Store.Secrets.
func (m *Memory) Secrets() (out []Secret, err error) {
	return out, m.do("Secrets", func() error {
		for _, n := range slices.Sorted(maps.Keys(m.secrets)) {
			x := m.secrets[n]
			x.Sealed = nil
			out = append(out, x)
		}
		return nil
	})
}

// DropSecret is as Store.DropSecret.
func (m *Memory) DropSecret(name string) (there bool, err error) {
	return there, m.do("DropSecret", func() error {
		_, there = m.secrets[name]
		delete(m.secrets, name)
		return nil
	})
}
