// Package demo is the made-up race day that everything is shown and tested on: the Three Bridges
// Marathon of Pontelago. A seed gives a day; the same seed gives the same day, byte for byte.
package demo

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// RaceSQL declares the race's streams and sinks and creates the demo's jobs.
//
//go:embed sql/race.sql
var RaceSQL string

//go:embed sql/tables.sql
var tables string

var (
	madeTopic = regexp.MustCompile(`(?m)^CREATE TOPIC IF NOT EXISTS '?([a-z-]+)'? \(PARTITIONS (\d+)\);\n`)
	usedTopic = regexp.MustCompile(`(FROM|TO) TOPIC ('[^']+')`)
)

// Desk is where the system of the medical desk is in RaceSQL, and Mast where the radio is heard.
const Desk, Mast = "127.0.0.1:7272", "127.0.0.1:7273"

// RaceOver is RaceSQL with its topics in brokers at an address, and the topics that they need, with their numbers of partitions.
func RaceOver(address string) (sql string, topics map[string]int32) {
	topics = map[string]int32{}
	for _, t := range Topics {
		topics[t.Name] = int32(t.Partitions)
	}
	for _, m := range madeTopic.FindAllStringSubmatch(RaceSQL, -1) {
		n, _ := strconv.Atoi(m[2])
		topics[m[1]] = int32(n)
	}
	sql = madeTopic.ReplaceAllString(RaceSQL, "")
	sql = usedTopic.ReplaceAllString(sql, "$1 BROKER $2 VIA brokers")
	delete(topics, StatesTopic) // mats tell the service itself
	sql = "CREATE TOPIC IF NOT EXISTS '" + StatesTopic + "' (PARTITIONS 1);\n" + strings.Replace(sql, "BROKER '"+StatesTopic+"' VIA brokers", "TOPIC '"+StatesTopic+"'", 1)
	return strings.Replace(sql, "DECLARE ENDPOINT race_db", "DECLARE ENDPOINT brokers BROKER '"+address+"';\n\nDECLARE ENDPOINT race_db", 1), topics
}

// Tables are the statements that make the race's own tables, and fill that of the mats.
func Tables() (out []string) {
	for _, s := range strings.Split(tables, ";") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	var rows []string
	before := "NULL"
	for _, m := range Mats {
		rows = append(rows, fmt.Sprintf("('%s', %g, '%s', %g, %g, %d, %s)", m.Name, m.Km, m.Place, m.Lat, m.Lon, m.Capacity, before))
		before = "'" + m.Name + "'"
	}
	return append(out, "INSERT IGNORE INTO mats (mat, km, place, lat, lon, capacity, mat_before) VALUES "+strings.Join(rows, ", "))
}

// Mat is a timing mat across the road.
type Mat struct {
	Name     string
	Km       float64
	Place    string
	Lat, Lon float64
	Capacity int // runners a minute
}

// Mats are the course, in order.
var Mats = []Mat{
	{"start", 0, "Porta Nuova", 45.6010, 12.8800, 400}, {"km-05", 5, "Mercato", 45.6130, 12.9020, 45},
	{"bridge-1", 8.2, "Ponte dei Remi", 45.6190, 12.9160, 30}, {"km-10", 10, "Arsenale Vecchio", 45.6240, 12.9230, 45},
	{"km-15", 15, "Riva Lunga", 45.6390, 12.9410, 45}, {"bridge-2", 18.6, "Ponte Alto", 45.6470, 12.9530, 30},
	{"km-20", 20, "Isola Verde", 45.6520, 12.9600, 45}, {"half", 21.0975, "Molo Grande", 45.6550, 12.9640, 45},
	{"km-25", 25, "Faro", 45.6490, 12.9480, 45}, {"km-30", 30, "Saline", 45.6380, 12.9290, 45},
	{"bridge-3", 33.4, "Ponte Lungo", 45.6300, 12.9150, 30}, {"km-35", 35, "Orti", 45.6260, 12.9080, 45},
	{"km-40", 40, "Giardini", 45.6110, 12.8900, 45}, {"finish", 42.195, "Piazza del Porto", 45.6020, 12.8810, 60},
}

const (
	outageMat  = 5 // bridge-2 loses its link and then sends everything at once
	outageFor  = 4 * time.Minute
	fastClock  = 9 // km-30 runs ahead
	clockAhead = 1500 * time.Millisecond
)

// Topics are those that messages of the day go to, with their number of partitions.
var Topics = []struct {
	Name       string
	Partitions int
}{{"mat-reads", 4}, {"medical-calls", 1}, {"wave-starts", 1}}

// Registrations and Radio are what other messages are about, which go to no topic: to a row of the race's own table, which an empty one deletes, and as a line
// over a connection.
const Registrations, Radio = "entrants", "radio"

// StatesTopic is the topic to which mats tell over MQTT how they are.
const StatesTopic = "mat-states"

// State is what a mat tells of itself at a time of the race.
type State struct {
	At      time.Time `json:"at"`
	Battery float64   `json:"battery"` // 1: full
	Celsius float64   `json:"celsius"`
	Waiting int       `json:"waiting"` // reads that it has not sent yet
}

// States are those of all mats, by their names: as warm as the day is, and warmer where many run over them.
func (d Day) States(at time.Time) map[string]State {
	out := map[string]State{}
	since := at.Sub(time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)).Hours()
	for i, m := range Mats {
		r := rand.New(rand.NewPCG(d.Seed+uint64(i), uint64(at.Unix())))
		warm := 14 + 9*math.Sin((since-7)/24*2*math.Pi) + float64(m.Capacity)/20 + r.Float64()
		out[m.Name] = State{at, math.Round(1000*max(0.05, 1-since/30-0.01*float64(i))) / 1000, math.Round(10*warm) / 10, r.IntN(1 + m.Capacity/10)}
	}
	return out
}

// Message is one message of the day.
type Message struct {
	At    time.Time // when it arrives, on the day's own clock
	Topic string    // or what else it is about
	Key   string    // "" for none
	Value []byte
}

// Day is how a day is made.
type Day struct {
	Seed    uint64
	Runners int
	Start   time.Time // of the first wave; zero takes the first edition's
}

// FirstStart is when the first wave of the demo's first day starts.
var FirstStart = time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)

var (
	firstNames = []string{"Alba", "Bruno", "Carla", "Dario", "Elsa", "Fosco", "Gilda", "Ivo", "Lina", "Marco", "Nives", "Otto", "Pia", "Rino", "Sara", "Tullio"}
	lastNames  = []string{"Alberi", "Bassani", "Cordero", "Darsena", "Fontanel", "Gritti", "Laguna", "Marinoni", "Nardin", "Ormea", "Pescador", "Remigi", "Salina", "Vogatori"}
	radioNews  = []string{"all clear at %s", "crowd building at %s", "%s needs water", "lead group past %s", "link down at %s", "%s to desk do you copy", "slow runners at %s", "sweeper leaves %s"}
	clubs      = []string{"Remiera Pontelago", "Corridori del Faro", "Passo Lento", "Ponte Alto Running", "no club"}
)

// Messages gives the day's messages in the order they arrive. It works them out at once: about 80
// bytes and 36 reads a runner.
func (d Day) Messages() []Message {
	r := rand.New(rand.NewPCG(d.Seed, 0x66696d65))
	start := d.Start
	if start.IsZero() {
		start = FirstStart
	}
	const waves = 5
	var out []Message
	add := func(at time.Time, topic, key string, format string, args ...any) {
		out = append(out, Message{at, topic, key, fmt.Appendf(nil, format, args...)})
	}
	waveStart := func(w int) time.Time { return start.Add(time.Duration(w) * 6 * time.Minute) }
	for w := range waves {
		add(waveStart(w).Add(time.Second), "wave-starts", "", `{"wave":"%c","started_at":"%s"}`, 'A'+w, stamp(waveStart(w)))
	}
	// The link of the second bridge breaks while the crowd is on it.
	broken := start.Add(time.Duration(float64(Mats[outageMat].Km)*5.6*float64(time.Minute)) + 10*time.Minute)
	seq := 0
	for n := range d.Runners {
		chip := fmt.Sprintf("P%05d", n)
		wave := n * waves / max(d.Runners, 1)
		entered := start.Add(-time.Duration(30+r.IntN(600)) * time.Second)
		name := firstNames[r.IntN(len(firstNames))] + " " + lastNames[r.IntN(len(lastNames))]
		add(entered, Registrations, chip, "%s,%d,%s,%s,%c,%d,%s", chip, n+1, name, clubs[r.IntN(len(clubs))], 'A'+wave, 1946+r.IntN(62), stamp(entered))
		pace := math.Max(3.05, 5.6+r.NormFloat64()*0.8) // minutes a kilometre
		last := len(Mats)
		if r.Float64() < 0.03 {
			last = 2 + r.IntN(len(Mats)-2)
		}
		at := waveStart(wave).Add(time.Duration(r.Float64() * 120 * float64(time.Second)))
		for m, mat := range Mats[:last] {
			if m > 0 {
				slower := 1 + 0.06*mat.Km/42.195*r.Float64()
				at = at.Add(time.Duration((mat.Km - Mats[m-1].Km) * pace * slower * float64(time.Minute)))
			}
			reads := 1 + r.IntN(4)
			for k := range reads {
				seen := at.Add(time.Duration(k) * time.Duration(200+r.IntN(400)) * time.Millisecond)
				arrives := seen.Add(time.Duration(150+r.IntN(900)) * time.Millisecond)
				if r.Float64() < 0.04 {
					arrives = arrives.Add(time.Duration(r.IntN(12000)) * time.Millisecond)
				}
				if m == outageMat && seen.After(broken) && seen.Before(broken.Add(outageFor)) {
					arrives = broken.Add(outageFor).Add(time.Duration(r.IntN(1500)) * time.Millisecond)
				}
				clock := seen
				if m == fastClock {
					clock = seen.Add(clockAhead)
				}
				seq++
				device := m*4 + r.IntN(4)
				v := fmt.Appendf(nil, `{"chip":"%s","mat":"%s","read_at":"%s","seq":%d,"rssi":%.1f,"device":{"serial":"PL-%04d","battery":%.2f,"firmware":"2.%d"},"position":{"lat":%.4f,"lon":%.4f}}`,
					chip, mat.Name, stamp(clock), seq, -48-r.Float64()*40, 100+device, 0.15+0.85*float64((device*37)%100)/100, device%4, mat.Lat, mat.Lon)
				if r.Float64() < 0.001 {
					v = garble(r, v)
				}
				out = append(out, Message{arrives, "mat-reads", chip, v})
			}
		}
		if r.Float64() < 0.004 {
			called := at.Add(time.Duration(60+r.IntN(600)) * time.Second)
			add(called.Add(2*time.Second), "medical-calls", "", `{"call_id":"M%05d","chip":"%s","called_at":"%s","severity":%d,"marshal":"%s"}`,
				n, chip, stamp(called), 1+r.IntN(5), firstNames[r.IntN(len(firstNames))])
		}
	}
	if d.Runners > 0 {
		d.radio(start, add)
		d.changes(start, add)
	}
	slices.SortStableFunc(out, func(a, b Message) int { return cmp.Compare(a.At.UnixMicro(), b.At.UnixMicro()) })
	return out
}

// changes are the registrations that change until the last minute: some runners get another club, and some
// who had registered withdraw, which deletes them.
func (d Day) changes(start time.Time, add func(at time.Time, topic, key string, format string, args ...any)) {
	r := rand.New(rand.NewPCG(d.Seed, 0x6368616e6765))
	name := func() string { return firstNames[r.IntN(len(firstNames))] + " " + lastNames[r.IntN(len(lastNames))] }
	for n := range d.Runners / 20 {
		chip := fmt.Sprintf("P%05d", n*20+r.IntN(20))
		at := start.Add(-time.Duration(1+r.IntN(28)) * time.Second)
		add(at, Registrations, chip, "%s,%d,%s,%s,%c,%d,%s", chip, n*20+1, name(), clubs[r.IntN(len(clubs))], 'A'+n*20*5/d.Runners, 1946+r.IntN(62), stamp(at))
	}
	for n := range d.Runners / 50 {
		chip := fmt.Sprintf("W%05d", n)
		at := start.Add(-time.Duration(60+r.IntN(600)) * time.Second)
		add(at, Registrations, chip, "%s,%d,%s,%s,%c,%d,%s", chip, d.Runners+n+1, name(), clubs[r.IntN(len(clubs))], 'A', 1946+r.IntN(62), stamp(at))
		add(at.Add(time.Duration(1+r.IntN(50))*time.Second), Registrations, chip, "")
	}
}

// Result is what a runner needed in an earlier race.
type Result struct {
	Edition int    `json:"edition"`
	Bib     int    `json:"bib"`
	Name    string `json:"name"`
	Seconds int    `json:"finish_seconds"`
}

// Editions are the years of earlier races, the last one first. The first few are known when the race begins.
var Editions = func() (years []int) {
	for y := FirstStart.Year() - 1; y >= 1998; y-- {
		years = append(years, y)
	}
	return years
}()

// KnownEditions is how many of them are known.
const KnownEditions = 3

// Edition gives the results of an earlier race.
func (d Day) Edition(year int) (out []Result) {
	r := rand.New(rand.NewPCG(d.Seed, uint64(year)))
	for _, last := range lastNames {
		for _, first := range firstNames {
			if r.IntN(3) > 0 {
				out = append(out, Result{year, len(out) + 1, first + " " + last, 9000 + r.IntN(9000)})
			}
		}
	}
	return out
}

// radio has a marshal say something every ten seconds or so.
func (d Day) radio(start time.Time, add func(at time.Time, topic, key string, format string, args ...any)) {
	r := rand.New(rand.NewPCG(d.Seed, 0x726164696f)) // of its own, so that the reads do not depend on it
	for at := start; at.Before(start.Add(6 * time.Hour)); at = at.Add(time.Duration(2+r.IntN(16)) * time.Second) {
		add(at, Radio, "", radioNews[r.IntN(len(radioNews))], strings.ToLower(Mats[r.IntN(len(Mats))].Place))
	}
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// garble makes a message that is no row.
func garble(r *rand.Rand, v []byte) []byte {
	switch r.IntN(4) {
	case 0:
		return []byte("~~ link reset ~~")
	case 1:
		return bytes.Replace(v, []byte(`"rssi":`), []byte(`"rssi":"weak",`), 1)
	}
	return v[:1+r.IntN(len(v)-1)]
}
