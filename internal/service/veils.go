package service

import (
	"context"

	"fiume/internal/catalog"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/sensitive"
	"fiume/internal/service/topics"
)

// JobVeil gives what hides the rows of a job from the caller of a context; nil: nothing is hidden.
func (s *Service) JobVeil(ctx context.Context, job string) (*sensitive.Veil, error) {
	return s.Questions.OfJob(ctx, job)
}

// TopicVeil gives what hides the messages of a topic from the caller of a context; nil: nothing is hidden.
func (s *Service) TopicVeil(ctx context.Context, topic string) *sensitive.Veil {
	return sensitive.OfTopic(ctx, s.base, topic)
}

// ReadingFor is what a caller may ask for of a topic: where its messages are masked, they are not looked for by what is hidden.
func (s *Service) ReadingFor(ctx context.Context, topic string, r topics.Reading) (*sensitive.Veil, error) {
	veil := s.TopicVeil(ctx, topic)
	if veil != nil && (r.Key != "" || r.Text != "") {
		return nil, base.Errorf(base.ErrDenied, "the topic '%s' has sensitive columns (%s): it is searched by key and text by those alone who may see them, and %s", topic, veil.Columns(),
			access.From(ctx).Missing(access.Disclose, access.SpaceOf(topic)))
	}
	return veil, nil
}

// SetAside gives late and rejected rows of a job, as the caller may see them.
func (s *Service) SetAside(ctx context.Context, l catalog.Looking) (*jobs.Aside, error) {
	veil, err := s.JobVeil(ctx, l.Job)
	if err != nil {
		return nil, err
	}
	if veil != nil && l.Text != "" {
		return nil, base.Errorf(base.ErrDenied, "the job %s has sensitive columns (%s): its rows are searched by text by those alone who may see them, and %s", l.Job, veil.Columns(),
			access.From(ctx).Missing(access.Disclose, access.SpaceOf(l.Job)))
	}
	out, err := s.Jobs.SetAside(l)
	if err != nil {
		return nil, err
	}
	for i := range out.Rows {
		x := &out.Rows[i]
		x.Row, x.Reason = veil.Text(x.Row), veil.Reason(x.Reason)
	}
	return out, nil
}

// Present gives the rows of a step of a job as they stand, as the caller may see them.
func (s *Service) Present(ctx context.Context, job, step string, where map[string]string, limit int) (*jobs.Present, error) {
	veil, err := s.JobVeil(ctx, job)
	if err != nil {
		return nil, err
	}
	for column := range where {
		if veil.Hides(column) {
			return nil, base.Errorf(base.ErrDenied, "%s is sensitive: rows are looked for by it by those alone who may see it, and %s", sql.Quoted(column), access.From(ctx).Missing(access.Disclose, access.SpaceOf(job)))
		}
	}
	p, err := s.Jobs.Present(ctx, job, step, where, limit)
	if err != nil {
		return nil, err
	}
	veil.Mark(p.Columns)
	for i := range p.Rows {
		p.Rows[i] = veil.Row(p.Rows[i])
	}
	return p, nil
}
