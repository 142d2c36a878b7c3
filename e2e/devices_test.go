package e2e

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/packets"
)

// device is a device on a connection of its own.
type device struct {
	net.Conn
	id uint16
}

// connected connects a device that speaks a version of MQTT, 4 for 3.1.1 or 5. will is a topic to say something to when it is lost.
func connected(t testing.TB, at string, version byte, will string) *device {
	t.Helper()
	c, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	text := func(b []byte, s string) []byte { return append(append(b, byte(len(s)>>8), byte(len(s))), s...) }
	b := append(text(nil, "MQTT"), version, 2, 0, 60)
	if will != "" {
		b[7] |= 4
	}
	if version == 5 {
		b = append(b, 0)
	}
	b = text(b, fmt.Sprintf("device-%s", c.LocalAddr()))
	if will != "" {
		if version == 5 {
			b = append(b, 0)
		}
		b = text(text(b, will), `{"battery":0}`)
	}
	if _, err := c.Write(append([]byte{0x10, byte(len(b))}, b...)); err != nil {
		t.Fatal(err)
	}
	_ = c.SetReadDeadline(time.Now().Add(patience))
	var ack [4]byte
	if _, err := c.Read(ack[:]); err != nil || ack[0] != 0x20 || ack[3] != 0 && version == 4 {
		t.Fatalf("%x %v", ack, err)
	}
	if version == 5 { // the rest of it
		rest := make([]byte, int(ack[1])-2)
		if _, err := c.Read(rest); err != nil {
			t.Fatal(err)
		}
	}
	return &device{Conn: c}
}

// publish publishes with QoS 1 and gives the answer's reason, or the error of a connection that was ended.
func (d *device) publish(version byte, topic, payload string) (reason byte, err error) {
	d.id++
	body := append([]byte{byte(len(topic) >> 8), byte(len(topic))}, topic...)
	body = append(body, byte(d.id>>8), byte(d.id))
	if version == 5 {
		body = append(body, 0)
	}
	body = append(body, payload...)
	if _, err := d.Write(append([]byte{0x32, byte(len(body))}, body...)); err != nil {
		return 0, err
	}
	_ = d.SetReadDeadline(time.Now().Add(patience))
	p, err := packets.ReadPacket(d)
	if err != nil {
		return 0, err
	}
	ack, ok := p.Content.(*packets.Puback)
	if !ok || ack.PacketID != d.id {
		return 0, fmt.Errorf("%v", p)
	}
	return ack.ReasonCode, nil
}

var devicesAt = regexp.MustCompile(`Devices publish at (\S+),`)

// BenchmarkDevices has 10,000 devices publish a message each half second, with QoS 1, to one service.
func BenchmarkDevices(b *testing.B) {
	p := start(b, "serve", "--dir", b.TempDir(), "--listen", "127.0.0.1:0", "--mqtt-listen", "127.0.0.1:0")
	var at string
	eventually(b, "it says where devices publish", func() bool {
		m := devicesAt.FindStringSubmatch(p.out.String())
		if m != nil {
			at = m[1]
		}
		return m != nil
	})
	p.apply("CREATE TOPIC mats (PARTITIONS 4);")
	const many, each = 10_000, 40
	ds := make([]*device, many)
	for i := range ds {
		ds[i] = connected(b, at, 5, "")
	}
	var slow, sent atomic.Int64
	var sending sync.WaitGroup
	b.ResetTimer()
	began := time.Now()
	for n, d := range ds {
		sending.Go(func() {
			for i := range each {
				time.Sleep(time.Until(began.Add(time.Duration(n%500)*time.Millisecond + time.Duration(i)*500*time.Millisecond)))
				at := time.Now()
				if reason, err := d.publish(5, "mats/PL/state", `{"battery":0.5}`); err != nil || reason != 0 {
					b.Errorf("%x %v", reason, err)
					return
				}
				sent.Add(1)
				for took := time.Since(at).Microseconds(); ; {
					if s := slow.Load(); took <= s || slow.CompareAndSwap(s, took) {
						break
					}
				}
			}
		})
	}
	sending.Wait()
	b.ReportMetric(float64(sent.Load())/time.Since(began).Seconds(), "messages/s")
	b.ReportMetric(float64(slow.Load())/1000, "ms-slowest")
}

// TestDevices: what devices publish, of either version, is in the topic once it is confirmed, also through kills; what cannot be written is not confirmed.
func TestDevices(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	up := func() (*process, string) {
		p := start(t, "serve", "--dir", dir, "--listen", "127.0.0.1:0", "--mqtt-listen", "127.0.0.1:0", "--files", os.TempDir())
		var at string
		eventually(t, "it says where devices publish", func() bool {
			m := devicesAt.FindStringSubmatch(p.out.String())
			if m != nil {
				at = m[1]
			}
			return m != nil
		})
		return p, at
	}
	p, at := up()
	p.apply("CREATE TOPIC mats (PARTITIONS 3); DECLARE STREAM states (serial VARCHAR AS (SPLIT(_key, '/')[2]), battery DOUBLE) FROM TOPIC 'mats';")
	confirmed := map[string]bool{}
	var mu sync.Mutex
	for life := range 4 {
		var sending sync.WaitGroup
		stop := make(chan struct{})
		for n := range 20 {
			version := byte(4 + n%2)
			d := connected(t, at, version, "")
			sending.Go(func() {
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					payload := fmt.Sprintf(`{"battery":%d.%03d}`, life*100+n, i)
					reason, err := d.publish(version, fmt.Sprintf("mats/PL-%d/state", n), payload)
					if err != nil {
						return
					}
					if reason != 0 {
						t.Errorf("reason %x", reason)
						return
					}
					mu.Lock()
					confirmed[fmt.Sprintf("mats/PL-%d/state %s", n, payload)] = true
					mu.Unlock()
				}
			})
		}
		eventually(t, "much is confirmed", func() bool { mu.Lock(); defer mu.Unlock(); return len(confirmed) > 300*(life+1) })
		if life < 3 {
			p.kill()
		}
		close(stop)
		sending.Wait()
		if life < 3 {
			p, at = up()
		}
	}
	there := map[string]bool{}
	all, err := p.Read(t.Context(), "mats", url.Values{"limit": {"100000"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range all {
		there[*m.Key+" "+m.Value] = true
	}
	for c := range confirmed {
		if !there[c] {
			t.Fatalf("%s was confirmed, and is not there (%d of %d)", c, len(there), len(confirmed))
		}
	}
	// What cannot be written.
	if reason, err := connected(t, at, 5, "").publish(5, "nothing/x", "1"); err != nil || reason != 0x90 {
		t.Errorf("%x %v", reason, err)
	}
	if reason, err := connected(t, at, 4, "").publish(4, "nothing/x", "1"); err == nil {
		t.Errorf("an older device is told %x", reason)
	}
	eventually(t, "the log says so", func() bool { return strings.Contains(p.err.String(), "make it with CREATE TOPIC") })
	// The last will, bytes that are no protocol, and a device that is silent.
	connected(t, at, 5, "mats/PL-lost/state").Close()
	for _, b := range []string{"GET / HTTP/1.1\r\n\r\n", "\x10\xff\xff\xff\x7f", "\x32\x00", "\x10\x0c\x00\x04MQTT\x09\x02\x00\x3c\x00\x00"} {
		c, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = c.Write([]byte(b))
		defer c.Close()
	}
	eventually(t, "its last will is there", func() bool {
		return strings.Contains(p.fiume("", "query", "SELECT serial, battery FROM states SINCE BEGINNING WHERE serial = 'PL-lost' UNTIL NOW").out, "PL-lost")
	})
	if reason, err := connected(t, at, 5, "").publish(5, "mats/PL-1/state", strings.Repeat("x", 60)); err != nil || reason != 0 {
		t.Errorf("%x %v", reason, err)
	}
	p.stop()
}
