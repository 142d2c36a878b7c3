package samples

import (
	"context"

	"fiume/internal/catalog"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/sensitive"
)

// mayRead says whether the caller of a context may read a sample: it is his, or stands in a space where he may read rows.
func mayRead(ctx context.Context, row *catalog.Sample) bool {
	c := access.From(ctx)
	return c.In(access.Read, row.Space) || c.Name == row.Owner && row.Owner != ""
}

// sensitiveIn gives the sensitive columns of what a sample is made of.
func (s *Samples) sensitiveIn(r SampleRequest) []plan.SensitiveColumn {
	switch e := s.Current().Endpoints[r.Via]; {
	case r.Data != nil:
	case r.Topic != "":
		return s.SensitiveAt("topic", "", r.Topic)
	case r.Table != "" && e != nil:
		return s.SensitiveAt(e.Place, r.Via, r.Table)
	case r.File != "":
		return s.SensitiveAt("files", "", r.File)
	}
	return nil
}

// veilOf gives what hides what a sample is made of from the caller of a context.
func (s *Samples) veilOf(ctx context.Context, r SampleRequest) *sensitive.Veil {
	return sensitive.OfColumns(ctx, s.Base, s.sensitiveIn(r))
}

func ownerOf(ctx context.Context) string {
	if c := access.From(ctx); c != nil {
		return base.ClipText(c.Name, 100)
	}
	return ""
}

// spaceFor gives the space that a sample will stand in, where its caller may take what it is made of.
func (s *Samples) spaceFor(ctx context.Context, r SampleRequest) (string, error) {
	c := access.From(ctx)
	space := r.Space
	switch {
	case space != "":
	case r.Topic != "":
		space = access.SpaceOf(r.Topic)
	case r.Via != "":
		space = access.SpaceOf(r.Via)
	}
	if c.Everywhere(access.Develop) {
		return space, nil
	}
	if spaces := c.Spaces(access.Develop); !c.In(access.Develop, space) && r.Space == "" && len(spaces) > 0 {
		space = spaces[0] // what is granted to it
	}
	if !c.In(access.Develop, space) {
		return "", base.Errorf(base.ErrDenied, "%s", c.Missing(access.Develop, space))
	}
	switch {
	case r.Data != nil:
	case r.File != "":
		return space, s.mayReach(ctx, "", r.File)
	case r.Topic != "":
		if !c.May(access.Read, sql.KindTopic, r.Topic) {
			return "", base.Errorf(base.ErrNotFound, "there is no topic %q", r.Topic)
		}
	case r.Table != "":
		return space, s.mayReach(ctx, r.Via, r.Table)
	}
	return space, nil
}

// mayReach says whether the caller of a context may look at what lies behind an endpoint, or, without one, below a directory for files.
func (s *Samples) mayReach(ctx context.Context, via, address string) error {
	c := access.From(ctx)
	if c.Everywhere(access.Develop) {
		return nil
	}
	kind, name := sql.KindEndpoint, via
	if via == "" {
		if kind, name = "files", s.Files.Root(address); name == "" || address == "" {
			return base.Errorf(base.ErrDenied, "%q lies below no directory for files that is granted to a space of yours; name one, such as that of --files NAME=DIR", address)
		}
	}
	if via != "" && c.In(access.Develop, access.SpaceOf(via)) {
		return nil
	}
	for _, space := range c.Spaces(access.Develop) {
		if c.Shared != nil && c.Shared(kind, name, space) {
			return nil
		}
	}
	if via != "" {
		return base.Errorf(base.ErrNotFound, "no endpoint is called %q", via)
	}
	return base.Errorf(base.ErrDenied, "the directory for files %s is granted to no space of yours; ask an administrator: fiume grant files %s --to SPACE", name, name)
}
