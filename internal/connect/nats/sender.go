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
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, err error) {
	if s.conn == nil {
		if s.conn, s.js, err = connect(s.e, s.access, func() {}); err != nil {
			return 0, err
		}
	}
	if !s.conn.IsConnected() {
		return 0, errors.New("the server is away")
	}
	for some := range slices.Chunk(messages, mostSending) {
		n, err := s.send(ctx, some)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

func (s *sender) send(ctx context.Context, messages []outbox.Message) (int, error) {
	var futures []jetstream.PubAckFuture
	var failed error
	for _, m := range messages {
		if strings.ContainsAny(m.Address, "*> \t\r\n\x00") || within(m.Address) != nil {
			failed = &outbox.Refusal{Reason: fmt.Sprintf("%q is no subject to send to", m.Address)}
			break
		}
		msg := nats.NewMsg(m.Address)
		msg.Data = m.Body
		format.EachHeader(m.Headers, func(name, value []byte) { msg.Header.Add(string(name), string(value)) })
		msg.Header.Set(jetstream.MsgIDHeader, m.ID)
		f, err := s.js.PublishMsgAsync(msg, jetstream.WithRetryAttempts(0))
		if err != nil {
			failed = err
			break
		}
		futures = append(futures, f)
	}
	within := time.After(2 * mayAnswer)
	for i, f := range futures {
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
	return len(futures), failed
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	if s.conn != nil {
		s.conn.Close()
	}
	return nil
}
