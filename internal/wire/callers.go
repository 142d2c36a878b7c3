package wire

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// Clients show who they are with SASL PLAIN (RFC 4616), once somebody has been created: the name of a token, and the token as its password.

// errUnknown says that a client has not shown who it is.
var errUnknown = errors.New("the client has not shown who it is")

// mechanism is the one there is.
const mechanism = "PLAIN"

// handshake tells how clients can show who they are.
func handshake(q *kmsg.SASLHandshakeRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.SASLHandshakeResponse)
	resp.SupportedMechanisms = []string{mechanism}
	if q.Mechanism != mechanism {
		resp.ErrorCode = kerr.UnsupportedSaslMechanism.Code
	}
	return resp
}

// authenticate finds out who a client is. It is done before the next request is read.
func (s *Server) authenticate(r *request, q *kmsg.SASLAuthenticateRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.SASLAuthenticateResponse)
	refuse := func(text string) kmsg.Response {
		resp.ErrorCode, resp.ErrorMessage = kerr.SaslAuthenticationFailed.Code, &text
		return resp
	}
	parts := bytes.Split(q.SASLAuthBytes, []byte{0})
	if len(parts) != 3 {
		return refuse("expected a name and a token, as PLAIN has them")
	}
	address, _, _ := net.SplitHostPort(r.conn.RemoteAddr().String())
	name, token := string(parts[1]), string(parts[2])
	c := s.service.People.Known(token, address)
	if c == nil || c.Via != "token "+name {
		s.service.People.Note(catalog.Actor("nobody", "a client", address), "was refused", "token "+base.ClipText(name, 60), "it is not known, or has ended")
		return refuse("there is no such token, or it has ended: the name is that of the token, and the token itself the password")
	}
	r.who.set(c)
	s.service.People.Note(catalog.Actor(c.Name, c.Via, address), "connected", "topics", "by the brokers' protocol, as "+base.ClipText(r.client, 60))
	go func() { // what was shown may end before the connection does
		select {
		case <-c.Ended:
		case <-c.Also:
		case <-r.ctx.Done():
		}
		_ = r.conn.Close() // it is only to end
	}()
	return resp
}

// readRaw takes n bytes that a client shows after the oldest handshake, and answers with none.
func (s *Server) readRaw(r *request, n int32) error {
	if n < 0 || n > 10_000 {
		return errUnknown
	}
	b := make([]byte, n)
	if _, err := io.ReadFull(r.conn, b); err != nil {
		return err
	}
	q := kmsg.NewPtrSASLAuthenticateRequest()
	q.SASLAuthBytes = b
	if resp := s.authenticate(r, q).(*kmsg.SASLAuthenticateResponse); resp.ErrorCode != 0 {
		return errUnknown
	}
	if err := r.conn.SetWriteDeadline(time.Now().Add(mayTake)); err != nil {
		return err
	}
	_, err := r.conn.Write(make([]byte, 4))
	return err
}

// who is the caller of a connection. Requests are begun one after another, and finished beside that.
type who struct {
	caller *access.Caller
	raw    bool // what comes next is no request, but what the client shows
}

func (w *who) set(c *access.Caller) { w.caller = c }

// caller is who sends a request; nil: whoever uses the machine.
func (r *request) caller() *access.Caller { return r.by }

// find finds a partition for who has a role for its topic, or the code that says why not.
func (s *Server) find(r *request, role access.Role, topic string, i int32) (*topiclog.Partition, int16) {
	if !r.may(role, topic) || role == access.Read && s.hides(r, topic) {
		return nil, kerr.TopicAuthorizationFailed.Code
	}
	if p := s.partition(topic, i); p != nil {
		return p, 0
	}
	return nil, unknownTopic
}

// hides says whether a topic has sensitive columns that are hidden from who sends a request: clients get messages as they are, or not at all.
func (s *Server) hides(r *request, topic string) bool {
	return s.service.TopicVeil(access.With(s.ctx, r.caller()), topic) != nil
}

func (r *request) may(role access.Role, topic string) bool {
	return r.caller().May(role, "topic", topic)
}

// mayGroup says whether a client may be of a group: readers everywhere may be of each, and those of a space of those that are called after it.
func (r *request) mayGroup(name string) bool {
	return r.caller().In(access.Read, access.SpaceOf(name))
}

// groupOf gives the group that a request is about; "": it is about none.
func groupOf(q kmsg.Request) (name string, ok bool) {
	switch q := q.(type) {
	case *kmsg.HeartbeatRequest:
		return q.Group, true
	case *kmsg.LeaveGroupRequest:
		return q.Group, true
	case *kmsg.SyncGroupRequest:
		return q.Group, true
	case *kmsg.OffsetCommitRequest:
		return q.Group, true
	case *kmsg.OffsetFetchRequest:
		return q.Group, true
	}
	return "", false
}

// refusedGroup says that a client may not be of a group.
func refusedGroup(name string) *string {
	text := fmt.Sprintf("the group %s stands in no space that may be read; call it SPACE.%s", name, strings.TrimPrefix(name, "."))
	return &text
}
