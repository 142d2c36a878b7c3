package api

import (
	"context"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/service"
	"fiume/internal/service/access"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// What monitors see of the service: /metrics as Prometheus has it, /live and /ready.

// Measures of the service, as Prometheus describes them. Names end in what they count, or in their unit.
var (
	labelsOfStep  = []string{"job", "op", "step", "kind"}
	labelsOfSplit = []string{"job", "stream", "split"}

	aboutService     = describe("info", "1, with the version of the program", "version")
	aboutUptime      = describe("uptime_seconds", "since the service began")
	aboutDatabase    = describe("database_up", "whether the catalog's database answers")
	aboutJobState    = describe("job_state", "1 for the state that a job is in", "job", "state")
	aboutJobLeft     = describe("job_messages_left", "messages that wait to be read", "job")
	aboutJobLag      = describe("job_watermark_lag_seconds", "how far the watermark lies behind the newest event", "job")
	aboutIn          = describe("step_rows_in_total", "rows that went into a step, messages of a scan", labelsOfStep...)
	aboutOut         = describe("step_rows_out_total", "rows that a step gave, or that a sink wrote", labelsOfStep...)
	aboutLate        = describe("step_rows_late_total", "rows that came too late", labelsOfStep...)
	aboutRejected    = describe("step_rows_rejected_total", "messages that were no rows, rows whose expressions failed, and rows that a place refused", labelsOfStep...)
	aboutLost        = describe("step_messages_lost_total", "messages that were damaged, or removed before they were read", labelsOfStep...)
	aboutQueue       = describe("step_queue_ratio", "how full the queue before a step is, 0 to 1", labelsOfStep...)
	aboutMemory      = describe("step_state_memory_bytes", "state of a step in memory", labelsOfStep...)
	aboutDisk        = describe("step_state_disk_bytes", "state of a step on disk", labelsOfStep...)
	aboutSpooled     = describe("sink_waiting_bytes", "rows that a sink's place has not got yet", "job", "op", "sink")
	aboutRetrying    = describe("sink_retrying_seconds", "how long a sink has tried in vain to write; 0: it writes", "job", "op", "sink")
	aboutSplitAt     = describe("split_watermark_timestamp_seconds", "event time up to which a split has come, seconds since 1970", labelsOfSplit...)
	aboutSplitLeft   = describe("split_messages_left", "messages of a split that wait to be read", labelsOfSplit...)
	aboutSplitWaits  = describe("split_retrying_seconds", "how long a split has been tried in vain to be read; 0: it is read", labelsOfSplit...)
	aboutSplitHolds  = describe("split_holds_seconds", "how long a split has been silent that others wait for; 0: nobody waits for it", labelsOfSplit...)
	aboutCheckpoint  = describe("checkpoint_number", "of the newest checkpoint", "job")
	aboutCheckpointT = describe("checkpoint_timestamp_seconds", "when the newest checkpoint was taken, seconds since 1970", "job")
	aboutCheckpointD = describe("checkpoint_duration_seconds", "what the newest checkpoint took", "job")
	aboutCheckpointB = describe("checkpoint_bytes", "of state in the newest checkpoint", "job")
	aboutAbandoned   = describe("checkpoint_failing_seconds", "how long checkpoints have not come about; 0: they do", "job")
	aboutMessages    = describe("topic_messages_total", "messages that were written to a topic", "topic")
	aboutTopicBytes  = describe("topic_bytes", "of a topic on disk", "topic")
	aboutTopicLost   = describe("topic_damaged_messages", "messages of a topic that are damaged, or gone", "topic")
	aboutAlarms      = describe("alarms", "what gives an alarm just now, declared and built-in alerts")
	aboutNotices     = describe("alert_notices_waiting", "what sinks are still to be told of alerts")
	aboutFree        = describe("disk_free_bytes", "free on the disk of the service's directory")
)

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("fiume_"+name, help, labels, nil)
}

// measures implements prometheus.Collector: it looks at the service when it is asked, and keeps nothing.
type measures struct{ s *service.Service }

// Describe implements prometheus.Collector: which jobs, steps and splits there are is not known before.
func (m *measures) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (m *measures) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v int64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	vitals := m.s.Vitals(ctx)
	gauge(aboutService, 1, service.Version)
	gauge(aboutUptime, vitals.Uptime.Seconds())
	gauge(aboutDatabase, truth(vitals.Database == nil))
	if vitals.Free >= 0 {
		gauge(aboutFree, float64(vitals.Free))
	}
	now := time.Now()
	since := func(w *flow.Waiting) float64 {
		if w == nil {
			return 0
		}
		return max(0, now.Sub(w.Since).Seconds())
	}
	for _, j := range m.s.Jobs.Measure() {
		gauge(aboutJobState, 1, j.Name, j.State)
		gauge(aboutJobLeft, float64(j.Left), j.Name)
		gauge(aboutJobLag, j.Lag, j.Name)
		for _, x := range j.Status.Steps {
			l := []string{j.Name, strconv.Itoa(x.ID), x.Step, x.Kind}
			counter(aboutIn, x.Counts.In, l...)
			counter(aboutOut, x.Out, l...)
			if x.Watermark != nil || x.Counts.Late > 0 { // others judge no row
				counter(aboutLate, x.Counts.Late, l...)
			}
			if x.Kind == "scan" || x.Kind == "output" || x.Counts.Rejected > 0 {
				counter(aboutRejected, x.Counts.Rejected, l...)
			}
			if x.Kind == "scan" {
				counter(aboutLost, x.Counts.Lost, l...)
			}
			if x.Room > 0 {
				gauge(aboutQueue, float64(x.Queued)/float64(x.Room), l...)
			}
			if x.Bytes > 0 || x.Disk > 0 {
				gauge(aboutMemory, float64(x.Bytes), l...)
				gauge(aboutDisk, float64(x.Disk), l...)
			}
			if x.Kind == "output" {
				gauge(aboutSpooled, float64(x.Spooled), j.Name, l[1], x.Step)
				gauge(aboutRetrying, since(x.Waiting), j.Name, l[1], x.Step)
			}
		}
		told := map[[2]string]bool{}
		for _, x := range j.Status.Splits {
			split := strings.ToValidUTF8(x.Split, "\uFFFD") // a file may be called anything
			at := [2]string{x.Stream, split}
			if x.Ended || told[at] { // a stream that is read in two ways has its splits twice
				continue
			}
			told[at] = true
			l := []string{j.Name, x.Stream, split}
			if x.Watermark != nil {
				gauge(aboutSplitAt, float64(*x.Watermark)/1e6, l...)
			}
			if x.Left != nil {
				gauge(aboutSplitLeft, float64(*x.Left), l...)
			}
			gauge(aboutSplitWaits, since(x.Waiting), l...)
			held := 0.0
			if x.Holds != nil {
				held = float64(x.Holds.Silent) / 1e6
			}
			gauge(aboutSplitHolds, held, l...)
		}
		if c := j.Checkpoint; c.Number > 0 {
			gauge(aboutCheckpoint, float64(c.Number), j.Name)
			gauge(aboutCheckpointT, float64(c.At.UnixMilli())/1000, j.Name)
			gauge(aboutCheckpointD, float64(c.TookMs)/1000, j.Name)
			gauge(aboutCheckpointB, float64(c.Bytes), j.Name)
		}
		gauge(aboutAbandoned, since(j.Abandoned), j.Name)
	}
	gauge(aboutAlarms, float64(m.s.Alerts.Counts()))
	gauge(aboutNotices, float64(len(m.s.Alerts.Waiting())))
	for _, t := range m.s.Topics.List() {
		written, lost := int64(0), int64(0)
		for _, p := range t.Partitions {
			written += p.Next
			for _, l := range p.Lost {
				lost += l.To - l.From + 1
			}
		}
		counter(aboutMessages, written, t.Name)
		gauge(aboutTopicBytes, float64(t.Bytes), t.Name)
		gauge(aboutTopicLost, float64(lost), t.Name)
	}
}

func truth(v bool) float64 {
	if v {
		return 1
	}
	return 0
}

// monitor counts requests, and answers those who watch the service.
type monitor struct {
	s        *service.Service
	requests *prometheus.HistogramVec
	metrics  http.Handler
}

func newMonitor(s *service.Service, log *slog.Logger) *monitor {
	m := &monitor{s: s, requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "fiume_request_duration_seconds", Help: "what requests took, until the last byte was sent",
		Buckets: []float64{.005, .025, .1, .5, 2.5, 10}}, []string{"method", "path", "status"})}
	registry := prometheus.NewRegistry()
	registry.MustRegister(m.requests, &measures{s}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	m.metrics = promhttp.HandlerFor(registry, promhttp.HandlerOpts{ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelError), MaxRequestsInFlight: 4, DisableCompression: true, ErrorHandling: promhttp.ContinueOnError})
	return m
}

// count notes how long a request took. Paths are as they are declared: the names in them would be without end.
func (m *monitor) count(c *gin.Context) {
	began := time.Now()
	c.Next()
	method, path := c.Request.Method, c.FullPath()
	if path == "" {
		path = "console"
	}
	if !slices.Contains(methods, method) {
		method = "other"
	}
	m.requests.WithLabelValues(method, path, strconv.Itoa(c.Writer.Status())).Observe(time.Since(began).Seconds())
}

// methods are those that requests are told apart by.
var methods = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions}

func (m *monitor) routes(r *gin.Engine, g *gate) {
	seen := func(c *gin.Context) bool {
		p := g.refusal(c.Request.Context(), need{access.Look, everywhere}, "")
		if p != nil {
			c.String(p.Status, p.Detail+"\n")
		}
		return p == nil
	}
	metrics := gin.WrapH(m.metrics)
	r.GET("/metrics", func(c *gin.Context) { // the names of all jobs and topics stand in it
		if seen(c) {
			metrics(c)
		}
	})
	r.GET("/live", func(c *gin.Context) { c.String(http.StatusOK, "alive\n") })
	r.GET("/ready", func(c *gin.Context) {
		reasons := m.s.Unready(c.Request.Context())
		if len(reasons) == 0 {
			c.String(http.StatusOK, "ready\n")
			return
		}
		text := "not ready\n"
		if access.From(c.Request.Context()).Everywhere(access.Look) { // they have addresses and paths
			text = strings.Join(reasons, "\n") + "\n"
		}
		c.String(http.StatusServiceUnavailable, text)
	})
}
