package cli

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fiume/demo"
	"fiume/internal/connect/web/standin"

	"github.com/eclipse/paho.golang/paho"
)

// demoWorld is what is around the service in the demo: the system of the medical desk, and the mats, which publish over MQTT.
type demoWorld struct {
	address string // of the medical desk
	desk    *http.Server
	devices string // where mats publish
	client  *paho.Client
	name    string // by which the mats are known, and what they show
	token   string
	told    time.Time // when the mats have told last
}

// tellEvery is how often mats tell how they are.
const tellEvery = 2 * time.Second

// openWorld starts the medical desk, where it was when the demo last ran: the endpoint that is declared leads there.
func (d *demoRun) openWorld() (*demoWorld, error) {
	w := &demoWorld{devices: d.server.devices.Addr(), name: d.inside, token: d.token}
	kept := filepath.Join(d.dir, "medical-desk")
	at := ""
	if b, err := os.ReadFile(kept); err == nil {
		at = strings.TrimSpace(string(b))
	} else if d.listen == defaultListen {
		at = demo.Desk
	}
	var l net.Listener
	var err error
	if at != "" {
		l, err = net.Listen("tcp", at)
	}
	if at == "" || err != nil { // nobody has said where, or somebody else is there
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return nil, err
		}
	}
	w.address = l.Addr().String()
	if err := os.WriteFile(kept, []byte(w.address+"\n"), 0o600); err != nil {
		return nil, err
	}
	w.desk = &http.Server{Handler: &standin.Service{Keep: keptRequests}, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = w.desk.Serve(l) }() // it ends when it is closed
	return w, nil
}

// tell has the mats tell now and then how they are. What does not arrive is told the next time.
func (w *demoWorld) tell(day demo.Day, at time.Time) {
	if time.Since(w.told) < tellEvery {
		return
	}
	w.told = time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if w.client == nil {
		conn, err := net.DialTimeout("tcp", w.devices, time.Second)
		if err != nil {
			return
		}
		c := paho.NewClient(paho.ClientConfig{Conn: conn})
		if _, err := c.Connect(ctx, &paho.Connect{ClientID: "mats", CleanStart: true, KeepAlive: 30, UsernameFlag: true, Username: w.name, PasswordFlag: true, Password: []byte(w.token)}); err != nil {
			_ = conn.Close()
			return
		}
		w.client = c
	}
	for mat, state := range day.States(at) {
		b, err := json.Marshal(state)
		if err == nil {
			_, err = w.client.Publish(ctx, &paho.Publish{Topic: demo.StatesTopic + "/" + mat + "/state", QoS: 1, Payload: b})
		}
		if err != nil {
			w.hangUp()
			return
		}
	}
}

func (w *demoWorld) hangUp() {
	if w.client != nil {
		_ = w.client.Disconnect(&paho.Disconnect{})
		w.client = nil
	}
}

// close ends what was started; nil is nothing.
func (w *demoWorld) close() {
	if w == nil {
		return
	}
	w.hangUp()
	_ = w.desk.Close()
}
