package connect_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/trial/kit"

	"github.com/rabbitmq/amqp091-go"
)

// office is an ordinary client of a broker.
func office(t testing.TB, a *kit.AMQP, queues ...string) *amqp091.Channel {
	t.Helper()
	var conn *amqp091.Connection
	var err error
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(50 * time.Millisecond) {
		if conn, err = amqp091.Dial("amqp://timing:" + a.Password + "@" + a.Addr + "/"); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	t.Cleanup(func() { conn.Close() })
	ch, err := conn.Channel()
	if err != nil {
		t.Fatal(err)
	}
	if err := ch.Confirm(false); err != nil {
		t.Fatal(err)
	}
	for _, q := range queues {
		if _, err := ch.QueueDeclare(q, true, false, false, false, nil); err != nil {
			t.Fatal(err)
		}
	}
	return ch
}

var numbers atomic.Int64

// hand hands messages in, with an id each, and waits until the broker has them.
func hand(t testing.TB, ch *amqp091.Channel, queue string, messages ...string) {
	t.Helper()
	var confirms []*amqp091.DeferredConfirmation
	for _, m := range messages {
		c, err := ch.PublishWithDeferredConfirm("", queue, true, false, amqp091.Publishing{DeliveryMode: amqp091.Persistent, MessageId: fmt.Sprintf("m%d", numbers.Add(1)), Headers: amqp091.Table{"unit": "mV", "n": int32(7)}, Body: []byte(m)})
		if err != nil {
			t.Error(err)
			return
		}
		confirms = append(confirms, c)
	}
	for _, c := range confirms {
		if ok, err := c.WaitContext(context.Background()); !ok || err != nil {
			t.Errorf("%v %v", ok, err)
		}
	}
}

// box takes what comes into a queue, each once by its id. It acknowledges nothing: what is sent to a box whose connection breaks comes again.
type box struct {
	mu  sync.Mutex
	ids map[string]bool
	got []string
}

func (b *box) take(t testing.TB, ch *amqp091.Channel, queue string) {
	t.Helper()
	coming, err := ch.Consume(queue, "", false, false, false, false, nil)
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for d := range coming {
			b.mu.Lock()
			if !b.ids[d.MessageId] {
				b.ids[d.MessageId] = true
				b.got = append(b.got, string(d.Body))
			}
			b.mu.Unlock()
		}
	}()
}

func (b *box) all() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.got)
}

// amqpPlace is a queue that is read, and another.
func amqpPlace(broker func() *kit.AMQP) func(*testing.T) *kit.Place {
	var made atomic.Int64
	return func(t *testing.T) *kit.Place {
		a := broker()
		proxy, n := kit.NewProxy(t, a.Addr), made.Add(1)
		in, out := fmt.Sprintf("told%d", n), fmt.Sprintf("kept%d", n)
		var write *amqp091.Channel
		read := &box{ids: map[string]bool{}}
		come := func() {
			write = office(t, a, in, out)
			read.take(t, office(t, a), out)
		}
		come()
		return &kit.Place{
			Source: "DECLARE ENDPOINT d AMQP 'timing@" + proxy.Addr + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM AMQP '" + in + "' VIA d;",
			Sink:   "DECLARE SINK kept TO AMQP '" + out + "' VIA d;", Secret: a.Password,
			Env:   contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return a.Password, nil }}},
			Write: func(t testing.TB, messages []string) { hand(t, write, in, messages...) },
			Away:  func(_ testing.TB, gone bool) { proxy.Cut(gone) },
			Kill: func(t testing.TB) {
				a.Kill(t)
				come()
			},
			Forgets: true,
			Read:    func(testing.TB) []string { return read.all() }}
	}
}

// TestAMQP: what a queue holds is read with its headers, through a connection that is lost; what is sent is routed by its columns, and what no queue is bound for is set aside.
func TestAMQP(t *testing.T) {
	t.Parallel()
	a := kit.StartAMQP(t)
	ch := office(t, a, "entries", "km-5", "finish")
	log, out := topicOut(t)
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return a.Password, nil }}}
	proxy := kit.NewProxy(t, a.Addr)
	endpoint := "DECLARE ENDPOINT d AMQP 'timing@" + proxy.Addr + "' SECRET 'd'; "
	j := kit.New(t, endpoint+`DECLARE STREAM s (unit VARCHAR AS (_headers['unit']), number VARCHAR AS (_headers['n']), queue VARCHAR AS (_key), mat VARCHAR) FROM AMQP 'entries' VIA d;
		DECLARE SINK o TO TOPIC 'out'; DECLARE SINK back TO AMQP '{mat}' VIA d (HEADERS (unit), BAD ROWS keep);
		CREATE JOB j WITH a AS (SELECT unit, number, queue, mat FROM s) ROUTE a TO o, back;`, env)
	hand(t, ch, "entries", `{"mat":"km-5"}`, `{"mat":"nowhere"}`, `nonsense`, `{"mat":"finish"}`)
	j.Start(t)
	j.Until(t, "they are there", func() bool { return len(kit.Values(t, out)) == 3 })
	j.Until(t, "the one is set aside", func() bool {
		st, ok := j.Status()
		return ok && slices.ContainsFunc(st.Steps, func(s flow.Step) bool { return s.Kind == "output" && s.Step == "back" && s.Counts.Rejected == 1 })
	})
	proxy.Cut(true)
	j.Until(t, "it is said that the broker is away", func() bool {
		st, ok := j.Status()
		return ok && len(st.Splits) > 0 && st.Splits[0].Waiting != nil
	})
	hand(t, ch, "entries", `{"mat":"km-5"}`)
	proxy.Cut(false)
	read := &box{ids: map[string]bool{}}
	read.take(t, office(t, a), "km-5")
	j.Until(t, "it goes on", func() bool { return len(kit.Values(t, out)) == 4 && len(read.all()) == 2 })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	if got := kit.Values(t, out); !slices.Contains(got, `{"unit":"mV","number":"7","queue":"entries","mat":"finish"}`) || !slices.Contains(read.all(), `{"number":"7","queue":"entries","mat":"km-5"}`) {
		t.Errorf("%q %q", got, read.all())
	}
	for _, c := range []struct{ endpoint, from, to, want string }{
		{endpoint, "'entries' VIA d", "'km-5' VIA d", ""},
		{endpoint, "'none' VIA d", "'km-5' VIA d", "the broker has no queue 'none'"},
		{endpoint, "'entries' VIA d", "'none' VIA d", "the broker has no queue 'none'"},
		{endpoint, "'entries' VIA d", "'x' VIA d (EXCHANGE 'none')", "the broker has no exchange 'none'"},
		{endpoint, "'entries' VIA d", "'{m}' VIA d", "{m}, which the rows do not have"},
		{strings.Replace(endpoint, "timing@", "nobody@", 1), "'entries' VIA d", "'km-5' VIA d", "username or password not allowed"},
		{strings.Replace(endpoint, "timing@", "timing:x@", 1), "'entries' VIA d", "'km-5' VIA d", "a password does not belong into the address"},
		{strings.Replace(endpoint, "' SECRET", "/march' SECRET", 1), "'entries' VIA d", "'km-5' VIA d", "vhost march not found"},
	} {
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", c.endpoint+"DECLARE STREAM s (n BIGINT) FROM AMQP "+c.from+"; DECLARE SINK o TO AMQP "+c.to+"; CREATE JOB j AS SELECT n FROM s ROUTE TO o;", nil, nil)
		if err == nil {
			err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
		}
		if (err == nil) != (c.want == "") || err != nil && (!strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), a.Password)) {
			t.Errorf("%s %s: %v, wanted %q", c.from, c.to, err, c.want)
		}
	}
}
