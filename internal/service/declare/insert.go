package declare

import (
	"context"
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/topiclog"
)

// prepareInsert checks INSERT INTO … VALUES, and gives what appends its rows to the topic.
func (s *Definitions) prepareInsert(actor string, st *sql.Insert, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	in := cat.Insert(st, errs)
	if in == nil {
		return nil
	}
	topic := in.Stream.Address
	created := slices.ContainsFunc(made.preview, func(o Outcome) bool { return o.Kind == sql.KindTopic && o.Name == topic })
	if s.TopicLog.Topic(topic) == nil && !created {
		errs.Add(sql.UnknownName, st.Into.Span, fmt.Sprintf("CREATE TOPIC '%s' first", topic), "the %s %q is read from the topic '%s', which is not there", in.Kind, st.Into.Text, topic)
		return nil
	}
	recs, err := s.messagesOf(in)
	if err != nil {
		errs.Add(sql.WrongType, st.Into.Span, "", "%s", err)
		return nil
	}
	rows := fmt.Sprintf("%d rows to the topic '%s'", len(recs), topic)
	if len(recs) == 1 {
		rows = fmt.Sprintf("1 row to the topic '%s'", topic)
	}
	made.wouldNote(in.Kind, st.Into.Text, "written", rows)
	return func(context.Context) (Outcome, error) {
		if _, err := s.topics.Write(topic, "", recs); err != nil {
			return Outcome{}, err
		}
		s.Note(actor, "wrote", in.Kind+" "+st.Into.Text, rows)
		return Outcome{Kind: in.Kind, Name: st.Into.Text, Done: "written", Note: rows}, nil
	}
}

// messagesOf writes rows as messages of their stream, and sees to it that each is read as the row it was.
func (s *Definitions) messagesOf(in *plan.Insertion) ([]topiclog.Record, error) {
	reading, err := s.Env().ReadingOf(in.Stream, nil, &plan.Use{All: true})
	if err != nil {
		return nil, err
	}
	w := &format.Writing{Options: in.Stream.Options, Address: in.Stream.Address, Fields: in.Stream.Columns, Schemas: reading.Schemas}
	enc, err := w.NewEncoder()
	if err != nil {
		return nil, err
	}
	dec, err := reading.NewDecoder(nil)
	if err != nil {
		return nil, err
	}
	var recs []topiclog.Record
	for i := range in.Rows.N {
		r := topiclog.Record{Value: enc.Append(nil, in.Rows, i)}
		for k, c := range in.Key {
			if k > 0 {
				r.Key = append(r.Key, '|')
			}
			if c >= 0 {
				r.Key = types.AppendText(r.Key, in.Rows.Cols[c].Value(i))
			}
		}
		var read column.Batch
		if rejects := dec.Decode(r.Value, []flow.Message{{Len: uint32(len(r.Value))}}, &read); len(rejects) > 0 {
			return nil, fmt.Errorf("row %d would be rejected when it is read: %s", i+1, rejects[0].Reason)
		}
		for c, f := range in.Stream.Columns {
			text := func(b *column.Batch, row int) string {
				return string(types.AppendJSON(nil, b.Cols[c].Value(row), f.Type))
			}
			if was, is := text(in.Rows, i), text(&read, 0); was != is {
				return nil, fmt.Errorf("row %d would not be read as it is written: in this format the column %q is %s, and is read as %s", i+1, f.Name, was, is)
			}
		}
		recs = append(recs, r)
	}
	return recs, nil
}
