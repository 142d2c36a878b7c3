package mqtt

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"fiume/internal/connect/inbox"
	"fiume/internal/connect/outbox"
	"fiume/internal/format"

	"github.com/eclipse/paho.golang/packets"
)

// settings say where a broker is and who asks.
type settings struct {
	user, password, server string
	id                     string // of the session
	expiry                 uint32 // seconds that the broker keeps the session for
	tls                    *tls.Config
}

const (
	mayConnect = 5 * time.Second
	keepAlive  = 20 * time.Second
	mayTake    = 10 * time.Second // how long the broker may take no byte
	largest    = 4 << 20          // bytes of a packet
)

// refused is what a broker says that does not let us in, or not do what is asked.
type refused struct {
	what string
	code byte
	why  string
}

func (r *refused) Error() string {
	if r.why != "" {
		return fmt.Sprintf("the broker refuses %s: %s", r.what, r.why)
	}
	return fmt.Sprintf("the broker refuses %s (%s)", r.what, reasonOf(r.code))
}

// reasonOf gives a reason code of the protocol in words.
func reasonOf(code byte) string {
	words := map[byte]string{0x80: "an error that it does not tell", 0x82: "an error of the protocol", 0x83: "its own reasons", 0x84: "it does not speak MQTT 5", 0x85: "the client's name", 0x86: "user or password are wrong", 0x87: "the user may not",
		0x88: "it is away", 0x89: "it is busy", 0x8a: "this client is shut out", 0x8f: "the filter", 0x90: "the topic", 0x95: "the message is too large", 0x97: "a quota is used up", 0x99: "the payload", 0x9a: "it retains nothing", 0x9b: "the QoS", 0x9e: "it shares no subscriptions", 0xa2: "it has no + and #"}
	if w := words[code]; w != "" {
		return w
	}
	return "reason 0x" + strconv.FormatUint(uint64(code), 16)
}

// conn is a connection to a broker.
type conn struct {
	net    net.Conn
	in     *bufio.Reader
	window int // messages that may be sent before one is confirmed

	left    sync.Once
	stop    chan struct{}
	writing sync.Mutex
	acks    int   // acknowledgements that were written
	pinged  []int // how many had been when a ping was written that is not answered; nobody counts where nobody is acknowledged
}

// connect opens a connection, and says whether the broker knows the session. clean: it is to forget it.
func connect(ctx context.Context, s settings, clean bool) (*conn, bool, error) {
	d := net.Dialer{Timeout: mayConnect}
	n, err := d.DialContext(ctx, "tcp", s.server)
	if err != nil {
		return nil, false, err
	}
	if s.tls != nil {
		t := tls.Client(n, s.tls)
		within, cancel := context.WithTimeout(ctx, mayConnect)
		err := t.HandshakeContext(within)
		cancel()
		if err != nil {
			n.Close()
			return nil, false, err
		}
		n = t
	}
	c := &conn{net: n, in: bufio.NewReaderSize(n, 64<<10), window: window, stop: make(chan struct{})}
	fail := func(err error) (*conn, bool, error) {
		n.Close()
		return nil, false, err
	}
	receive, size := uint16(window), uint32(largest)
	hello := packets.NewControlPacket(packets.CONNECT)
	*hello.Content.(*packets.Connect) = packets.Connect{ProtocolName: "MQTT", ProtocolVersion: 5, ClientID: s.id, CleanStart: clean, KeepAlive: uint16(keepAlive.Seconds()), Username: s.user, UsernameFlag: s.user != "",
		Password: []byte(s.password), PasswordFlag: s.password != "", Properties: &packets.Properties{SessionExpiryInterval: &s.expiry, ReceiveMaximum: &receive, MaximumPacketSize: &size}}
	if err := c.write(hello); err != nil {
		return fail(err)
	}
	_ = n.SetReadDeadline(time.Now().Add(mayConnect))
	p, err := c.read()
	if err != nil {
		return fail(fmt.Errorf("no MQTT broker answers: %w", err))
	}
	ack, ok := p.Content.(*packets.Connack)
	if !ok {
		return fail(fmt.Errorf("no MQTT broker answers, but somebody who says %s", p.PacketType()))
	}
	if ack.ReasonCode >= 0x80 {
		return fail(&refused{"the connection", ack.ReasonCode, ack.Properties.ReasonString})
	}
	if m := ack.Properties.ReceiveMaximum; m != nil && *m > 0 {
		c.window = int(*m)
	}
	alive := keepAlive
	if k := ack.Properties.ServerKeepAlive; k != nil && *k > 0 {
		alive = time.Duration(*k) * time.Second
	}
	go c.ping(alive / 2)
	return c, ack.SessionPresent, nil
}

// ping shows now and then that we are there; the broker answers, so that silence is noticed.
func (c *conn) ping(every time.Duration) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-c.stop:
			return
		case <-t.C:
			if c.acknowledge(nil) != nil {
				c.net.Close()
				return
			}
		}
	}
}

// acknowledge acknowledges messages, and pings behind: the answer shows that the broker knows.
func (c *conn) acknowledge(ids []uint16) error {
	var ps []*packets.ControlPacket
	for _, id := range ids {
		p := packets.NewControlPacket(packets.PUBACK)
		p.Content.(*packets.Puback).PacketID = id
		ps = append(ps, p)
	}
	c.writing.Lock()
	defer c.writing.Unlock()
	c.acks += len(ids)
	c.pinged = append(c.pinged, c.acks)
	return c.writeLocked(append(ps, packets.NewControlPacket(packets.PINGREQ)))
}

// answered takes an answer to a ping, and gives how many acknowledgements the broker knows of.
func (c *conn) answered() int {
	c.writing.Lock()
	defer c.writing.Unlock()
	if len(c.pinged) == 0 {
		return 0
	}
	n := c.pinged[0]
	c.pinged = c.pinged[1:]
	return n
}

func (c *conn) write(ps ...*packets.ControlPacket) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	return c.writeLocked(ps)
}

func (c *conn) writeLocked(ps []*packets.ControlPacket) error {
	_ = c.net.SetWriteDeadline(time.Now().Add(mayTake))
	w := bufio.NewWriterSize(c.net, 32<<10)
	for _, p := range ps {
		if _, err := p.WriteTo(w); err != nil {
			return err
		}
	}
	return w.Flush()
}

// read reads a packet. One that is too large, or not of the protocol, is an error.
func (c *conn) read() (p *packets.ControlPacket, err error) {
	size := 0
	for i := 1; ; i++ { // the length, of 7 bits a byte, lowest first
		b, err := c.in.Peek(i + 1)
		if err != nil {
			return nil, err
		}
		size |= int(b[i]&0x7f) << (7 * (i - 1))
		if b[i] < 0x80 {
			break
		}
		if i == 4 {
			return nil, errors.New("the broker sent something that is not of its protocol")
		}
	}
	if size > largest {
		return nil, fmt.Errorf("the broker sent a packet of %d bytes", size)
	}
	defer func() {
		if x := recover(); x != nil {
			err = fmt.Errorf("the broker sent something that is not of its protocol: %v", x)
		}
	}()
	return packets.ReadPacket(c.in)
}

// silent is how long nothing may come, not even an answer to a ping.
const silent = keepAlive + mayTake

// next reads until a message comes, or something else was heard: then it gives nil.
func (c *conn) next() (*packets.Publish, error) {
	_ = c.net.SetReadDeadline(time.Now().Add(silent))
	p, err := c.read()
	if err != nil {
		return nil, err
	}
	switch x := p.Content.(type) {
	case *packets.Publish:
		return x, nil
	case *packets.Disconnect:
		return nil, &refused{"to go on", x.ReasonCode, x.Properties.ReasonString}
	}
	return nil, nil
}

// subscribe asks for the messages of a filter.
func (c *conn) subscribe(filter string, qos byte, retained bool) error {
	p := packets.NewControlPacket(packets.SUBSCRIBE)
	s := p.Content.(*packets.Subscribe)
	s.PacketID = 1
	o := packets.SubOptions{Topic: filter, QoS: qos, RetainAsPublished: true, RetainHandling: 1} // when the subscription is new
	if !retained {
		o.RetainHandling = 2
	}
	s.Subscriptions = []packets.SubOptions{o}
	return c.write(p)
}

// leave ends the connection.
func (c *conn) leave() error {
	c.left.Do(func() {
		close(c.stop)
		_ = c.write(packets.NewControlPacket(packets.DISCONNECT))
		c.net.Close()
	})
	return nil
}

// headersOf gives the user properties of a message.
func headersOf(m *packets.Publish) []byte {
	if m.Properties == nil || len(m.Properties.User) == 0 {
		return nil
	}
	return format.AppendHeaders(nil, len(m.Properties.User), func(i int) (string, []byte) {
		u := m.Properties.User[i]
		return u.Key, []byte(u.Value)
	})
}

// receiver implements inbox.Client.
type receiver struct {
	settings
	filter   string
	retained bool
}

// Receive implements inbox.Client.
func (r *receiver) Receive(ctx context.Context, in *inbox.Source) error {
	c, present, err := connect(ctx, r.settings, r.expiry == 0)
	if err != nil {
		return err
	}
	defer func() { _ = c.leave() }()
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-ctx.Done():
			_ = c.leave()
		case <-ended:
		}
	}()
	in.Connected(!present)
	if err := c.subscribe(r.filter, 1, r.retained); err != nil {
		return err
	}
	acks := &acker{conn: c, ready: make(chan struct{}, 1)}
	go acks.run(ended)
	for {
		_ = c.net.SetReadDeadline(time.Now().Add(silent))
		p, err := c.read()
		if err != nil {
			return err
		}
		switch m := p.Content.(type) {
		case *packets.Suback:
			if len(m.Reasons) > 0 && m.Reasons[0] >= 0x80 {
				return &refused{"the filter " + r.filter, m.Reasons[0], m.Properties.ReasonString}
			}
		case *packets.Disconnect:
			return &refused{"to go on", m.ReasonCode, m.Properties.ReasonString}
		case *packets.Pingresp:
			in.Settled(c.answered())
		case *packets.Publish:
			x := inbox.Message{Key: []byte(m.Topic), Value: m.Payload, Headers: headersOf(m), Repeated: m.Duplicate, Ack: func() {}}
			switch m.QoS {
			case 1:
				id := m.PacketID
				x.Name, x.Ack = strconv.Itoa(int(id)), func() { acks.add(id) }
			case 2:
				return errors.New("the broker sent a message with QoS 2, which was not asked for")
			}
			if !in.Give(x) {
				return nil
			}
		}
	}
}

// acker sends acknowledgements, many in a write.
type acker struct {
	conn  *conn
	ready chan struct{}
	mu    sync.Mutex
	ids   []uint16
}

func (a *acker) add(id uint16) {
	a.mu.Lock()
	a.ids = append(a.ids, id)
	a.mu.Unlock()
	select {
	case a.ready <- struct{}{}:
	default:
	}
}

func (a *acker) run(ended chan struct{}) {
	for {
		select {
		case <-ended:
			return
		case <-a.ready:
		}
		a.mu.Lock()
		ids := a.ids
		a.ids = nil
		a.mu.Unlock()
		for some := range slices.Chunk(ids, 1000) {
			if a.conn.acknowledge(some) != nil {
				a.conn.net.Close()
				return
			}
		}
	}
}

// sender implements outbox.Sender.
type sender struct {
	settings
	retain bool
	conn   *conn
}

// mostSending are the messages that are under way at a time.
const mostSending = 1000

// Send implements outbox.Sender.
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, no map[int]string, err error) {
	if s.conn == nil {
		if s.conn, _, err = connect(ctx, s.settings, true); err != nil {
			return 0, nil, err
		}
	}
	defer func() {
		if err != nil {
			_ = s.conn.leave()
			s.conn = nil
		}
	}()
	no = map[int]string{}
	for some := range slices.Chunk(messages, min(s.conn.window, mostSending)) {
		if ctx.Err() != nil {
			return done, no, ctx.Err()
		}
		n, err := s.send(some, func(i int, why string) { no[done+i] = why })
		done += n
		if err != nil {
			return done, no, err
		}
	}
	return done, no, nil
}

// send sends as many messages as may be under way, and waits until all are answered. It gives how many of the first ones are done with, and tells which are refused.
func (s *sender) send(messages []outbox.Message, refuse func(i int, why string)) (done int, err error) {
	var ps []*packets.ControlPacket
	codes := make([]int, len(messages)) // -1: not answered
	left := 0
	for i, m := range messages {
		if reason := unfit(m.Address); reason != "" {
			refuse(i, reason)
			continue
		}
		codes[i] = -1
		left++
		p := packets.NewControlPacket(packets.PUBLISH)
		x := p.Content.(*packets.Publish)
		x.Topic, x.Payload, x.PacketID, x.QoS, x.Retain = m.Address, m.Body, uint16(i+1), 1, s.retain
		x.Properties.User = []packets.User{{Key: "fiume-id", Value: m.ID}}
		format.EachHeader(m.Headers, func(name, value []byte) {
			x.Properties.User = append(x.Properties.User, packets.User{Key: string(name), Value: string(value)})
		})
		p.Flags = 1 << 1
		if s.retain {
			p.Flags |= 1
		}
		ps = append(ps, p)
	}
	written := make(chan error, 1)
	go func() { written <- s.conn.write(ps...) }()
	for left > 0 && err == nil {
		_ = s.conn.net.SetReadDeadline(time.Now().Add(silent))
		var p *packets.ControlPacket
		if p, err = s.conn.read(); err != nil {
			break
		}
		switch x := p.Content.(type) {
		case *packets.Puback:
			i := int(x.PacketID) - 1
			if i < 0 || i >= len(codes) || codes[i] >= 0 {
				continue
			}
			codes[i] = int(x.ReasonCode)
			left--
			said := &refused{"a message to " + messages[i].Address, x.ReasonCode, x.Properties.ReasonString}
			if slices.Contains([]byte{0x87, 0x90, 0x95, 0x99}, x.ReasonCode) { // for what it is
				refuse(i, said.Error())
				codes[i] = 0
			} else if x.ReasonCode >= 0x80 {
				err = said
			}
		case *packets.Disconnect:
			err = &refused{"to go on", x.ReasonCode, x.Properties.ReasonString}
		}
	}
	if err != nil {
		s.conn.net.Close()
	}
	if werr := <-written; err == nil {
		err = werr
	}
	if n := slices.IndexFunc(codes, func(c int) bool { return c < 0 || c >= 0x80 }); n >= 0 {
		return n, err
	}
	return len(messages), err
}

// unfit says why nothing can be sent to a topic.
func unfit(topic string) string {
	if topic == "" || len(topic) > 65535 {
		return "a topic has 1 to 65535 bytes"
	}
	for _, r := range topic {
		if r == '+' || r == '#' || r == 0 {
			return fmt.Sprintf("the topic %q has a +, a # or a NUL in it", topic)
		}
	}
	return ""
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	if s.conn != nil {
		return s.conn.leave()
	}
	return nil
}
