// Package devices lets devices publish into built-in topics over MQTT, 3.1.1 and 5: what is sent to mats/PL-1/state goes to the topic mats. A message is confirmed when it is on the disk.
package devices

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/format"
	"fiume/internal/service"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/people"
	"fiume/internal/topiclog"

	"github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
)

const (
	mostDevices = 50_000
	largest     = 4 << 20 // bytes of a message, and what its packet has besides
	// together are the messages that are written at once.
	together = 20_000
)

// Server takes what devices publish.
type Server struct {
	people  *people.People
	address string
	mqtt    *mqtt.Server
	topics  *topiclog.Log
	log     *slog.Logger
	coming  chan *written
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup
}

// written is a message on its way to the disk.
type written struct {
	topic  *topiclog.Topic
	record topiclog.Record
	done   chan error
}

// Serve takes messages at a listener until Close.
func Serve(l net.Listener, s *service.Service, log *slog.Logger) (*Server, error) {
	d := &Server{people: s.People, address: l.Addr().String(), topics: s.Topics.TopicLog, log: log, coming: make(chan *written, together)}
	d.ctx, d.stop = context.WithCancel(context.Background())
	limits := mqtt.NewDefaultServerCapabilities()
	limits.MaximumClients, limits.MaximumPacketSize, limits.MaximumSessionExpiryInterval = mostDevices, largest, 3600
	limits.SharedSubAvailable, limits.WildcardSubAvailable, limits.SubIDAvailable = 0, 0, 0
	d.mqtt = mqtt.New(&mqtt.Options{Capabilities: limits, Logger: slog.New(slog.DiscardHandler), SysTopicResendInterval: 3600, ClientNetReadBufferSize: 2048, ClientNetWriteBufferSize: 1024})
	if err := d.mqtt.AddHook(&hook{server: d}, nil); err != nil {
		return nil, err
	}
	if err := d.mqtt.AddListener(listeners.NewNet("devices", l)); err != nil {
		return nil, err
	}
	d.done.Go(d.write)
	return d, d.mqtt.Serve()
}

// Addr is where it listens.
func (d *Server) Addr() string { return d.address }

// Close ends all connections; what was confirmed is on the disk.
func (d *Server) Close() error {
	err := d.mqtt.Close()
	d.stop()
	d.done.Wait()
	return err
}

// write writes what has come meanwhile, all of it at once, as long as the disk takes for one writing.
func (d *Server) write() {
	for {
		var all []*written
		select {
		case <-d.ctx.Done():
			return
		case w := <-d.coming:
			all = append(all, w)
		}
		for more := true; more && len(all) < together; {
			select {
			case w := <-d.coming:
				all = append(all, w)
			default:
				more = false
			}
		}
		by := map[*topiclog.Topic][]*written{}
		for _, w := range all {
			by[w.topic] = append(by[w.topic], w)
		}
		var writing sync.WaitGroup
		for t, ws := range by {
			writing.Go(func() {
				recs := make([]topiclog.Record, len(ws))
				for i, w := range ws {
					recs[i] = w.record
				}
				err := t.Append(recs)
				if err != nil {
					d.log.Warn("what devices sent cannot be written", "topic", t.Name, "error", err)
				}
				for _, w := range ws {
					w.done <- err
				}
			})
		}
		writing.Wait()
	}
}

// firstOf gives the first level of an MQTT topic.
func firstOf(name string) string {
	first, _, _ := strings.Cut(name, "/")
	return first
}

// topicOf gives the built-in topic that an MQTT topic belongs to, or nil.
func (d *Server) topicOf(name string) *topiclog.Topic {
	return d.topics.Topic(firstOf(name))
}

// take writes a message, and waits until it is on the disk.
func (d *Server) take(pk packets.Packet) error {
	t := d.topicOf(pk.TopicName)
	if t == nil {
		return errNoTopic
	}
	w := &written{topic: t, done: make(chan error, 1), record: topiclog.Record{Key: []byte(pk.TopicName), Value: bytes.Clone(pk.Payload)}}
	if w.record.Value == nil {
		w.record.Value = []byte{}
	}
	if u := pk.Properties.User; len(u) > 0 {
		w.record.Headers = format.AppendHeaders(nil, len(u), func(i int) (string, []byte) { return u[i].Key, []byte(u[i].Val) })
	}
	select {
	case d.coming <- w:
	case <-d.ctx.Done():
		return d.ctx.Err()
	}
	select {
	case err := <-w.done:
		return err
	case <-d.ctx.Done():
		return d.ctx.Err()
	}
}

var errNoTopic = fmt.Errorf("there is no such topic")

// hook is what the protocol's server asks.
type hook struct {
	mqtt.HookBase
	server *Server

	mu   sync.Mutex
	told map[string]time.Time // topics of which it was said that they are not there, and refusals
	// callers are the devices that have shown who they are.
	callers map[*mqtt.Client]*access.Caller
}

// ID implements mqtt.Hook.
func (h *hook) ID() string { return "fiume" }

// Provides implements mqtt.Hook.
func (h *hook) Provides(b byte) bool {
	return bytes.Contains([]byte{mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnDisconnect, mqtt.OnPublish, mqtt.OnWillSent}, []byte{b})
}

// OnConnectAuthenticate implements mqtt.Hook. While nobody has been created, who reaches the address is let in; from then on who shows the name of a token
// as the user, and the token as the password.
func (h *hook) OnConnectAuthenticate(cl *mqtt.Client, pk packets.Packet) bool {
	p := h.server.people
	if !p.Needed() {
		return true
	}
	address, _, _ := net.SplitHostPort(cl.Net.Remote)
	c := p.Known(string(pk.Connect.Password), address)
	if c == nil || c.Via != "token "+string(pk.Connect.Username) {
		h.refused(catalog.Actor("nobody", "a device", address), "token "+base.ClipText(string(pk.Connect.Username), 60), "it is not known, or has ended")
		return false
	}
	if pk.Connect.WillFlag && !c.May(access.Write, "topic", firstOf(pk.Connect.WillTopic)) { // it would be written when the device is lost
		h.refused(catalog.Actor(c.Name, c.Via, c.Address), "topic "+base.ClipText(firstOf(pk.Connect.WillTopic), 60), "a device lacks the role write for its last words")
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.callers == nil {
		h.callers = map[*mqtt.Client]*access.Caller{}
	}
	h.callers[cl] = c
	return true
}

var errEnded = fmt.Errorf("what the device has shown has ended")

// OnDisconnect implements mqtt.Hook.
func (h *hook) OnDisconnect(cl *mqtt.Client, _ error, _ bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.callers, cl)
}

// caller is who a device is; nil: whoever uses the machine.
func (h *hook) caller(cl *mqtt.Client) (c *access.Caller, known bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	c = h.callers[cl]
	return c, c != nil || !h.server.people.Needed()
}

// refused notes now and then that a device was refused.
func (h *hook) refused(actor, object, detail string) {
	h.mu.Lock()
	if h.told == nil || len(h.told) > 1000 {
		h.told = map[string]time.Time{}
	}
	again := time.Since(h.told[actor+object]) < time.Minute
	if !again {
		h.told[actor+object] = time.Now()
	}
	h.mu.Unlock()
	if !again {
		h.server.people.Note(actor, "was refused", object, detail)
	}
}

// OnACLCheck implements mqtt.Hook: devices write, where they may, and read nothing here.
func (h *hook) OnACLCheck(cl *mqtt.Client, name string, write bool) bool {
	c, known := h.caller(cl)
	if c != nil {
		select {
		case <-c.Ended:
			cl.Stop(errEnded)
			return false
		case <-c.Also: // it may do something else now: it connects again
			cl.Stop(errEnded)
			return false
		default:
		}
	}
	first := firstOf(name)
	if write && known && c.May(access.Write, "topic", first) {
		return true
	}
	if write && c != nil {
		h.refused(catalog.Actor(c.Name, c.Via, c.Address), "topic "+base.ClipText(first, 60), "a device lacks the role write")
	}
	return false
}

// OnPublish implements mqtt.Hook. A device that speaks MQTT 5 is told what is wrong; an older one cannot be, and its connection is ended, so that it does not take the message for written.
func (h *hook) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	err := h.server.take(pk)
	if err == nil {
		pk.FixedHeader.Retain = false // the topic has it
		pk.Ignore = true
		return pk, nil
	}
	if err == errNoTopic {
		h.tell(pk.TopicName)
	}
	if pk.FixedHeader.Qos > 0 && cl.Properties.ProtocolVersion == 5 {
		if err == errNoTopic {
			return pk, packets.ErrTopicNameInvalid
		}
		return pk, packets.ErrUnspecifiedError
	}
	if pk.FixedHeader.Qos > 0 {
		cl.Stop(err)
	}
	return pk, packets.ErrRejectPacket
}

// OnWillSent implements mqtt.Hook: what a device that is lost had to be said is a message as others.
func (h *hook) OnWillSent(_ *mqtt.Client, pk packets.Packet) {
	if err := h.server.take(pk); err == errNoTopic {
		h.tell(pk.TopicName)
	}
}

// tell says now and then that devices publish to a topic that is not there.
func (h *hook) tell(name string) {
	first := firstOf(name)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.told == nil || len(h.told) > 1000 {
		h.told = map[string]time.Time{}
	}
	if time.Since(h.told[first]) > time.Minute {
		h.told[first] = time.Now()
		h.server.log.Warn("devices publish to a topic that is not there; make it with CREATE TOPIC", "topic", first, "device's topic", name)
	}
}
