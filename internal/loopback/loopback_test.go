package loopback

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"testing"
)

// TestFreePort: processes that ask at the same time are given ports of their own.
func TestFreePort(t *testing.T) {
	const processes, ports = 6, 100
	if os.Getenv("ASKS") != "" {
		for range ports {
			p, err := FreePort()
			if err != nil {
				t.Fatal(err)
			}
			fmt.Printf("port %d\n", p)
		}
		_, _ = os.Stdin.Read(make([]byte, 1)) // until all have asked
		return
	}
	given := map[int]bool{}
	var lines []*bufio.Reader
	for range processes {
		c := exec.Command(os.Args[0], "-test.run=TestFreePort$")
		c.Env = append(os.Environ(), "ASKS=1")
		in, err := c.StdinPipe()
		if err != nil {
			t.Fatal(err)
		}
		out, err := c.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { in.Close(); _ = c.Wait() })
		lines = append(lines, bufio.NewReader(out))
	}
	for _, l := range lines {
		for range ports {
			var p int
			if _, err := fmt.Fscanf(l, "port %d\n", &p); err != nil {
				t.Fatal(err)
			}
			if given[p] || p < lowest || p > highest {
				t.Errorf("the port %d was given twice, or is out of bounds", p)
			}
			given[p] = true
		}
	}
}
