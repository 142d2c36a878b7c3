// Package wire lets ordinary clients of brokers write and read the built-in topics, in any language: it speaks the brokers' open wire protocol, with keys,
// headers, times, packed batches, producers whose repeats are known, and groups with offsets. Transactions are not taken.
//
// A connection has one goroutine that reads requests and begins them in order, and one that finishes them and answers in the same order: while a batch waits for the
// disk, the next one is already being written.
package wire

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	"fiume/internal/service"
	"fiume/internal/service/access"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kbin"
	"github.com/twmb/franz-go/pkg/kmsg"
)

const (
	// mostRequest is how many bytes a request may have that writes messages.
	mostRequest = 64 << 20
	// mostQuestion is how many another one may have.
	mostQuestion = 1 << 20
	// pipelined is how many requests of a connection are at work.
	pipelined = 8
	// mayIdle is how long a connection may be silent, and mayTake how long it may take to take an answer.
	mayIdle = 10 * time.Minute
	mayTake = 30 * time.Second
	// node is the number of the one broker that there is.
	node = 0
)

// Server answers clients.
type Server struct {
	service *service.Service
	log     *slog.Logger
	l       net.Listener
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup
	groups  *groups

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// Serve answers at a listener until Close.
func Serve(l net.Listener, s *service.Service, log *slog.Logger) *Server {
	w := &Server{service: s, log: log, l: l, conns: map[net.Conn]bool{}}
	w.ctx, w.stop = context.WithCancel(context.Background())
	w.groups = newGroups(s.Topics.Store)
	w.done.Go(func() { w.groups.watch(w.ctx) })
	w.done.Go(w.accept)
	return w
}

// Addr is where it listens.
func (s *Server) Addr() string { return s.l.Addr().String() }

// Close ends all connections.
func (s *Server) Close() error {
	s.stop()
	err := s.l.Close()
	s.mu.Lock()
	for c := range s.conns {
		_ = c.Close() // it is only to end
	}
	s.mu.Unlock()
	s.done.Wait()
	return err
}

func (s *Server) accept() {
	for {
		c, err := s.l.Accept()
		if err != nil {
			if s.ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
				return
			}
			s.log.Warn("a client of the brokers' protocol cannot be welcomed", "error", err)
			select {
			case <-s.ctx.Done():
				return
			case <-time.After(100 * time.Millisecond): // too many open files
			}
			continue
		}
		s.mu.Lock()
		s.conns[c] = true
		s.mu.Unlock()
		s.done.Go(func() {
			s.talk(c)
			s.mu.Lock()
			delete(s.conns, c)
			s.mu.Unlock()
		})
	}
}

// request is one that has been read.
type request struct {
	kmsg.Request
	correlation int32
	client      string
	conn        net.Conn
	ctx         context.Context // of the connection
	who         *who            // of the connection
	by          *access.Caller  // who it was when the request was read
}

// finish gives the answer to a request, once there is one; nil: none is wanted.
type finish func() kmsg.Response

// pending is a request that has begun.
type pending struct {
	r      *request
	finish finish
}

// talk serves a connection.
func (s *Server) talk(c net.Conn) {
	ctx, stop := context.WithCancel(s.ctx)
	defer stop()
	due := make(chan pending, pipelined)
	var writing sync.WaitGroup
	writing.Go(func() {
		defer stop()
		defer c.Close() // the reader ends, too
		for p := range due {
			resp, err := safely(p.finish)
			if err == nil && resp != nil {
				err = answer(c, p.r, resp)
			}
			if err != nil {
				s.ended(c, err)
				break
			}
		}
		stop()
		for range due { // those that have begun are given up
		}
	})
	err := s.read(ctx, c, due)
	close(due)
	stop()
	writing.Wait()
	s.ended(c, err)
}

// ended says why a connection has ended, where that is not the usual.
func (s *Server) ended(c net.Conn, err error) {
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || s.ctx.Err() != nil {
		return
	}
	s.log.Debug("a connection of the brokers' protocol has ended", "client", c.RemoteAddr().String(), "error", err)
}

// safely keeps what a request has broken from ending the service.
func safely(f finish) (resp kmsg.Response, err error) {
	defer func() {
		if x := recover(); x != nil {
			err = fmt.Errorf("a fault: %v", x)
		}
	}()
	return f(), nil
}

// read reads requests and begins them.
func (s *Server) read(ctx context.Context, c net.Conn, due chan<- pending) error {
	var size [4]byte
	who := &who{}
	for {
		if err := c.SetReadDeadline(time.Now().Add(mayIdle)); err != nil {
			return err
		}
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return err
		}
		n := int32(binary.BigEndian.Uint32(size[:]))
		if who.raw { // an older client, which shows who it is without a request around it
			who.raw = false
			if err := s.readRaw(&request{conn: c, ctx: ctx, who: who}, n); err != nil {
				return err
			}
			continue
		}
		if n < 8 || n > mostRequest {
			return fmt.Errorf("a request of %d bytes", n)
		}
		var head [4]byte // which one it is, before there is memory for it
		if _, err := io.ReadFull(c, head[:]); err != nil {
			return err
		}
		key, version := int16(binary.BigEndian.Uint16(head[:])), int16(binary.BigEndian.Uint16(head[2:]))
		if key != keyProduce && n > mostQuestion {
			return fmt.Errorf("a request of the kind %d with %d bytes", key, n)
		}
		b := make([]byte, n)
		copy(b, head[:])
		if err := c.SetReadDeadline(time.Now().Add(mayTake)); err != nil {
			return err
		}
		if _, err := io.ReadFull(c, b[4:]); err != nil {
			return err
		}
		r, err := parse(b, key, version)
		if err != nil {
			return err
		}
		r.conn, r.ctx, r.who, r.by = c, ctx, who, who.caller
		if who.caller == nil && s.service.People.Needed() && key != keyAPIVersions && key != keySASLHandshake && key != keySASLAuthenticate {
			return errUnknown
		}
		if name, ok := groupOf(r.Request); ok && !r.mayGroup(name) {
			return fmt.Errorf("the group %q stands in no space that %s reads", name, who.caller.Name)
		}
		f, err := s.begin(r)
		if err != nil {
			return err
		}
		select {
		case due <- pending{r, f}:
		case <-ctx.Done():
			return nil
		}
	}
}

// parse reads a request. One of a version that is not known is read as far as its head.
func parse(b []byte, key, version int16) (*request, error) {
	r := &request{Request: kmsg.RequestForKey(key)}
	v, known := versions[key]
	if r.Request == nil || !known {
		return nil, fmt.Errorf("a request of the kind %d, which is not known", key)
	}
	src := kbin.Reader{Src: b[4:]}
	r.correlation = src.Int32()
	if client := src.NullableString(); client != nil {
		r.client = *client
	}
	r.SetVersion(version)
	if version < v[0] || version > v[1] {
		if key == keyAPIVersions { // it is answered in the oldest version
			return r, src.Complete()
		}
		return nil, fmt.Errorf("version %d of the request %s, of which %d to %d are known", version, kmsg.NameForKey(key), v[0], v[1])
	}
	if r.IsFlexible() {
		kmsg.SkipTags(&src)
	}
	if err := src.Complete(); err != nil {
		return nil, err
	}
	if key == keyProduce && !plausible(src.Src, version) {
		return nil, errors.New("a request to write that names more topics than it has bytes for")
	}
	return r, r.ReadFrom(src.Src)
}

// plausible looks whether a request to write can name as many topics and partitions as it says: memory is taken for them before they are read.
func plausible(b []byte, version int16) bool {
	src := kbin.Reader{Src: b}
	flexible := version >= 9
	if flexible {
		_ = src.CompactNullableString()
	} else if version >= 3 {
		_ = src.NullableString()
	}
	src.Int16()
	src.Int32()
	count := func() int {
		if flexible {
			return int(src.CompactArrayLen())
		}
		return int(src.ArrayLen())
	}
	topics := count()
	if topics > len(src.Src)/4 || topics > 100_000 {
		return false
	}
	for range topics {
		if flexible {
			_ = src.CompactString()
		} else {
			_ = src.String()
		}
		parts := count()
		if parts > len(src.Src)/6 || parts > 100_000 {
			return false
		}
		for range parts {
			src.Int32()
			if flexible {
				_ = src.CompactNullableBytes()
				kmsg.SkipTags(&src)
			} else {
				_ = src.NullableBytes()
			}
		}
		if flexible {
			kmsg.SkipTags(&src)
		}
		if !src.Ok() {
			return false
		}
	}
	return true
}

// answer writes an answer.
func answer(c net.Conn, r *request, resp kmsg.Response) error {
	b := make([]byte, 4, 256)
	b = binary.BigEndian.AppendUint32(b, uint32(r.correlation))
	if resp.IsFlexible() && resp.Key() != keyAPIVersions { // whose head is always the oldest
		b = append(b, 0)
	}
	b = resp.AppendTo(b)
	binary.BigEndian.PutUint32(b, uint32(len(b)-4))
	if err := c.SetWriteDeadline(time.Now().Add(mayTake)); err != nil {
		return err
	}
	_, err := c.Write(b)
	return err
}

// The requests that are answered, by their numbers in the protocol, and of each the versions.
const (
	keyProduce          = 0
	keyFetch            = 1
	keyListOffsets      = 2
	keyMetadata         = 3
	keyOffsetCommit     = 8
	keyOffsetFetch      = 9
	keyFindCoordinator  = 10
	keyJoinGroup        = 11
	keyHeartbeat        = 12
	keyLeaveGroup       = 13
	keySyncGroup        = 14
	keyDescribeGroups   = 15
	keyListGroups       = 16
	keySASLHandshake    = 17
	keyAPIVersions      = 18
	keyCreateTopics     = 19
	keyDeleteTopics     = 20
	keyInitProducerID   = 22
	keyDescribeConfigs  = 32
	keySASLAuthenticate = 36
	keyCreatePartitions = 37
	keyDeleteGroups     = 42
)

var versions = map[int16][2]int16{
	keyProduce:          {0, 9}, // clients that do not find the oldest do not pack batches
	keyFetch:            {4, 11},
	keyListOffsets:      {1, 6},
	keyMetadata:         {0, 9},
	keyOffsetCommit:     {2, 8},
	keyOffsetFetch:      {1, 7},
	keyFindCoordinator:  {0, 3},
	keyJoinGroup:        {0, 6},
	keyHeartbeat:        {0, 4},
	keyLeaveGroup:       {0, 4},
	keySyncGroup:        {0, 4},
	keyDescribeGroups:   {0, 4},
	keyListGroups:       {0, 3},
	keySASLHandshake:    {0, 1},
	keyAPIVersions:      {0, 3},
	keyCreateTopics:     {0, 5},
	keyDeleteTopics:     {0, 5},
	keyInitProducerID:   {0, 4},
	keyDescribeConfigs:  {0, 3},
	keySASLAuthenticate: {0, 2},
	keyCreatePartitions: {0, 3},
	keyDeleteGroups:     {0, 2},
}

// begin begins a request, and gives what finishes it.
func (s *Server) begin(r *request) (finish, error) {
	switch q := r.Request.(type) {
	case *kmsg.ProduceRequest:
		return s.produce(r, q)
	case *kmsg.FetchRequest:
		return func() kmsg.Response { return s.fetch(r, q) }, nil
	case *kmsg.ListOffsetsRequest:
		return func() kmsg.Response { return s.listOffsets(r, q) }, nil
	case *kmsg.MetadataRequest:
		return func() kmsg.Response { return s.metadata(r, q) }, nil
	case *kmsg.OffsetCommitRequest:
		return func() kmsg.Response { return s.offsetCommit(r, q) }, nil
	case *kmsg.OffsetFetchRequest:
		return func() kmsg.Response { return s.offsetFetch(r, q) }, nil
	case *kmsg.FindCoordinatorRequest:
		return func() kmsg.Response { return s.findCoordinator(r, q) }, nil
	case *kmsg.JoinGroupRequest:
		return func() kmsg.Response { return s.groups.join(r, q) }, nil
	case *kmsg.HeartbeatRequest:
		return func() kmsg.Response { return s.groups.heartbeat(q) }, nil
	case *kmsg.LeaveGroupRequest:
		return func() kmsg.Response { return s.groups.leave(q) }, nil
	case *kmsg.SyncGroupRequest:
		return func() kmsg.Response { return s.groups.sync(r, q) }, nil
	case *kmsg.DescribeGroupsRequest:
		return func() kmsg.Response { return s.groups.describe(r, q) }, nil
	case *kmsg.ListGroupsRequest:
		return func() kmsg.Response { return s.groups.list(r, q) }, nil
	case *kmsg.DeleteGroupsRequest:
		return func() kmsg.Response { return s.groups.drop(r, q) }, nil
	case *kmsg.SASLHandshakeRequest:
		r.who.raw = q.Version == 0 && q.Mechanism == mechanism
		return func() kmsg.Response { return handshake(q) }, nil
	case *kmsg.SASLAuthenticateRequest:
		resp := s.authenticate(r, q)
		return func() kmsg.Response { return resp }, nil
	case *kmsg.ApiVersionsRequest:
		return func() kmsg.Response { return apiVersions(q) }, nil
	case *kmsg.CreateTopicsRequest:
		return func() kmsg.Response { return s.createTopics(r, q) }, nil
	case *kmsg.DeleteTopicsRequest:
		return func() kmsg.Response { return s.deleteTopics(r, q) }, nil
	case *kmsg.CreatePartitionsRequest:
		return func() kmsg.Response { return s.createPartitions(r, q) }, nil
	case *kmsg.InitProducerIDRequest:
		return func() kmsg.Response { return initProducerID(r, q) }, nil
	case *kmsg.DescribeConfigsRequest:
		return func() kmsg.Response { return s.describeConfigs(r, q) }, nil
	}
	return nil, fmt.Errorf("a request of the kind %d, which is not known", r.Key())
}

func apiVersions(q *kmsg.ApiVersionsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.ApiVersionsResponse)
	if v := q.Version; v < versions[keyAPIVersions][0] || v > versions[keyAPIVersions][1] {
		resp.SetVersion(0)
		resp.ErrorCode = unsupportedVersion
	}
	for key := range int16(100) { // ascending
		if v, ok := versions[key]; ok {
			k := kmsg.NewApiVersionsResponseApiKey()
			k.ApiKey, k.MinVersion, k.MaxVersion = key, v[0], v[1]
			resp.ApiKeys = append(resp.ApiKeys, k)
		}
	}
	return resp
}

// topic finds a topic.
func (s *Server) topic(name string) *topiclog.Topic { return s.service.Topics.TopicLog.Topic(name) }

// partition finds a partition, or nil.
func (s *Server) partition(topic string, i int32) *topiclog.Partition {
	t := s.topic(topic)
	if t == nil || i < 0 || int(i) >= len(t.Partitions()) {
		return nil
	}
	return t.Partitions()[i]
}
