package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"strconv"
	"time"

	"fiume/internal/api"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/advice"
	"fiume/internal/service/alerts"
	"fiume/internal/service/boards"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
)

// Check finds the errors of a text, and says how its queries and jobs would run.
func (c *Client) Check(ctx context.Context, in api.ScriptRequest) (out *declare.Checked, err error) {
	return out, c.call(ctx, "POST", "/api/check", in, &out)
}

// Format lays a text out.
func (c *Client) Format(ctx context.Context, in api.ScriptRequest) (string, error) {
	var out api.Formatted
	err := c.call(ctx, "POST", "/api/format", in, &out)
	return out.SQL, err
}

// Words gives the words of the language, and the names there are.
func (c *Client) Words(ctx context.Context) (out *declare.Words, err error) {
	return out, c.call(ctx, "GET", "/api/words", nil, &out)
}

// Patterns gives texts to begin from, over a stream and columns that are chosen.
func (c *Client) Patterns(ctx context.Context, choice declare.PatternChoice) (out *declare.Patterns, err error) {
	q := url.Values{"stream": {choice.Stream}, "key": {choice.Key}, "number": {choice.Number}, "with": {choice.With}}
	return out, c.call(ctx, "GET", "/api/patterns?"+q.Encode(), nil, &out)
}

// Functions gives the catalogue of functions.
func (c *Client) Functions(ctx context.Context) ([]plan.FunctionEntry, error) {
	return pages[plan.FunctionEntry](ctx, c, "/api/functions", nil)
}

// Places gives the kinds of places that can be declared over, with their options.
func (c *Client) Places(ctx context.Context) ([]plan.PlaceEntry, error) {
	return pages[plan.PlaceEntry](ctx, c, "/api/places", nil)
}

// Definitions gives what has been declared; kind "" means all.
func (c *Client) Definitions(ctx context.Context, kind string) ([]declare.Definition, error) {
	return pages[declare.Definition](ctx, c, "/api/definitions", url.Values{"kind": {kind}})
}

// Definition tells all about something declared.
func (c *Client) Definition(ctx context.Context, name string) (out *declare.DefinitionDetail, err error) {
	return out, c.call(ctx, "GET", "/api/definitions/"+url.PathEscape(name), nil, &out)
}

// Rows gives rows of a stream, table or view.
func (c *Client) Rows(ctx context.Context, name string, limit int) (out *questions.TryResult, err error) {
	return out, c.call(ctx, "GET", fmt.Sprintf("/api/definitions/%s/rows?limit=%d", url.PathEscape(name), limit), nil, &out)
}

// Present gives the rows of a step of a running job as they stand, of those whose columns have some values, each as column=value.
func (c *Client) Present(ctx context.Context, job, step string, where []string, limit int) (out *jobs.Present, err error) {
	q := url.Values{"where": where, "limit": {strconv.Itoa(limit)}}
	return out, c.call(ctx, "GET", fmt.Sprintf("/api/jobs/%s/steps/%s/rows?%s", url.PathEscape(job), url.PathEscape(step), q.Encode()), nil, &out)
}

// Try runs a text over samples and what streams hold, and keeps nothing.
func (c *Client) Try(ctx context.Context, in questions.TryRequest) (out *questions.TryResult, err error) {
	return out, c.call(ctx, "POST", "/api/try", in, &out)
}

// KeepTry makes a test of a text that was tried: a ZIP file.
func (c *Client) KeepTry(ctx context.Context, in api.KeepTryRequest) ([]byte, error) {
	return c.file(ctx, "POST", "/api/try/test", in)
}

// File makes a file of rows.
func (c *Client) File(ctx context.Context, in api.FileRequest) ([]byte, error) {
	return c.file(ctx, "POST", "/api/file", in)
}

func (c *Client) file(ctx context.Context, method, path string, in any) ([]byte, error) {
	resp, err := c.do(ctx, method, path, in)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(resp.Body)
}

// KeepSample keeps a sample.
func (c *Client) KeepSample(ctx context.Context, in samples.SampleRequest) (out *samples.SampleDetail, err error) {
	return out, c.call(ctx, "POST", "/api/samples", in, &out)
}

// Samples gives all samples, the newest first.
func (c *Client) Samples(ctx context.Context) ([]samples.SampleInfo, error) {
	return pages[samples.SampleInfo](ctx, c, "/api/samples", nil)
}

// Sample gives a sample with its first messages.
func (c *Client) Sample(ctx context.Context, id uint) (out *samples.SampleDetail, err error) {
	return out, c.call(ctx, "GET", fmt.Sprintf("/api/samples/%d", id), nil, &out)
}

// DropSample forgets a sample.
func (c *Client) DropSample(ctx context.Context, id uint) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/api/samples/%d", id), nil, nil)
}

// Propose proposes a declaration.
func (c *Client) Propose(ctx context.Context, in samples.SampleRequest) (out *samples.Proposal, err error) {
	return out, c.call(ctx, "POST", "/api/propose", in, &out)
}

// Drift says how the newest messages of a stream differ from its declaration.
func (c *Client) Drift(ctx context.Context, stream string) (out *samples.Drift, err error) {
	return out, c.call(ctx, "GET", "/api/streams/"+url.PathEscape(stream)+"/drift", nil, &out)
}

// Drifts gives the streams whose messages were last seen to differ.
func (c *Client) Drifts(ctx context.Context) ([]samples.Drift, error) {
	return pages[samples.Drift](ctx, c, "/api/drifts", nil)
}

// Connections tests sources, sinks and endpoints: those of a text, or of given names, or all.
func (c *Client) Connections(ctx context.Context, text string, params map[string]string, names []string) (out []questions.Connection, err error) {
	return out, c.call(ctx, "POST", "/api/connections", map[string]any{"sql": text, "params": params, "names": names}, &out)
}

// Advice gives what in the running service wants somebody; deep also looks at how late rows are.
func (c *Client) Advice(ctx context.Context, deep bool) (out []advice.Finding, err error) {
	return pages[advice.Finding](ctx, c, "/api/advice", url.Values{"deep": {fmt.Sprint(deep)}})
}

// Alerts gives all alerts, those that give an alarm first.
func (c *Client) Alerts(ctx context.Context) ([]alerts.Alert, error) {
	return pages[alerts.Alert](ctx, c, "/api/alerts", nil)
}

// Alert gives an alert.
func (c *Client) Alert(ctx context.Context, name string) (out *alerts.Alert, err error) {
	return out, c.call(ctx, "GET", "/api/alerts/"+url.PathEscape(name), nil, &out)
}

// SilenceAlert keeps an alert, or a part of it, from telling sinks that it begins; long 0 ends that.
func (c *Client) SilenceAlert(ctx context.Context, name, of string, long time.Duration, why string) (out *alerts.Alert, err error) {
	return out, c.call(ctx, "PUT", "/api/alerts/"+url.PathEscape(name)+"/silence", map[string]any{"of": of, "seconds": int64(long.Seconds()), "why": why}, &out)
}

// TellAlerts says which sinks are told of the alerts that every service has.
func (c *Client) TellAlerts(ctx context.Context, sinks []string) error {
	return c.call(ctx, "PUT", "/api/alerts-told", map[string]any{"sinks": append([]string{}, sinks...)}, nil)
}

// AlertNotices gives what sinks are still to be told.
func (c *Client) AlertNotices(ctx context.Context) ([]alerts.Notice, error) {
	return pages[alerts.Notice](ctx, c, "/api/alert-notices", nil)
}

// Look gives what lies at an address behind an endpoint, or, without one, in the directories for files.
func (c *Client) Look(ctx context.Context, via, address string) (out *contract.Browsed, err error) {
	return out, c.call(ctx, "GET", "/api/look?"+url.Values{"via": {via}, "address": {address}}.Encode(), nil, &out)
}

// History gives what a job did over so many minutes.
func (c *Client) History(ctx context.Context, job string, minutes int) (out *jobs.History, err error) {
	return out, c.call(ctx, "GET", fmt.Sprintf("/api/jobs/%s/history?minutes=%d", url.PathEscape(job), minutes), nil, &out)
}

// SetAside gives late and rejected rows of a job. query holds the parameters of the call.
func (c *Client) SetAside(ctx context.Context, job string, query url.Values) (out *jobs.Aside, err error) {
	return out, c.call(ctx, "GET", "/api/jobs/"+url.PathEscape(job)+"/aside?"+query.Encode(), nil, &out)
}

// SetAsideFile gives late and rejected rows of a job as a file.
func (c *Client) SetAsideFile(ctx context.Context, job string, query url.Values) ([]byte, error) {
	return c.file(ctx, "GET", "/api/jobs/"+url.PathEscape(job)+"/aside/file?"+query.Encode(), nil)
}

// SendAgain writes a mended message to the topic that a rejected row came from.
func (c *Client) SendAgain(ctx context.Context, job string, id uint, value string, onceMore bool) (out *jobs.SentAgain, err error) {
	return out, c.call(ctx, "POST", fmt.Sprintf("/api/jobs/%s/aside/%d/send", url.PathEscape(job), id), api.SendRequest{Value: value, OnceMore: onceMore}, &out)
}

// Why says which messages made a row of a sink.
func (c *Client) Why(ctx context.Context, job, sink string, row json.RawMessage) (out *questions.Why, err error) {
	return out, c.call(ctx, "POST", "/api/jobs/"+url.PathEscape(job)+"/why", api.WhyRequest{Sink: sink, Row: row}, &out)
}

// Became says what became of a message in a job.
func (c *Client) Became(ctx context.Context, job, topic string, partition int, offset int64) (out *questions.Became, err error) {
	q := url.Values{"topic": {topic}, "partition": {fmt.Sprint(partition)}, "offset": {fmt.Sprint(offset)}}
	return out, c.call(ctx, "GET", "/api/jobs/"+url.PathEscape(job)+"/became?"+q.Encode(), nil, &out)
}

// Follow gives the messages of a topic as they come, until the context ends.
func (c *Client) Follow(ctx context.Context, topic string, query url.Values, each func(api.Followed) error) error {
	resp, err := c.do(ctx, "GET", "/api/topics/"+url.PathEscape(topic)+"/follow?"+query.Encode(), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	err = eachEvent(resp.Body, func(name string, data []byte) error {
		switch name {
		case "messages":
			var f api.Followed
			if err := json.Unmarshal(data, &f); err != nil {
				return err
			}
			return each(f)
		case "problem":
			p := &api.Problem{}
			if err := json.Unmarshal(data, p); err != nil {
				return err
			}
			return p
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil
	}
	if err == nil {
		err = errors.New("the service ended the connection")
	}
	return err
}

// Boards lists the boards.
func (c *Client) Boards(ctx context.Context) ([]boards.Board, error) {
	return pages[boards.Board](ctx, c, "/api/boards", nil)
}

// Board gives a board.
func (c *Client) Board(ctx context.Context, name string) (out *boards.Board, err error) {
	return out, c.call(ctx, "GET", "/api/boards/"+url.PathEscape(name), nil, &out)
}

// BoardRows gives the rows of a panel as they stand; its query may take so many seconds to come to them. View is the call's query, which says how one looks at
// the board: choose=name=value, since, from and to.
func (c *Client) BoardRows(ctx context.Context, name string, panel int, view url.Values, wait int) (out *boards.Update, err error) {
	q := maps.Clone(view)
	if q == nil {
		q = url.Values{}
	}
	q.Set("wait", strconv.Itoa(wait))
	return out, c.call(ctx, "GET", fmt.Sprintf("/api/boards/%s/panels/%d/rows?%s", url.PathEscape(name), panel, q.Encode()), nil, &out)
}

// WatchBoard tells what a board is, and again whenever it has been replaced, what it shows, and what changes, until the context ends. View is as for BoardRows.
func (c *Client) WatchBoard(ctx context.Context, name string, view url.Values, begun func(*boards.Board) error, each func(boards.Update) error) error {
	resp, err := c.do(ctx, "GET", "/api/boards/"+url.PathEscape(name)+"/live?"+view.Encode(), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	err = eachEvent(resp.Body, func(event string, data []byte) error {
		switch event {
		case "board":
			var b boards.Board
			if err := json.Unmarshal(data, &b); err != nil {
				return err
			}
			return begun(&b)
		case "update":
			var u boards.Update
			if err := json.Unmarshal(data, &u); err != nil {
				return err
			}
			return each(u)
		case "problem":
			var p api.Problem
			if err := json.Unmarshal(data, &p); err != nil {
				return err
			}
			return &p
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil
	}
	if err == nil {
		err = errors.New("the service ended the connection")
	}
	return err
}

// BoardDraft gives the text and the parts of a board that is being changed, of one of both.
func (c *Client) BoardDraft(ctx context.Context, id, text string, parts *sql.BoardParts) (out *boards.Draft, err error) {
	return out, c.call(ctx, "PUT", "/api/board-drafts/"+url.PathEscape(id), map[string]any{"sql": text, "parts": parts}, &out)
}
