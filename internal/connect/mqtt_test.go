package connect_test

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/eclipse/paho.golang/paho"
)

// topicOut is a log with a topic, out.
func topicOut(t testing.TB) (*topiclog.Log, *topiclog.Topic) {
	t.Helper()
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	out, err := log.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	return log, out
}

// device is an ordinary client of a broker. It keeps what comes, each once by its id, where it has one.
type device struct {
	*paho.Client
	mu  sync.Mutex
	got []string // topic and payload
	ids map[string]bool
}

func newDevice(t testing.TB, address, user, password string) *device {
	t.Helper()
	n, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	d := &device{ids: map[string]bool{}}
	d.Client = paho.NewClient(paho.ClientConfig{Conn: n, OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(r paho.PublishReceived) (bool, error) {
		d.mu.Lock()
		defer d.mu.Unlock()
		id := r.Packet.Properties.User.Get("fiume-id")
		if id == "" || !d.ids[id] {
			d.ids[id] = true
			d.got = append(d.got, r.Packet.Topic+" "+string(r.Packet.Payload))
		}
		return true, nil
	}}})
	ack, err := d.Connect(t.Context(), &paho.Connect{CleanStart: true, KeepAlive: 30, Username: user, UsernameFlag: user != "", Password: []byte(password), PasswordFlag: password != "", ClientID: fmt.Sprintf("device-%d", time.Now().UnixNano())})
	if err != nil {
		t.Fatal(err, ack)
	}
	t.Cleanup(func() { n.Close() })
	return d
}

func (d *device) follow(t testing.TB, filter string) {
	t.Helper()
	if _, err := d.Subscribe(t.Context(), &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: filter, QoS: 1}}}); err != nil {
		t.Fatal(err)
	}
}

func (d *device) all() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.got)
}

// tell publishes messages, each until somebody gets it.
func (d *device) tell(t testing.TB, topic string, messages ...string) {
	t.Helper()
	for _, m := range messages {
		for deadline := time.Now().Add(kit.Patience); ; time.Sleep(5 * time.Millisecond) {
			r, err := d.Publish(context.Background(), &paho.Publish{QoS: 1, Topic: topic, Payload: []byte(m), Properties: &paho.PublishProperties{User: paho.UserProperties{{Key: "unit", Value: "mV"}}}})
			if err != nil {
				t.Errorf("%v %+v", err, r)
				return
			}
			if r.ReasonCode != 0x10 {
				break
			}
			if time.Now().After(deadline) {
				t.Errorf("nobody gets what is sent to %s", topic)
				return
			}
		}
	}
}

// mqttPlace is a topic of a broker that devices send to, and another.
func mqttPlace(t *testing.T) *kit.Place {
	m := kit.StartMosquitto(t)
	proxy := kit.NewProxy(t, m.Addr)
	in, out := newDevice(t, m.Addr, "timing", m.Password), newDevice(t, m.Addr, "timing", m.Password)
	out.follow(t, "kept/+")
	return &kit.Place{
		Source: "DECLARE ENDPOINT d MQTT 'timing@" + proxy.Addr + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM MQTT 'told/#' VIA d;",
		Sink:   "DECLARE SINK kept TO MQTT 'kept/{n}' VIA d;", Secret: m.Password,
		Env:   contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return m.Password, nil }}},
		Write: func(t testing.TB, messages []string) { in.tell(t, "told/a", messages...) },
		Away:  func(_ testing.TB, gone bool) { proxy.Cut(gone) },
		Read: func(t testing.TB) (rows []string) {
			for _, r := range out.all() {
				_, row, _ := strings.Cut(r, " ")
				rows = append(rows, row)
			}
			return rows
		}}
}

// TestMQTT: what devices send has its topic and its properties, and is kept for a job that is away, also by a broker that is started anew; what is sent to devices has its topic of columns.
func TestMQTT(t *testing.T) {
	t.Parallel()
	m := kit.StartMosquitto(t)
	log, out := topicOut(t)
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return m.Password, nil }}}
	endpoint := "DECLARE ENDPOINT d MQTT 'timing@" + m.Addr + "' SECRET 'd'; "
	j := kit.New(t, endpoint+`DECLARE STREAM s (serial VARCHAR AS (SPLIT(_key, '/')[2]), unit VARCHAR AS (_headers['unit']), battery DOUBLE) FROM MQTT 'mats/+/state' VIA d;
		DECLARE SINK o TO TOPIC 'out'; DECLARE SINK orders TO MQTT 'mats/{serial}/order' VIA d (RETAIN true, HEADERS (unit), BAD ROWS keep);
		CREATE JOB j WITH a AS (SELECT serial, unit, battery FROM s) ROUTE a TO o, orders;`, env)
	in := newDevice(t, m.Addr, "timing", m.Password)
	j.Start(t)
	in.tell(t, "mats/PL-1/state", `{"battery":0.5}`)
	j.Until(t, "it is there", func() bool { return len(kit.Values(t, out)) == 1 })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	for i := range 100 {
		in.tell(t, fmt.Sprintf("mats/PL-%d/state", i), `{"battery":1}`) // the broker keeps it for the job
	}
	m.Stop()
	m.Start(t)
	j.Start(t)
	j.Until(t, "what came meanwhile is there", func() bool { return len(kit.Values(t, out)) == 101 })
	m.Stop()
	j.Until(t, "it is said that the broker is away", func() bool {
		st, ok := j.Status()
		return ok && len(st.Splits) > 0 && st.Splits[0].Waiting != nil
	})
	m.Start(t)
	in = newDevice(t, m.Addr, "timing", m.Password)
	in.tell(t, "mats/PL-7/state", `{"battery":2}`)
	in.tell(t, "mats/PL-8/state", `nonsense`)
	j.Until(t, "the last one is there", func() bool { return slices.Contains(kit.Values(t, out), `{"serial":"PL-7","unit":"mV","battery":2}`) })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	got := kit.Values(t, out)
	if len(got) != 102 || !slices.Contains(got, `{"serial":"PL-1","unit":"mV","battery":0.5}`) {
		t.Errorf("%d: %q", len(got), got)
	}
	// The broker retains the newest order of each mat.
	seen := newDevice(t, m.Addr, "timing", m.Password)
	seen.follow(t, "mats/+/order")
	for deadline := time.Now().Add(kit.Patience); len(seen.all()) < 100 && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
	}
	if got := seen.all(); len(got) != 100 || !slices.Contains(got, `mats/PL-7/order {"serial":"PL-7","battery":2}`) {
		t.Errorf("%d: %q", len(got), got)
	}
	// A sample is what is retained.
	via := &plan.Endpoint{Name: "d", Place: "mqtt", Address: "timing@" + m.Addr, Secret: "d"}
	sample, err := connect.Of("mqtt").(contract.Sampler).Sample(t.Context(), &env, contract.Wanted{Address: "mats/+/order", Via: via, Limit: 5, Bytes: 1 << 20})
	if err != nil || len(sample.Messages) != 5 || !strings.HasPrefix(string(sample.Messages[0].Key), "mats/PL-") {
		t.Errorf("%+v %v", sample, err)
	}
	// Nothing is kept for a job that is gone.
	if err := (&connect.Opener{Env: j.Env}).Leave(j.Plan); err != nil {
		t.Error(err)
	}
	if r, err := in.Publish(t.Context(), &paho.Publish{QoS: 1, Topic: "mats/PL-1/state", Payload: []byte("x")}); err != nil || r.ReasonCode != 0x10 {
		t.Errorf("somebody gets what is sent: %+v %v", r, err)
	}
}

// TestMQTTRefused: what cannot be is said before anything runs.
func TestMQTTRefused(t *testing.T) {
	m := kit.StartMosquitto(t)
	password := m.Password
	env := contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return password, nil }}}
	check := func(endpoint, rest string) error {
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", "DECLARE ENDPOINT d MQTT '"+endpoint+"' SECRET 'd'; DECLARE STREAM s (n BIGINT) "+rest, nil, nil)
		if err == nil {
			err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
		}
		return err
	}
	here := "timing@" + m.Addr
	const sink = "DECLARE SINK o TO MQTT 'o' VIA d; CREATE JOB j AS SELECT n FROM s ROUTE TO o;"
	for _, c := range []struct{ endpoint, rest, want string }{
		{here, "FROM MQTT 'a' VIA d; " + sink, ""},
		{here, "FROM MQTT 'a/b+' VIA d; " + sink, "a + stands for one level"},
		{here, "FROM MQTT 'a/#/b' VIA d; " + sink, "a # at the end for all that follow"},
		{here, "FROM MQTT 'a' VIA d; " + strings.Replace(sink, "'o'", "'o/{m}'", 1), "{m}, which the rows do not have"},
		{here, "FROM MQTT 'a' VIA d; " + strings.Replace(sink, "'o'", "'o/+'", 1), "of a sink has no + and #"},
		{"timing:x@" + m.Addr, "FROM MQTT 'a' VIA d; " + sink, "a password does not belong into the address"},
		{"nobody@" + m.Addr, "FROM MQTT 'a' VIA d; " + sink, "the broker refuses the connection (the user may not)"},
		{"timing@127.0.0.1:1", "FROM MQTT 'a' VIA d; " + sink, "connection refused"},
	} {
		if err := check(c.endpoint, c.rest); (c.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, wanted %q", c.rest, err, c.want)
		}
	}
	// Somebody who speaks something else, says nothing, or sends what no broker may.
	for name, say := range map[string]string{"another": "HTTP/1.1 400 Bad Request\r\n\r\n", "large": "\x20\xff\xff\xff\x7f", "short": "\x20\x03\x00", "endless": "\x20\xff\xff\xff\xff\xff", "wrong": "\x30\x02\x00\x09"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		var asked atomic.Int32
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				asked.Add(1)
				_, _ = c.Write([]byte(say))
				time.AfterFunc(300*time.Millisecond, func() { c.Close() })
			}
		}()
		if err := check("timing@"+l.Addr().String(), "FROM MQTT 'a' VIA d; "+sink); err == nil || asked.Load() == 0 || strings.Contains(err.Error(), password) {
			t.Errorf("%s: %v", name, err)
		} else {
			t.Logf("%s: %v", name, err)
		}
		l.Close()
	}
}

// BenchmarkQueues reads 100,000 messages that a broker of devices, and a stream of a server, kept for a job, and sends as many, through checkpoints.
func BenchmarkQueues(b *testing.B) {
	const many = 50_000
	for name, open := range map[string]func(*testing.B) (endpoint, source, sink string, env contract.Env, write func(int)){
		"mqtt": func(b *testing.B) (string, string, string, contract.Env, func(int)) {
			m := kit.StartMosquitto(b)
			d := newDevice(b, m.Addr, "timing", m.Password)
			return "DECLARE ENDPOINT d MQTT 'timing@" + m.Addr + "' SECRET 'd'; ", "MQTT 'told/a'", "MQTT 'kept/a'", contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return m.Password, nil }}},
				func(n int) {
					if _, err := d.PublishWithOptions(context.Background(), &paho.Publish{QoS: 1, Topic: "told/a", Payload: fmt.Appendf(nil, `{"n":%d,"says":"row %d"}`, n, n)}, paho.PublishOptions{Method: paho.PublishMethod_AsyncSend}); err != nil {
						b.Fatal(err)
					}
				}
		},
		"nats": func(b *testing.B) (string, string, string, contract.Env, func(int)) {
			s := kit.StartNATS(b)
			js := relay(b, s)
			return "DECLARE ENDPOINT d NATS 'timing@" + s.Addr + "' SECRET 'd'; ", "NATS 'told.a'", "NATS 'kept.a'", contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return s.Password, nil }}},
				func(n int) {
					if _, err := js.PublishAsync("told.a", fmt.Appendf(nil, `{"n":%d,"says":"row %d"}`, n, n)); err != nil {
						b.Fatal(err)
					}
				}
		},
	} {
		endpoint, source, sink, env, write := open(b)
		log, err := topiclog.Open(b.TempDir())
		if err != nil {
			b.Fatal(err)
		}
		if _, err := log.Create("out", topiclog.Settings{Partitions: 2}); err != nil {
			b.Fatal(err)
		}
		env.Topics = log
		in := kit.New(b, endpoint+"DECLARE STREAM s (n BIGINT, says VARCHAR) FROM "+source+" VIA d; DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT n, says FROM s ROUTE TO o;", env)
		in.Every = time.Second
		in.Start(b)
		in.Until(b, "it runs", func() bool { st, ok := in.Status(); return ok && len(st.Splits) > 0 })
		time.Sleep(500 * time.Millisecond) // the broker knows who listens
		if err := in.Stop(); err != nil {
			b.Fatal(err)
		}
		for n := range many {
			write(n)
		}
		read := func(j *kit.Job, step int) func() bool {
			return func() bool {
				st, ok := j.Status()
				return ok && len(st.Steps) > step && st.Steps[step].Counts.In >= many
			}
		}
		b.Run(name+"/read", func(b *testing.B) {
			in.Start(b)
			in.Until(b, "all are read", read(in, 0))
			b.ReportMetric(many/b.Elapsed().Seconds(), "messages/s")
			if err := in.Stop(); err != nil {
				b.Fatal(err)
			}
		})
		b.Run(name+"/send", func(b *testing.B) {
			j := kit.New(b, endpoint+"DECLARE STREAM s (n BIGINT, says VARCHAR) FROM TOPIC 'out'; DECLARE SINK k TO "+sink+" VIA d; CREATE JOB j AS SELECT n, says FROM s ROUTE TO k;", env)
			j.Every = time.Second
			j.Start(b)
			j.Until(b, "all are spooled", read(j, 1))
			if err := j.Stop(); err != nil { // it waits until they are sent
				b.Fatal(err)
			}
			b.ReportMetric(many/b.Elapsed().Seconds(), "messages/s")
		})
		log.Close()
	}
}
