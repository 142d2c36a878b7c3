package broker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

// topicsOf gives the topics of an address, which may be a pattern, with their partitions. One that is not there is an error which names others.
func topicsOf(ctx context.Context, c *kgo.Client, e *plan.Endpoint, address string) (map[string][]int32, error) {
	admin := kadm.NewClient(c)
	pattern := strings.Contains(address, "*")
	var found kadm.TopicDetails
	var err error
	if pattern {
		found, err = admin.ListTopics(ctx)
	} else {
		found, err = admin.ListTopics(ctx, address)
	}
	if err != nil {
		return nil, said(e, err)
	}
	out := map[string][]int32{}
	if pattern {
		fits := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(address), `\*`, ".*") + "$")
		for n, t := range found {
			if fits.MatchString(n) && !t.IsInternal && t.Err == nil {
				out[n] = t.Partitions.Numbers()
			}
		}
		return out, nil
	}
	t := found[address]
	switch {
	case errors.Is(t.Err, kerr.UnknownTopicOrPartition) || t.Err == nil && len(t.Partitions) == 0:
		all, _ := admin.ListTopics(ctx)
		names := slices.Sorted(maps.Keys(all))
		hint := sql.Suggest(address, names)
		if hint != "" {
			hint = fmt.Sprintf("; did you mean '%s'?", hint)
		} else if len(names) > 0 {
			hint = "; there are " + strings.Join(names[:min(len(names), 12)], ", ")
		}
		return nil, &wrapped{fmt.Sprintf("endpoint %s: the brokers have no topic '%s'%s", e.Name, address, hint), kerr.UnknownTopicOrPartition}
	case t.Err != nil:
		return nil, said(e, fmt.Errorf("the topic '%s': %w", address, t.Err))
	}
	out[address] = t.Partitions.Numbers()
	return out, nil
}

// List implements contract.Lister.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) ([]string, error) {
	c, err := reached(ctx, via, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	all, err := kadm.NewClient(c).ListTopics(ctx)
	return slices.Sorted(maps.Keys(all)), said(via, err)
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e, topic := of.Endpoint, ""
	switch {
	case of.Stream != nil:
		e, topic = of.Stream.Via, of.Stream.Address
	case of.Sink != nil:
		e, topic = of.Sink.Via, of.Sink.Address
	}
	ctx, cancel := context.WithTimeout(ctx, 2*mayAnswer)
	defer cancel()
	c, err := reached(ctx, e, env.Secrets)
	if err != nil && (errors.Is(err, kerr.SaslAuthenticationFailed) || errors.Is(err, kerr.UnsupportedSaslMechanism)) {
		r.Saw("reachable", nil, "a broker answers")
		r.Saw("allowed", err, "")
		return
	}
	if !r.Saw("reachable", err, "a broker answers") {
		return
	}
	defer c.Close()
	if a, _ := parseAddress(e.Address); a.user != "" {
		r.Saw("allowed", nil, "it lets us in as "+a.user)
	}
	if topic == "" {
		return
	}
	found, err := topicsOf(ctx, c, e, topic)
	partitions := 0
	for _, p := range found {
		partitions += len(p)
	}
	if !r.Saw("exists", err, fmt.Sprintf("%d topic(s), %d partition(s)", len(found), partitions)) {
		return
	}
	if of.Output != nil {
		r.Saw("columns fit", x.CheckSink(ctx, env, of.Output), "the rows can be written")
	}
	if of.Stream != nil {
		const looked = 20
		ms, err := newest(ctx, env, e, found, looked)
		r.SawRows(env, of, ms, err)
	}
}

// Sample implements contract.Sampler: the newest messages.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	c, err := reached(ctx, w.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	found, err := topicsOf(ctx, c, w.Via, w.Address)
	c.Close()
	if err != nil {
		return nil, err
	}
	ms, err := newest(ctx, env, w.Via, found, w.Limit)
	if err != nil {
		return nil, err
	}
	if len(ms) == 0 {
		return nil, fmt.Errorf("the topic '%s' has no messages", w.Address)
	}
	size := 0
	for i, m := range ms {
		if size += len(m.Value); size > w.Bytes {
			ms = ms[:i+1]
			break
		}
	}
	return &contract.Sample{Origin: fmt.Sprintf("topic %s via %s", w.Address, w.Via.Name), Name: w.Address, Format: recorded.FormatOf(ms), Messages: ms}, nil
}

// newest gives the newest messages of topics, about so many in all, in the order of their partitions.
func newest(ctx context.Context, env *contract.Env, e *plan.Endpoint, found map[string][]int32, many int) ([]recorded.Message, error) {
	c, err := client(e, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	names := slices.Sorted(maps.Keys(found))
	admin := kadm.NewClient(c)
	starts, err := admin.ListStartOffsets(ctx, names...)
	if err != nil {
		return nil, said(e, err)
	}
	ends, err := admin.ListCommittedOffsets(ctx, names...)
	if err != nil {
		return nil, said(e, err)
	}
	partitions := 0
	for _, p := range found {
		partitions += len(p)
	}
	each := max(1, many/max(1, partitions))
	at := map[string]map[int32]kgo.Offset{}
	until := map[string]map[int32]int64{}
	waits := 0
	ends.Each(func(o kadm.ListedOffset) {
		first, _ := starts.Lookup(o.Topic, o.Partition)
		if o.Err != nil || o.Offset <= first.Offset {
			return
		}
		if at[o.Topic] == nil {
			at[o.Topic], until[o.Topic] = map[int32]kgo.Offset{}, map[int32]int64{}
		}
		at[o.Topic][o.Partition] = kgo.NewOffset().At(max(first.Offset, o.Offset-int64(each)))
		until[o.Topic][o.Partition] = o.Offset
		waits++
	})
	if waits == 0 {
		return nil, nil
	}
	reader, err := client(e, env.Secrets, kgo.ConsumePartitions(at), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(), kgo.FetchMaxWait(500*time.Millisecond))
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	number := map[string]int{} // partitions of several topics are told apart
	for i, n := range names {
		number[n] = i * 10_000
	}
	var out []recorded.Message
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	for waits > 0 {
		fetched := reader.PollFetches(ctx)
		if ctx.Err() != nil {
			break // what is there is enough
		}
		for _, x := range fetched.Errors() {
			return nil, said(e, x.Err)
		}
		fetched.EachRecord(func(r *kgo.Record) {
			end := until[r.Topic][r.Partition]
			if !r.Attrs.IsControl() && r.Offset < end {
				out = append(out, recorded.Message{Partition: number[r.Topic] + int(r.Partition), Offset: r.Offset, At: r.Timestamp.UnixMicro(), Key: r.Key, Value: r.Value})
			}
			if end > 0 && r.Offset >= end-1 {
				waits--
				delete(until[r.Topic], r.Partition)
			}
		})
	}
	slices.SortStableFunc(out, func(a, b recorded.Message) int { return a.Partition - b.Partition })
	return out, nil
}
