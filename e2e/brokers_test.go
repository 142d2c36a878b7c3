package e2e

import (
	"bytes"
	"context"
	be "encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/service/topics"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// serveBrokers starts a service that answers ordinary clients of brokers, and gives where.
func serveBrokers(t testing.TB, dir, listen, brokers string) (*process, string) {
	t.Helper()
	p := start(t, "serve", "--dir", dir, "--listen", listen, "--brokers-listen", brokers, "--files", os.TempDir())
	const says = "find the topics at "
	eventually(t, "the address for clients", func() bool { return strings.Contains(p.out.String(), says) })
	_, at, _ := strings.Cut(p.out.String(), says)
	return p, strings.TrimSpace(strings.SplitN(at, "\n", 2)[0])
}

// ordinary makes a client.
func ordinary(t testing.TB, at string, opts ...kgo.Opt) *kgo.Client {
	t.Helper()
	c, err := kgo.NewClient(append([]kgo.Opt{kgo.SeedBrokers(at), kgo.MetadataMinAge(50 * time.Millisecond)}, opts...)...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.CloseAllowingRebalance)
	return c
}

func kcat(t *testing.T, in string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "kcat", args...)
	cmd.Stdin = strings.NewReader(in)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("kcat %s: %v\n%s", strings.Join(args, " "), err, errs.String())
	}
	return string(out)
}

// TestOrdinaryClients: clients of brokers make topics, write to them in all ways of packing, and read them, with keys, headers and times; Fiume's jobs read what they
// wrote, and they read what jobs write.
func TestOrdinaryClients(t *testing.T) {
	p, at := serveBrokers(t, t.TempDir(), "127.0.0.1:0", "127.0.0.1:0")
	c := ordinary(t, at)
	admin := kadm.NewClient(c)
	ctx := t.Context()
	keep := "3600000"
	if _, err := admin.CreateTopic(ctx, 3, 1, map[string]*string{"retention.ms": &keep}, "reads"); err != nil {
		t.Fatal(err)
	}
	if _, err := admin.CreateTopic(ctx, 1, 1, nil, "reads"); !errors.Is(err, kerr.TopicAlreadyExists) {
		t.Errorf("a topic twice: %v", err)
	}
	for _, bad := range []struct {
		partitions int32
		replicas   int16
		name       string
		err        error
	}{{0, 1, "x", kerr.InvalidPartitions}, {1, 3, "x", kerr.InvalidReplicationFactor}, {1, 1, "a/b", kerr.InvalidTopicException}} {
		if _, err := admin.CreateTopic(ctx, bad.partitions, bad.replicas, nil, bad.name); !errors.Is(err, bad.err) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	p.apply(`DECLARE STREAM reads (chip VARCHAR, n BIGINT) FROM TOPIC 'reads'; CREATE TOPIC counts; DECLARE SINK counts TO TOPIC 'counts' (KEY (chip));
		CREATE JOB odd AS SELECT chip, n FROM reads WHERE n % 2 = 1 ROUTE TO counts;`)
	sent := 0
	for _, pack := range []kgo.CompressionCodec{kgo.NoCompression(), kgo.GzipCompression(), kgo.SnappyCompression(), kgo.Lz4Compression(), kgo.ZstdCompression()} {
		w := ordinary(t, at, kgo.ProducerBatchCompression(pack), kgo.DefaultProduceTopic("reads"))
		for range 200 {
			r := &kgo.Record{Key: fmt.Appendf(nil, "C%d", sent%17), Value: fmt.Appendf(nil, `{"chip":"C%d","n":%d}`, sent%17, sent), Timestamp: time.UnixMilli(1_779_000_000_000 + int64(sent)),
				Headers: []kgo.RecordHeader{{Key: "n", Value: fmt.Append(nil, sent)}, {Key: "none"}}}
			w.Produce(ctx, r, func(_ *kgo.Record, err error) {
				if err != nil {
					t.Errorf("writing: %v", err)
				}
			})
			sent++
		}
		if err := w.Flush(ctx); err != nil {
			t.Fatal(err)
		}
	}
	kcat(t, "C3:{\"chip\":\"C3\",\"n\":1001}\n", "-b", at, "-P", "-t", "reads", "-K:", "-z", "snappy", "-H", "n=1001", "-H", "none")
	sent++
	// Another client reads them: whole, each once, in order within a partition, with headers and times.
	lines := strings.Split(strings.TrimSpace(kcat(t, "", "-b", at, "-C", "-t", "reads", "-e", "-q", "-f", "%k %s %h\n")), "\n")
	if len(lines) != sent {
		t.Fatalf("%d messages of %d", len(lines), sent)
	}
	for _, l := range lines {
		var chip string
		var n int
		if _, err := fmt.Sscanf(l, "%s", &chip); err != nil {
			t.Fatal(err)
		}
		_, after, _ := strings.Cut(l, `"n":`)
		if _, err := fmt.Sscanf(after, "%d", &n); err != nil || !strings.Contains(l, fmt.Sprintf("n=%d", n)) {
			t.Fatalf("%q: %v", l, err)
		}
	}
	// What Fiume sees of them, and makes of them.
	list, err := p.Topics(ctx)
	if err != nil {
		t.Fatal(err)
	}
	info := list[slices.IndexFunc(list, func(x topics.TopicInfo) bool { return x.Name == "reads" })]
	if info.Messages != int64(sent) || info.FirstAt == nil || info.FirstAt.Year() != 2026 || info.Retain != "1 HOUR" {
		t.Errorf("%+v %v", info, err)
	}
	eventually(t, "the job has read all", func() bool { return len(p.messages("counts")) == 501 })
	r := ordinary(t, at, kgo.ConsumeTopics("counts"))
	seen := map[string]bool{}
	for len(seen) < 501 {
		got := r.PollFetches(ctx)
		if err := got.Err(); err != nil {
			t.Fatal(err)
		}
		got.EachRecord(func(r *kgo.Record) {
			if seen[string(r.Value)] || !strings.Contains(string(r.Value), string(r.Key)) {
				t.Fatalf("%s %s", r.Key, r.Value)
			}
			seen[string(r.Value)] = true
		})
	}
	// What messages have besides their values is there for computed columns, in the values' place in the log, and over the wire from ourselves as another broker.
	p.apply(`DECLARE ENDPOINT self BROKER '` + at + `';
		DECLARE STREAM whole (n BIGINT, k VARCHAR AS (_key), h VARCHAR AS (_headers['n']), more BIGINT AS (CARDINALITY(_headers)), t VARCHAR AS (_topic), part INT AS (_partition), off BIGINT AS (_offset), at TIMESTAMP AS (_time)) EVENT TIME at FROM TOPIC 'reads';
		DECLARE STREAM over (n BIGINT, k VARCHAR AS (_key), h VARCHAR AS (_headers['n']), more BIGINT AS (CARDINALITY(_headers)), t VARCHAR AS (_topic), part INT AS (_partition), off BIGINT AS (_offset), at TIMESTAMP AS (_time)) EVENT TIME at FROM BROKER 'reads' VIA self;`)
	rows := func(of string) []string {
		t.Helper()
		out := strings.Split(strings.TrimSpace(p.fiume("", "query", "SELECT n, k, h, more, t, part, off, at FROM "+of+" SINCE BEGINNING UNTIL NOW", "-o", "json").want(t, 0).out), "\n")
		slices.Sort(out)
		return out
	}
	own, over := rows("whole"), rows("over")
	if len(own) != sent || !slices.Equal(own, over) {
		t.Errorf("%d and %d rows: %.300s", len(own), len(over), own)
	}
	for _, row := range own {
		var x struct {
			N, More, Part, Off int64
			K, H, T, At        string
		}
		if err := json.Unmarshal([]byte(row), &x); err != nil {
			t.Fatal(err)
		}
		if x.N == 1001 { // of the other client, whose time is now
			continue
		}
		if x.K != fmt.Sprintf("C%d", x.N%17) || x.H != fmt.Sprint(x.N) || x.More != 2 || x.T != "reads" || x.At != time.UnixMilli(1_779_000_000_000+x.N).UTC().Format("2006-01-02T15:04:05.000Z") {
			t.Fatalf("%s", row)
		}
	}
	p.fiume("", "topic", "read", "reads", "--last", "1", "-o", "json").want(t, 0, `"headers":{"n":`)
	// Offsets of times; partitions that come; topics that are used.
	after, err := admin.ListOffsetsAfterMilli(ctx, 1_779_000_000_500, "reads")
	if err != nil {
		t.Fatal(err)
	}
	after.Each(func(o kadm.ListedOffset) {
		if o.Timestamp < 1_779_000_000_500 {
			t.Errorf("%+v", o)
		}
	})
	if got, err := admin.CreatePartitions(ctx, 2, "reads"); err != nil || got["reads"].Err != nil {
		t.Errorf("%v %v", got, err)
	}
	if m, err := admin.Metadata(ctx, "reads", "nowhere"); err != nil || len(m.Topics["reads"].Partitions) != 5 || !errors.Is(m.Topics["nowhere"].Err, kerr.UnknownTopicOrPartition) {
		t.Errorf("%+v %v", m, err)
	}
	if got, err := admin.DeleteTopics(ctx, "reads", "nowhere"); err != nil || !errors.Is(got["reads"].Err, kerr.PolicyViolation) || !errors.Is(got["nowhere"].Err, kerr.UnknownTopicOrPartition) {
		t.Errorf("%+v %v", got, err)
	}
	// What is not taken is said in words that end a client's tries.
	tx, err := kgo.NewClient(kgo.SeedBrokers(at), kgo.TransactionalID("t"), kgo.RetryTimeout(5*time.Second))
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	if _, _, err := tx.ProducerID(ctx); !errors.Is(err, kerr.TransactionalIDAuthorizationFailed) {
		t.Errorf("a transaction: %v", err)
	}
	p.stop()
}

// line is how a client reaches the service, which can be cut.
type line struct {
	mu    sync.Mutex
	cut   bool
	conns []net.Conn
}

func (l *line) dial(ctx context.Context, network, address string) (net.Conn, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut {
		return nil, errors.New("the line is cut")
	}
	c, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err == nil {
		l.conns = append(l.conns, c)
	}
	return c, err
}

func (l *line) cutOff() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut = true
	for _, c := range l.conns {
		_ = c.Close()
	}
}

// TestGroupsOfClients: members of a group share the partitions; one that dies is replaced, and the service may be killed: the group goes on where it was.
func TestGroupsOfClients(t *testing.T) {
	dir := t.TempDir()
	p, at := serveBrokers(t, dir, "127.0.0.1:0", "127.0.0.1:0")
	p.apply("CREATE TOPIC reads (PARTITIONS 4);")
	const n = 6000
	w := ordinary(t, at, kgo.DefaultProduceTopic("reads"), kgo.RecordPartitioner(kgo.RoundRobinPartitioner()), kgo.RecordRetries(1000), kgo.ProducerBatchMaxBytes(2000))
	var mu sync.Mutex
	seen := map[int]int{}
	next := 0
	send := func(k int) {
		t.Helper()
		var recs []*kgo.Record
		for range k {
			recs = append(recs, &kgo.Record{Value: fmt.Append(nil, next)})
			next++
		}
		if err := w.ProduceSync(t.Context(), recs...).FirstErr(); err != nil {
			t.Fatal(err)
		}
	}
	// A member reads, notes and commits what it has noted: what is read twice was read by one that died before it could commit.
	reader := func() (stop func(), to *line, client *kgo.Client) {
		to = &line{}
		c := ordinary(t, at, kgo.Dialer(to.dial), kgo.ConsumeTopics("reads"), kgo.ConsumerGroup("g"), kgo.DisableAutoCommit(), kgo.SessionTimeout(2*time.Second), kgo.HeartbeatInterval(200*time.Millisecond),
			kgo.RebalanceTimeout(5*time.Second), kgo.BlockRebalanceOnPoll(), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
		ctx, cancel := context.WithCancel(t.Context())
		var done sync.WaitGroup
		done.Go(func() {
			for ctx.Err() == nil {
				got := c.PollRecords(ctx, 100)
				mu.Lock()
				got.EachRecord(func(r *kgo.Record) {
					var x int
					_, _ = fmt.Sscan(string(r.Value), &x)
					seen[x]++
				})
				mu.Unlock()
				if ctx.Err() == nil && len(got.Records()) > 0 {
					_ = c.CommitUncommittedOffsets(ctx) // a failure is one of a generation that has ended
				}
				c.AllowRebalance()
			}
		})
		return func() { cancel(); done.Wait() }, to, c
	}
	all := func(k int) func() bool {
		return func() bool {
			mu.Lock()
			defer mu.Unlock()
			return len(seen) == k
		}
	}
	stopOne, one, _ := reader()
	stopTwo, two, _ := reader()
	send(n / 3)
	eventually(t, "a third is read", all(n/3))
	admin := kadm.NewClient(w)
	eventually(t, "two members share the partitions", func() bool {
		d, err := admin.DescribeGroups(t.Context(), "g")
		if err != nil || d["g"].State != "Stable" || len(d["g"].Members) != 2 {
			return false
		}
		for _, m := range d["g"].Members {
			a, ok := m.Assigned.AsConsumer()
			if !ok || len(a.Topics) != 1 || len(a.Topics[0].Partitions) != 2 {
				return false
			}
		}
		return true
	})
	one.cutOff() // it does not say that it leaves
	stopOne()
	send(n / 3)
	eventually(t, "two thirds are read", all(2*n/3))
	two.cutOff()
	stopTwo()
	// The service is killed while messages are being written, and comes back at the same place.
	var writing sync.WaitGroup
	writing.Go(func() { send(n / 3) })
	time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
	p.kill()
	p, _ = serveBrokers(t, dir, "127.0.0.1:0", at)
	writing.Wait()
	before := len(seen)
	stopThree, _, three := reader()
	eventually(t, "all is read", all(n))
	stopThree()
	three.LeaveGroup()
	again := 0
	for _, k := range seen {
		if k > 1 {
			again += k - 1
		}
	}
	if before < 2*n/3 || again > 1200 { // what each member had at hand when it was stopped
		t.Errorf("%d were read before, %d twice", before, again)
	}
	// Each is there once, though the producer has sent some again.
	got := strings.Fields(kcat(t, "", "-b", at, "-C", "-t", "reads", "-e", "-q", "-f", "%s\n"))
	slices.Sort(got)
	if len(got) != n || len(slices.Compact(got)) != n {
		t.Errorf("%d messages of %d, some twice", len(got), n)
	}
	// How far the group is can be asked, set where nobody is in it, and forgotten.
	eventually(t, "the group is empty", func() bool {
		d, err := admin.DescribeGroups(t.Context(), "g")
		return err == nil && d["g"].State == "Empty"
	})
	lag, err := admin.Lag(t.Context(), "g")
	if l := lag["g"].Lag.Total(); err != nil || l != 0 {
		t.Errorf("%+v %v", lag, err)
	}
	var back kadm.Offsets
	back.Add(kadm.Offset{Topic: "reads", Partition: 1, At: 3, LeaderEpoch: -1})
	if _, err := admin.CommitOffsets(t.Context(), "g", back); err != nil {
		t.Error(err)
	}
	if o, err := admin.FetchOffsets(t.Context(), "g"); err != nil || o["reads"][1].At != 3 {
		t.Errorf("%+v %v", o, err)
	}
	if d, err := admin.DeleteGroups(t.Context(), "g", "h"); err != nil || d["g"].Err != nil || !errors.Is(d["h"].Err, kerr.GroupIDNotFound) {
		t.Errorf("%+v %v", d, err)
	}
	if l, err := admin.ListGroups(t.Context()); err != nil || len(l) != 0 {
		t.Errorf("%+v %v", l, err)
	}
	p.stop()
}

// exchanged sends bytes as they are, and gives the answer; nil where the connection was ended.
func exchanged(t *testing.T, at string, b []byte) []byte {
	t.Helper()
	c, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, _ = c.Write(b) // it may have been ended
	_ = c.(*net.TCPConn).CloseWrite()
	_ = c.SetReadDeadline(time.Now().Add(patience))
	out, _ := io.ReadAll(c)
	return out
}

// framed puts the length and the head of a request before it.
func framed(key, version int16, body []byte) []byte {
	b := be.BigEndian.AppendUint16(nil, uint16(key))
	b = be.BigEndian.AppendUint16(b, uint16(version))
	b = append(be.BigEndian.AppendUint32(b, 7), 0, 1, 'x')
	return append(be.BigEndian.AppendUint32(nil, uint32(len(b)+len(body))), append(b, body...)...)
}

// TestHostileClients: what no client sends ends its connection at most; and a batch that would be broken in the log does not come into it.
func TestHostileClients(t *testing.T) {
	p, at := serveBrokers(t, t.TempDir(), "127.0.0.1:0", "127.0.0.1:0")
	p.apply("CREATE TOPIC reads;")
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		b := make([]byte, r.IntN(200))
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		key, version := int16(r.IntN(50)), int16(r.IntN(12))
		exchanged(t, at, framed(key, version, b))
		exchanged(t, at, b)
	}
	exchanged(t, at, []byte{0x7f, 0xff, 0xff, 0xff})
	exchanged(t, at, []byte("GET / HTTP/1.1\r\n\r\n"))
	// A count of topics that there are no bytes for.
	exchanged(t, at, framed(0, 3, []byte{0xff, 0xff, 0, 1, 0, 0, 0, 0, 0x7f, 0xff, 0xff, 0xf0}))
	// A newer version of the first question is answered in the oldest.
	if got := exchanged(t, at, framed(18, 9, []byte{0})); len(got) < 14 || be.BigEndian.Uint16(got[8:]) != 35 {
		t.Errorf("%x", got)
	}
	// Batches with something wrong in them.
	c := ordinary(t, at)
	whole := func() []byte {
		rec := kmsg.Record{OffsetDelta: 0, Key: []byte("k"), Value: []byte(`{"n":1}`)}
		rec.Length = int32(len(rec.AppendTo(nil)) - 1)
		body := rec.AppendTo(nil)
		b := kmsg.RecordBatch{Magic: 2, FirstTimestamp: 1, MaxTimestamp: 1, ProducerID: -1, ProducerEpoch: -1, FirstSequence: -1, NumRecords: 1, Records: body}
		b.Length = int32(49 + len(body))
		return b.AppendTo(nil)
	}
	send := func(b []byte) int16 {
		t.Helper()
		q := kmsg.NewPtrProduceRequest()
		q.Acks, q.TimeoutMillis = -1, 1000
		rt := kmsg.NewProduceRequestTopic()
		rt.Topic = "reads"
		rp := kmsg.NewProduceRequestTopicPartition()
		rp.Records = b
		rt.Partitions = append(rt.Partitions, rp)
		q.Topics = append(q.Topics, rt)
		resp, err := q.RequestWith(t.Context(), c)
		if err != nil {
			t.Fatal(err)
		}
		return resp.Topics[0].Partitions[0].ErrorCode
	}
	if code := send(summed(whole())); code != 0 {
		t.Fatalf("a whole batch: %v", kerr.ErrorForCode(code))
	}
	for what, change := range map[string]func(b []byte) []byte{
		"sum":           func(b []byte) []byte { b[30]++; return b },
		"records":       func(b []byte) []byte { b[60] = 2; return summed(b) },
		"deltas":        func(b []byte) []byte { b[26] = 5; return summed(b) },
		"length":        func(b []byte) []byte { b[61] += 2; return summed(b) },
		"key":           func(b []byte) []byte { b[65] = 0x7e; return summed(b) },
		"behind":        func(b []byte) []byte { b[11]++; return summed(append(b, 0)) },
		"transaction":   func(b []byte) []byte { b[22] = 16; return summed(b) },
		"packed":        func(b []byte) []byte { b[22] = 4; return summed(b) },
		"packed oddly":  func(b []byte) []byte { b[22] = 7; return summed(b) },
		"time":          func(b []byte) []byte { b[27] = 0x7f; return summed(b) },
		"old format":    func(b []byte) []byte { b[16] = 1; return b },
		"cut off":       func(b []byte) []byte { return b[:40] },
		"nothing":       func([]byte) []byte { return nil },
		"no sequence":   func(b []byte) []byte { copy(b[43:], make([]byte, 10)); return summed(b) },
		"minus lengths": func(b []byte) []byte { b[8] = 0xff; return b },
	} {
		if code := send(change(whole())); code == 0 {
			t.Errorf("%s: the batch was taken", what)
		}
	}
	// A producer's batch that comes again is there once; one that is missing is missed; an older epoch is shut out.
	as := func(epoch int16, sequence int32) []byte {
		b := whole()
		be.BigEndian.PutUint64(b[43:], 4711)
		be.BigEndian.PutUint16(b[51:], uint16(epoch))
		be.BigEndian.PutUint32(b[53:], uint32(sequence))
		return summed(b)
	}
	for i, x := range []struct {
		epoch    int16
		sequence int32
		err      *kerr.Error
	}{{0, 0, nil}, {0, 1, nil}, {0, 1, nil}, {0, 0, nil}, {0, 3, kerr.OutOfOrderSequenceNumber}, {0, 2, nil}, {1, 5, kerr.OutOfOrderSequenceNumber}, {1, 0, nil}, {0, 3, kerr.InvalidProducerEpoch}} {
		if err := kerr.ErrorForCode(send(as(x.epoch, x.sequence))); (x.err == nil) != (err == nil) || x.err != nil && !errors.Is(err, x.err) {
			t.Errorf("%d: %v, wanted %v", i, err, x.err)
		}
	}
	if ms := p.messages("reads"); len(ms) != 5 {
		t.Errorf("%d messages: %v", len(ms), ms)
	}
	p.stop()
}

// summed writes the sum of a batch anew.
func summed(b []byte) []byte {
	be.BigEndian.PutUint32(b[17:], castagnoli(b[21:]))
	return b
}

func castagnoli(b []byte) uint32 { return crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)) }

// BenchmarkOrdinaryClients writes a million messages through the brokers' protocol, and reads them with a group.
func BenchmarkOrdinaryClients(b *testing.B) {
	p, at := serveBrokers(b, b.TempDir(), "127.0.0.1:0", "127.0.0.1:0")
	p.apply("CREATE TOPIC many (PARTITIONS 4);")
	const n = 1_000_000
	for b.Loop() {
		w := ordinary(b, at, kgo.DefaultProduceTopic("many"), kgo.ProducerLinger(5*time.Millisecond), kgo.MaxBufferedRecords(200_000))
		value := []byte(`{"chip":"C01234","mat":"km-10","read_at":"2026-05-17T09:00:00.123Z","rssi":-61.5}`)
		began := time.Now()
		var failed error
		for i := range n {
			w.Produce(b.Context(), &kgo.Record{Key: fmt.Appendf(nil, "C%05d", i%9973), Value: value}, func(_ *kgo.Record, err error) {
				if err != nil {
					failed = err
				}
			})
		}
		if err := errors.Join(w.Flush(b.Context()), failed); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(n/time.Since(began).Seconds(), "written/s")
		w.Close()
		began = time.Now()
		r := ordinary(b, at, kgo.ConsumeTopics("many"), kgo.ConsumerGroup(fmt.Sprint("g", began.UnixNano())), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
		for got := 0; got < n; {
			f := r.PollFetches(b.Context())
			if err := f.Err(); err != nil {
				b.Fatal(err)
			}
			got += f.NumRecords()
		}
		b.ReportMetric(n/time.Since(began).Seconds(), "read/s")
		r.Close()
	}
}

// TestClientInJavaScript: a client in another language writes, reads with a group, and goes on where the group was.
func TestClientInJavaScript(t *testing.T) {
	p, at := serveBrokers(t, t.TempDir(), "127.0.0.1:0", "127.0.0.1:0")
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	modules, err := filepath.Abs("../console/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.CommandContext(ctx, "node", "testdata/client.cjs", at, "words")
	cmd.Env = append(os.Environ(), "NODE_PATH="+modules)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v\n%s", err, errs.String())
	}
	if got := strings.TrimSpace(string(out)); got != `{"first":[0,499,500],"second":[500,599,100]}` {
		t.Errorf("%s\n%s", got, errs.String())
	}
	p.stop()
}
