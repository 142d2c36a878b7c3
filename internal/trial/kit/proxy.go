package kit

import (
	"io"
	"net"
	"sync"
	"testing"
)

// Proxy stands between a job and a peer, and cuts them off from each other.
type Proxy struct {
	Addr string // host:port

	to   string
	l    net.Listener
	mu   sync.Mutex
	cut  bool
	live map[net.Conn]bool
	done sync.WaitGroup
}

// NewProxy leads to a host:port.
func NewProxy(t testing.TB, to string) *Proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &Proxy{Addr: l.Addr().String(), to: to, l: l, live: map[net.Conn]bool{}}
	p.done.Go(p.serve)
	t.Cleanup(func() {
		p.Cut(true)
		_ = l.Close()
		p.done.Wait()
	})
	return p
}

func (p *Proxy) serve() {
	for {
		c, err := p.l.Accept()
		if err != nil {
			return
		}
		p.done.Go(func() { p.join(c) })
	}
}

// join carries bytes both ways until one side ends.
func (p *Proxy) join(c net.Conn) {
	defer c.Close()
	out, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer out.Close()
	if !p.keep(c, out) {
		return
	}
	ended := make(chan struct{}, 2)
	for _, x := range [][2]net.Conn{{c, out}, {out, c}} {
		go func() {
			_, _ = io.Copy(x[0], x[1]) // it ends with the connection
			ended <- struct{}{}
		}()
	}
	<-ended
	_, _ = c.Close(), out.Close()
	<-ended
	p.mu.Lock()
	delete(p.live, c)
	delete(p.live, out)
	p.mu.Unlock()
}

func (p *Proxy) keep(cs ...net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range cs {
		p.live[c] = true
	}
	return !p.cut
}

// Cut ends all connections and lets none through, or lets them through again.
func (p *Proxy) Cut(cut bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut = cut
	for c := range p.live {
		if cut {
			_ = c.Close()
		}
	}
}
