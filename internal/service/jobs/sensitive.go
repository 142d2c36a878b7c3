package jobs

import (
	"fiume/internal/core/plan"
)

// mark notes of the topics that the job writes to which sensitive columns their messages will have: that stays when the job has gone.
func (j *Job) mark(p *plan.Plan) error {
	for _, o := range p.Outputs() {
		columns := p.SensitiveColumns(o)
		if o.Sink == nil || len(columns) == 0 {
			continue
		}
		if o.Sink.OwnTopics {
			if err := j.s.Mark(o.Sink.Address, columns); err != nil {
				return err
			}
		}
		if aside := o.Sink.Options.Word("aside", ""); aside != "" && j.s.TopicLog.Topic(aside) != nil {
			if err := j.s.Mark(aside, asideColumns(columns)); err != nil {
				return err
			}
		}
	}
	return nil
}

// asideColumns are those of what a place refused of rows that have sensitive columns.
func asideColumns(rows []plan.SensitiveColumn) (out []plan.SensitiveColumn) {
	for _, c := range rows {
		for _, n := range []string{"reason", "path", "body"} {
			out = append(out, plan.SensitiveColumn{Name: n, From: c.From})
		}
	}
	return out
}

// sensitiveSinks are the sinks of a job's text that get sensitive columns.
type sensitiveSinks struct {
	cat   *plan.Catalog // that it was bound to
	text  string
	sinks []sensitiveSink
}

type sensitiveSink struct {
	sink    *plan.Sink
	columns []plan.SensitiveColumn
}

// written gives the sensitive columns that jobs write to a place.
func (s *Jobs) written(kind, via, address string) (out []plan.SensitiveColumn) {
	cat := s.Current()
	for _, j := range s.All() {
		for _, x := range j.sensitiveIn(cat) {
			if x.sink.At(kind, via, address) {
				out = append(out, x.columns...)
			}
		}
	}
	return out
}

// sensitiveIn gives the sinks of the job that get sensitive columns; the plan is made anew where something has changed.
func (j *Job) sensitiveIn(cat *plan.Catalog) []sensitiveSink {
	text := j.Text()
	if k := j.sensitive.Load(); k != nil && k.cat == cat && k.text == text {
		return k.sinks
	}
	k := &sensitiveSinks{cat: cat, text: text}
	if p, err := PlanIn(cat, text); err == nil {
		for _, o := range p.Outputs() {
			if columns := p.SensitiveColumns(o); o.Sink != nil && len(columns) > 0 {
				k.sinks = append(k.sinks, sensitiveSink{o.Sink, columns})
			}
		}
	}
	j.sensitive.Store(k)
	return k.sinks
}
