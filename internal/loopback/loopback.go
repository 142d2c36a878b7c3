// Package loopback gives ports at which servers of other makes can be started on this machine.
package loopback

import (
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

// Below the ports that outgoing connections get (from 32768 on Linux): one of those could take the port before its server listens there, or while it is
// started again.
const lowest, highest = 20000, 32767

var (
	mu   sync.Mutex
	held []net.Listener // by which other processes see what this one has been given
)

// FreePort gives a port of 127.0.0.1 at which nobody listens. Until this process ends no process is given it again by this function, also while nobody listens there yet.
func FreePort() (int, error) {
	mu.Lock()
	defer mu.Unlock()
	for range 1000 {
		port := lowest + rand.IntN(highest-lowest+1)
		// A name that is nobody's file and goes with its process (unix(7), abstract sockets); like a port it belongs to the machine's network.
		mark, err := net.Listen("unix", fmt.Sprintf("@fiume-port-%d", port))
		if err != nil {
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			mark.Close()
			continue
		}
		l.Close()
		held = append(held, mark)
		return port, nil
	}
	return 0, fmt.Errorf("no free port was found on 127.0.0.1 between %d and %d", lowest, highest)
}
