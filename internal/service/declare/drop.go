package declare

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/catalog"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
)

func (s *Definitions) prepareDrop(actor string, st *sql.Drop, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	name := st.Name.Text
	made.would(st.Kind, name, "dropped")
	out := Outcome{Kind: st.Kind, Name: name, Done: "dropped"}
	gone := func(context.Context) (Outcome, error) { out.Done = "unchanged"; return out, nil }
	missing := func(have []string) action {
		if st.IfExists {
			return gone
		}
		errs.Add(sql.UnknownName, st.Name.Span, sql.DidYouMean(name, have), "no %s is called %q", st.Kind, name)
		return nil
	}
	switch st.Kind {
	case sql.KindJob:
		if _, err := s.jobs.Named(name); err != nil {
			var have []string
			for _, j := range s.jobs.List() {
				have = append(have, j.Name)
			}
			return missing(have)
		}
		made.dropped[name] = true
		return func(ctx context.Context) (Outcome, error) { return out, s.jobs.Drop(ctx, actor, name) }
	case sql.KindTopic:
		t := s.TopicLog.Topic(name)
		if t == nil {
			var have []string
			for _, t := range s.TopicLog.Topics() {
				have = append(have, t.Name)
			}
			return missing(have)
		}
		if users := s.usersOf(cat, st.Kind, name, made.dropped); len(users) > 0 {
			errs.Add(sql.InUse, st.Name.Span, "drop them first", "the topic %q is used by %s", name, strings.Join(users, ", "))
			return nil
		}
		return func(context.Context) (Outcome, error) {
			info := s.topics.Info(t)
			out.Note = fmt.Sprintf("%d messages, %d bytes deleted", info.Messages, info.Bytes)
			return out, s.DropTopic(actor, name)
		}
	}
	if cat.KindOf(name) != st.Kind {
		var have []string
		for _, d := range s.Defined() {
			if d.Kind == st.Kind {
				have = append(have, d.Name)
			}
		}
		return missing(have)
	}
	if users := s.usersOf(cat, st.Kind, name, made.dropped); len(users) > 0 {
		errs.Add(sql.InUse, st.Name.Span, "drop it first", "the %s %q is used by %s", st.Kind, name, strings.Join(users, ", "))
		return nil
	}
	cat.Remove(name)
	return func(context.Context) (Outcome, error) {
		s.defining.Lock()
		defer s.defining.Unlock()
		if err := s.Store.DropDefinition(name); err != nil {
			return out, err
		}
		next := s.Current().Clone() // others may be reading the one there is
		next.Remove(name)
		s.Define(next, slices.DeleteFunc(slices.Clone(s.Defined()), func(d catalog.Definition) bool { return d.Name == name }))
		s.Note(actor, "dropped", st.Kind+" "+name, "")
		return out, nil
	}
}

// DropTopic deletes a topic and its data, unless a job uses it.
func (s *Definitions) DropTopic(actor, name string) error {
	if _, err := s.topics.Named(name); err != nil {
		return err
	}
	if users := s.usersOf(nil, sql.KindTopic, name, nil); len(users) > 0 {
		return base.Errorf(base.ErrConflict, "the topic '%s' is used by %s", name, users[0])
	}
	if err := s.TopicLog.Drop(name); err != nil {
		return err
	}
	if err := s.Store.DropOffsets("", name); err != nil { // they would be those of another topic of the name
		return err
	}
	s.Note(actor, "dropped", "topic "+name, "")
	return nil
}
