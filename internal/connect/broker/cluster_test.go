//go:build cluster

package broker_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

// cluster is three real brokers on loopback, each a process of its own.
type cluster struct {
	t     *testing.T
	dir   string
	path  string
	ports []int
	// What clients of the outer listeners go through; the brokers talk to each other without.
	network []*kit.Proxy
	mu      sync.Mutex
	procs   [3]*exec.Cmd
}

func startCluster(t *testing.T) *cluster {
	t.Helper()
	lib := os.Getenv("FIUME_BROKER_JARS")
	if lib == "" {
		t.Fatal("FIUME_BROKER_JARS says where the broker's jars are; make test-cluster sets it")
	}
	jars, err := filepath.Glob(filepath.Join(lib, "*.jar"))
	if err != nil || len(jars) == 0 {
		t.Fatalf("no jars in %s: %v", lib, err)
	}
	c := &cluster{t: t, dir: t.TempDir(), path: strings.Join(jars, ":")}
	var held []net.Listener
	for range 9 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, l)
		c.ports = append(c.ports, l.Addr().(*net.TCPAddr).Port)
	}
	for _, l := range held {
		l.Close()
	}
	var voters []string
	for i := range 3 {
		voters = append(voters, fmt.Sprintf("%d@127.0.0.1:%d", i, c.ports[3+i]))
	}
	id, err := exec.Command("java", "-cp", c.path, "kafka.tools.StorageTool", "random-uuid").Output()
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		c.network = append(c.network, kit.NewProxy(t, fmt.Sprint("127.0.0.1:", c.ports[6+i])))
		text := fmt.Sprintf(`process.roles=broker,controller
node.id=%d
controller.quorum.voters=%s
listeners=PLAINTEXT://127.0.0.1:%d,OUTER://127.0.0.1:%d,CONTROLLER://127.0.0.1:%d
advertised.listeners=PLAINTEXT://127.0.0.1:%d,OUTER://%s
listener.security.protocol.map=PLAINTEXT:PLAINTEXT,OUTER:PLAINTEXT,CONTROLLER:PLAINTEXT
inter.broker.listener.name=PLAINTEXT
controller.listener.names=CONTROLLER
log.dirs=%s
offsets.topic.replication.factor=3
offsets.topic.num.partitions=4
transaction.state.log.replication.factor=3
transaction.state.log.min.isr=2
transaction.state.log.num.partitions=4
default.replication.factor=3
min.insync.replicas=2
group.initial.rebalance.delay.ms=0
broker.session.timeout.ms=6000
broker.heartbeat.interval.ms=500
controller.quorum.election.timeout.ms=500
controller.quorum.fetch.timeout.ms=1500
log.retention.ms=-1
num.io.threads=2
num.network.threads=2
`, i, strings.Join(voters, ","), c.ports[i], c.ports[6+i], c.ports[3+i], c.ports[i], c.network[i].Addr, filepath.Join(c.dir, fmt.Sprint("data", i)))
		if err := os.WriteFile(c.config(i), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("java", "-cp", c.path, "kafka.tools.StorageTool", "format", "-t", strings.TrimSpace(string(id)), "-c", c.config(i)).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		c.start(i)
	}
	t.Cleanup(func() {
		for i := range 3 {
			c.kill(i)
		}
	})
	return c
}

func (c *cluster) config(i int) string {
	return filepath.Join(c.dir, fmt.Sprintf("broker%d.properties", i))
}

func (c *cluster) start(i int) {
	out, err := os.OpenFile(filepath.Join(c.dir, fmt.Sprintf("broker%d.log", i)), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		c.t.Fatal(err)
	}
	defer out.Close()
	p := exec.Command("java", "-Xmx256m", "-Xms64m", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1", "-cp", c.path, "kafka.Kafka", c.config(i))
	p.Stdout, p.Stderr = out, out
	if err := p.Start(); err != nil {
		c.t.Fatal(err)
	}
	c.mu.Lock()
	c.procs[i] = p
	c.mu.Unlock()
}

func (c *cluster) signal(i int, s syscall.Signal) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if p := c.procs[i]; p != nil {
		_ = p.Process.Signal(s)
	}
}

// kill ends a broker with kill -9.
func (c *cluster) kill(i int) {
	c.mu.Lock()
	p := c.procs[i]
	c.procs[i] = nil
	c.mu.Unlock()
	if p != nil {
		_ = p.Process.Kill()
		_ = p.Wait()
	}
}

func (c *cluster) addrs() (out []string) {
	for _, p := range c.ports[:3] {
		out = append(out, fmt.Sprint("127.0.0.1:", p))
	}
	return out
}

// outer are the addresses that lead through the network that can be cut.
func (c *cluster) outer() (out []string) {
	for _, p := range c.network {
		out = append(out, p.Addr)
	}
	return out
}

// client makes an ordinary client once the brokers are ready.
func (c *cluster) client(more ...kgo.Opt) *kgo.Client {
	cl, err := kgo.NewClient(append([]kgo.Opt{kgo.SeedBrokers(c.addrs()...), kgo.RequiredAcks(kgo.AllISRAcks())}, more...)...)
	if err != nil {
		c.t.Fatal(err)
	}
	c.t.Cleanup(cl.Close)
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(200 * time.Millisecond) {
		found, err := kadm.NewClient(cl).ListBrokers(c.t.Context())
		if err == nil && len(found) == 3 {
			return cl
		}
		if time.Now().After(deadline) {
			b, _ := os.ReadFile(filepath.Join(c.dir, "broker0.log"))
			c.t.Fatalf("the brokers do not come: %v %v\n%s", found, err, b[max(0, len(b)-3000):])
		}
	}
}

func times(name string, def int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return def
}

// TestCluster: a job runs between topics of a real cluster, while it is killed, brokers are killed with kill -9 and frozen, the network between them is cut, leaders move, and partitions are
// added.
// What an ordinary client finds that reads committed messages is what a plain computation says, each row once. KILLS says how often each is killed.
func TestCluster(t *testing.T) {
	c := startCluster(t)
	cl := c.client(kgo.RecordPartitioner(kgo.ManualPartitioner()))
	admin := kadm.NewClient(cl)
	for _, topic := range []string{"reads", "odd", "counts"} {
		if _, err := admin.CreateTopic(t.Context(), 2, 3, nil, topic); err != nil {
			t.Fatal(err)
		}
	}
	kills := times("KILLS", 4)
	seed := uint64(times("SEED", 1))
	r := rand.New(rand.NewPCG(seed, 5))
	job := kit.New(t, "DECLARE ENDPOINT b BROKER '"+strings.Join(c.outer(), ",")+"';\n"+jobText, contract.Env{})
	job.Every = 300 * time.Millisecond
	total := 0
	parts := int32(2)
	write := func(many int) {
		var recs []*kgo.Record
		for range many {
			recs = append(recs, &kgo.Record{Topic: "reads", Partition: int32(total) % parts, Value: []byte(read(total)), Timestamp: time.UnixMilli(base + int64(total)*20)})
			total++
		}
		send(t, cl, recs...)
	}
	job.Start(t)
	write(500)
	down := -1
	jobKills, brokerKills, lives := 0, 0, 1
	for step := 0; jobKills < kills || brokerKills < kills; step++ {
		write(150 + r.IntN(300))
		t.Logf("step %d, %d messages, broker %d is down", step, total, down)
		switch what := r.IntN(6); {
		case what < 2 && jobKills < kills:
			if err := job.Kill(); err != nil {
				t.Logf("step %d: the job had ended: %v", step, err)
			}
			job.Start(t)
			jobKills++
			lives++
		case what < 4 && brokerKills < kills:
			if down >= 0 { // two of three must be there
				c.start(down)
				whole(t, admin)
			}
			down = r.IntN(3)
			c.kill(down)
			brokerKills++
		case what == 4: // one stands still for a while
			i := r.IntN(3)
			if i != down && down < 0 {
				c.signal(i, syscall.SIGSTOP)
				time.Sleep(time.Duration(500+r.IntN(2500)) * time.Millisecond)
				c.signal(i, syscall.SIGCONT)
			}
		case what == 5: // the job reaches none of them, or not one
			one := r.IntN(6)
			for i, p := range c.network {
				p.Cut(one > 2 || one == i)
			}
			time.Sleep(time.Duration(300+r.IntN(2500)) * time.Millisecond)
			for _, p := range c.network {
				p.Cut(false)
			}
		}
		time.Sleep(time.Duration(r.IntN(700)) * time.Millisecond)
		if step == 4 {
			if down >= 0 {
				c.start(down)
				down = -1
				whole(t, admin)
			}
			if _, err := admin.UpdatePartitions(t.Context(), 4, "reads"); err != nil {
				t.Fatal(err)
			}
			for deadline := time.Now().Add(kit.Patience); ; time.Sleep(100 * time.Millisecond) {
				if st, ok := job.Status(); ok && len(st.Splits) == 4 {
					break
				}
				if err, over := job.Ended(); over { // a start failed while brokers were away
					t.Logf("the job had ended: %v", err)
					job.Start(t)
				}
				if time.Now().After(deadline) {
					st, _ := job.Status()
					t.Fatalf("the partitions are not read: %+v %q", st.Splits, job.Said())
				}
			}
			cl = c.client(kgo.RecordPartitioner(kgo.ManualPartitioner())) // it knows the partitions
			parts = 4
		}
		if err, over := job.Ended(); over {
			t.Logf("step %d: the job had ended: %v", step, err)
			job.Start(t)
			lives++
		}
	}
	if down >= 0 {
		c.start(down)
	}
	whole(t, admin)
	write(1000)
	listed, err := admin.ListEndOffsets(t.Context(), "reads")
	if err != nil {
		t.Fatal(err)
	}
	sum := int64(0)
	listed.Each(func(o kadm.ListedOffset) { sum += o.Offset })
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(100 * time.Millisecond) {
		at := int64(0)
		st, ok := job.Status()
		for _, s := range st.Splits {
			at += s.Next
		}
		if ok && at >= sum {
			break
		}
		if err, over := job.Ended(); over {
			t.Logf("the job had ended: %v", err)
			job.Start(t)
		}
		if time.Now().After(deadline) {
			t.Fatalf("not all is read: %d of %d, %+v %q", at, sum, st, job.Said())
		}
	}
	st := job.Settled(t)
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	late, lost := int64(0), int64(0)
	for _, s := range st.Steps {
		late += s.Counts.Late + s.Counts.Rejected
		lost += s.Counts.Lost
	}
	if late > 0 || lost > 0 {
		t.Errorf("%d rows are late or rejected, %d messages were gone before they were read", late, lost)
	}
	reader := func(topic string) []*kgo.Record { return committedOf(t, c.addrs(), topic) }
	var got, want []string
	for _, m := range reader("odd") {
		got = append(got, string(m.Value))
	}
	for i := range total {
		if i%2 == 1 {
			want = append(want, fmt.Sprintf(`{"chip":"P%d","n":%d}`, i%50, i))
		}
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("odd: %s", difference(got, want))
	}
	closed := windows(t, total, reader("counts"))
	ordinary(t, c, len(want))
	t.Logf("%d messages, %d kills of the job in %d lives, %d kills of brokers: %d rows and %d windows, each once", total, jobKills, lives, brokerKills, len(got), closed)
}

// ordinary has the broker's own console client count the committed messages of the sink.
func ordinary(t *testing.T, c *cluster, want int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, "java", "-Xmx128m", "-cp", c.path, "org.apache.kafka.tools.consumer.ConsoleConsumer", "--bootstrap-server", c.addrs()[0], "--topic", "odd",
		"--isolation-level", "read_committed", "--from-beginning", "--max-messages", fmt.Sprint(want), "--timeout-ms", "60000").CombinedOutput()
	if n := bytes.Count(out, []byte(`{"chip"`)); err != nil || n != want {
		said := slices.DeleteFunc(strings.Split(string(out), "\n"), func(line string) bool { return strings.HasPrefix(line, `{"chip"`) })
		t.Errorf("the broker's console client reads %d committed messages, wanted %d: %v\n%s", n, want, err, strings.Join(said[max(0, len(said)-10):], "\n"))
	}
}

// whole waits until every partition has all its replicas again.
func whole(t *testing.T, admin *kadm.Client) {
	t.Helper()
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(200 * time.Millisecond) {
		found, err := admin.ListTopicsWithInternal(t.Context())
		low := 0
		for _, topic := range found {
			for _, p := range topic.Partitions {
				if len(p.ISR) < 3 {
					low++
				}
			}
		}
		if err == nil && low == 0 && len(found) > 0 {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d partitions lack replicas: %v", low, err)
		}
	}
}
