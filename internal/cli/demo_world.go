package cli

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"fiume/demo"
	"fiume/internal/connect/web/standin"

	"github.com/eclipse/paho.golang/paho"
)

// demoWorld is what is around the service in the demo: the registration desk with its database, the system of the medical desk, the radio, and the mats, which
// publish over MQTT.
type demoWorld struct {
	db      *sql.DB
	address string // of the medical desk
	desk    *http.Server
	radio   *mast
	devices string // where mats publish
	client  *paho.Client
	name    string // by which the mats are known, and what they show
	token   string
	told    time.Time // when the mats have told last
}

// tellEvery is how often mats tell how they are.
const tellEvery = 2 * time.Second

// openWorld starts what has an address, where it was when the demo last ran: what is declared leads there.
func (d *demoRun) openWorld(ctx context.Context) (w *demoWorld, err error) {
	w = &demoWorld{devices: d.server.devices.Addr(), name: d.inside, token: d.token}
	defer func() {
		if err != nil {
			w.close()
		}
	}()
	if w.db, err = d.raceDatabase(ctx); err != nil {
		return w, err
	}
	desk, err := d.stand("medical-desk", demo.Desk)
	if err != nil {
		return w, err
	}
	w.address = desk.Addr().String()
	w.desk = &http.Server{Handler: &standin.Service{Keep: keptRequests}, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = w.desk.Serve(desk) }() // it ends when it is closed
	radio, err := d.stand("radio", demo.Mast)
	if err != nil {
		return w, err
	}
	w.radio = newMast(radio)
	return w, nil
}

// stand listens for a part of the world: where it did when the demo last ran, which a file keeps, or else at an address of its own.
func (d *demoRun) stand(name, address string) (net.Listener, error) {
	kept := filepath.Join(d.dir, name)
	at := ""
	if b, err := os.ReadFile(kept); err == nil {
		at = strings.TrimSpace(string(b))
	} else if d.listen == defaultListen {
		at = address
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
	if err := os.WriteFile(kept, []byte(l.Addr().String()+"\n"), 0o600); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// mast is where the radio is heard: whoever connects gets the lines from then on.
type mast struct {
	l    net.Listener
	mu   sync.Mutex
	ears map[net.Conn]bool
}

// hears is how long somebody who listens may take for a line before he is cut off.
const hears = 200 * time.Millisecond

func newMast(l net.Listener) *mast {
	m := &mast{l: l, ears: map[net.Conn]bool{}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			m.mu.Lock()
			m.ears[c] = true
			m.mu.Unlock()
		}
	}()
	return m
}

// say tells lines to all who listen.
func (m *mast) say(lines []byte) {
	if len(lines) == 0 {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for c := range m.ears {
		_ = c.SetWriteDeadline(time.Now().Add(hears))
		if _, err := c.Write(lines); err != nil {
			_ = c.Close()
			delete(m.ears, c)
		}
	}
}

func (m *mast) close() {
	_ = m.l.Close()
	m.mu.Lock()
	defer m.mu.Unlock()
	for c := range m.ears {
		_ = c.Close()
	}
}

// registered counts the messages that the registration desk has had.
func (w *demoWorld) registered(ctx context.Context) (n int64, err error) {
	err = w.db.QueryRowContext(ctx, "SELECT messages FROM registered WHERE id = 1").Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return n, err
}

// atOnce is how many rows a statement writes.
const atOnce = 1000

// register writes registrations into their table, in their order, with how many there were: all or, if it is killed, none.
func (w *demoWorld) register(ctx context.Context, ms []demo.Message) error {
	if len(ms) == 0 {
		return nil
	}
	tx, err := w.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for rest := ms; len(rest) > 0; {
		gone := len(rest[0].Value) == 0
		n := 1
		for n < min(len(rest), atOnce) && (len(rest[n].Value) == 0) == gone {
			n++
		}
		var values []any
		for _, m := range rest[:n] {
			if gone {
				values = append(values, m.Key)
				continue
			}
			f := strings.Split(string(m.Value), ",")
			if len(f) != 7 {
				return fmt.Errorf("%s is no registration", m.Value)
			}
			at, err := time.Parse(time.RFC3339, f[6])
			if err != nil {
				return err
			}
			values = append(values, f[0], f[1], f[2], f[3], f[4], f[5], at.Format("2006-01-02 15:04:05.000"))
		}
		text := "REPLACE INTO entrants (chip, bib, name, club, wave, birth_year, updated_at) VALUES (?, ?, ?, ?, ?, ?, ?)" + strings.Repeat(", (?, ?, ?, ?, ?, ?, ?)", n-1)
		if gone {
			text = "DELETE FROM entrants WHERE chip IN (?" + strings.Repeat(", ?", n-1) + ")"
		}
		if _, err := tx.ExecContext(ctx, text, values...); err != nil {
			return err
		}
		rest = rest[n:]
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO registered VALUES (1, ?) ON DUPLICATE KEY UPDATE messages = messages + VALUES(messages)", len(ms)); err != nil {
		return err
	}
	return tx.Commit()
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
	if w.desk != nil {
		_ = w.desk.Close()
	}
	if w.radio != nil {
		w.radio.close()
	}
	if w.db != nil {
		_ = w.db.Close()
	}
}
