package nats

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/outbox"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// mostSending are the messages that are under way at a time.
const mostSending = 1000

// sender implements outbox.Sender.
type sender struct {
	e      *plan.Endpoint
	access contract.Secrets
	conn   *nats.Conn
	js     jetstream.JetStream
}

// Send implements outbox.Sender.
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, no map[int]string, err error) {
	if s.conn == nil {
		if s.conn, s.js, err = connect(s.e, s.access, func() {}); err != nil {
			return 0, nil, err
		}
	}
	if !s.conn.IsConnected() {
		return 0, nil, errors.New("the server is away")
	}
	no = map[int]string{}
	for some := range slices.Chunk(messages, mostSending) {
		n, err := s.send(ctx, some, func(i int, why string) { no[done+i] = why })
		done += n
		if err != nil {
			return done, no, err
		}
	}
	return done, no, nil
}

func (s *sender) send(ctx context.Context, messages []outbox.Message, refuse func(i int, why string)) (int, error) {
	futures := make([]jetstream.PubAckFuture, len(messages))
	for i, m := range messages {
		if strings.ContainsAny(m.Address, "*> \t\r\n\x00") || within(m.Address) != nil {
			refuse(i, fmt.Sprintf("%q is no subject to send to", m.Address))
			continue
		}
		msg := nats.NewMsg(m.Address)
		msg.Data = m.Body
		format.EachHeader(m.Headers, func(name, value []byte) { msg.Header.Add(string(name), string(value)) })
		msg.Header.Set(jetstream.MsgIDHeader, m.ID)
		var err error
		if futures[i], err = s.js.PublishMsgAsync(msg, jetstream.WithRetryAttempts(0)); err != nil {
			return 0, err // what was sent before is dropped as a repeat
		}
	}
	within := time.After(2 * mayAnswer)
	for i, f := range futures {
		if f == nil {
			continue
		}
		select {
		case <-f.Ok():
		case err := <-f.Err():
			if errors.Is(err, jetstream.ErrNoStreamResponse) || errors.Is(err, nats.ErrNoResponders) {
				err = fmt.Errorf("no stream of the server keeps the subject '%s'", messages[i].Address)
			}
			return i, err
		case <-within:
			return i, fmt.Errorf("the server does not confirm within %s", 2*mayAnswer)
		case <-ctx.Done():
			return i, ctx.Err()
		}
	}
	return len(messages), nil
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	if s.conn != nil {
		s.conn.Close()
	}
	return nil
}
