package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"fiume/console"
	"fiume/internal/api"
	"fiume/internal/devices"
	"fiume/internal/service"
	"fiume/internal/service/traces"
	"fiume/internal/wire"

	"github.com/spf13/cobra"
)

const defaultListen = "127.0.0.1:7171"

func (a *app) serveCommand() *cobra.Command {
	var dir, listen, dsn string
	var memory int
	var level, form, config string
	var files []string
	var noJobs bool
	var days, requests, upload int
	var dsnFile, secretsDir string
	var queries int
	var brokers, devices, invite, collector string
	var r reach
	c := &cobra.Command{
		Use:   "serve",
		Short: "Start the service",
		Long: `Starts the service: topics, jobs, the network interface and the web console.

Its records live in MariaDB. Without --dsn it starts a private server on loopback,
with a data directory and a password of its own.

While nobody has been created (fiume user create) it is for whoever uses this
machine, and listens on loopback only. At other addresses it listens once there is
an administrator, and with a certificate (--tls-cert, --tls-key), which is read
again when its files change. --invite prints a link by which an administrator
chooses a password: the first one, or one who is locked out. SIGTERM and Ctrl-C stop everything in order: each job takes a last
checkpoint and goes on from it at the next start.`,
		Example: `  fiume serve
  fiume serve --dir /var/lib/fiume --listen 127.0.0.1:8000
  fiume serve --brokers-listen 127.0.0.1:9092 --mqtt-listen 127.0.0.1:1883
  fiume serve --listen 0.0.0.0:8443 --tls-cert fiume.crt --tls-key fiume.key --invite ada
  fiume serve --config /etc/fiume/fiume.yaml --log-format json
  fiume serve --dsn 'fiume:password@tcp(127.0.0.1:3306)/fiume'`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := settle(c.Flags(), config); err != nil {
				return err
			}
			log, err := logTo(a.err, level, form)
			if err != nil {
				return err
			}
			if least := min(days, requests, upload); least < 0 {
				return fail(exitUsage, "--activity-days, --request-rate and --upload-rate take numbers from 0 up, found %d", least)
			}
			if secretsDir != "" {
				if st, err := os.Stat(secretsDir); err != nil || !st.IsDir() {
					return fail(exitUsage, "--secrets-dir: there is no directory %s", secretsDir)
				}
			}
			if memory < 1 || queries < 1 {
				return fail(exitUsage, "--job-memory and --query-memory take a number of megabytes from 1 up, found %d", min(memory, queries))
			}
			if dsnFile != "" {
				b, err := os.ReadFile(dsnFile)
				if err != nil {
					return fail(exitUsage, "--dsn-file: %s", err)
				}
				dsn = strings.TrimSpace(string(b))
			}
			proxies, err := r.check()
			if err != nil {
				return err
			}
			provider, err := r.provider.settings()
			if err != nil {
				return err
			}
			s := &server{app: a, provider: provider, listen: listen, reach: r, proxies: proxies, invite: invite, traces: collector, limits: api.Limits{Requests: requests, Upload: int64(upload) << 20}, brokers: brokers, mqtt: devices, noJobs: noJobs, config: service.Config{Dir: dir, DSN: dsn, Memory: int64(memory) << 20, QueryMemory: int64(queries) << 20, Files: files, Log: log, ActivityDays: days, Secrets: secretsDir}}
			if err := s.open(c.Context()); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Fiume is ready: %s\n", s.url())
			if s.link != "" {
				fmt.Fprintf(a.out, "%s chooses a password here, once, within a day: %s\n", invite, s.link)
			}
			if s.wire != nil {
				fmt.Fprintf(a.out, "Clients of brokers find the topics at %s\n", s.wire.Addr())
			}
			if s.devices != nil {
				fmt.Fprintf(a.out, "Devices publish at %s, over MQTT: what is sent to topic/… goes to the topic\n", s.devices.Addr())
			}
			<-c.Context().Done()
			fmt.Fprintln(a.err, "stopping …")
			return s.close()
		},
	}
	c.Flags().StringVar(&dir, "dir", "fiume-data", "data directory")
	c.Flags().StringVar(&listen, "listen", defaultListen, "address to listen on, others than loopback only with an administrator and a certificate; port 0 takes a free one")
	c.Flags().StringVar(&brokers, "brokers-listen", "", "address at which ordinary clients of brokers write and read the topics, such as 127.0.0.1:9092 (default: none)")
	c.Flags().StringVar(&devices, "mqtt-listen", "", "address at which devices publish into the topics over MQTT, such as 127.0.0.1:1883: what is sent to mats/PL-1/state goes to the topic mats (default: none)")
	c.Flags().StringVar(&r.cert, "tls-cert", "", "file with the certificate (PEM) that the service shows, with those that sign it")
	c.Flags().StringVar(&r.key, "tls-key", "", "file with the key of the certificate (PEM)")
	c.Flags().BoolVar(&r.proxied, "insecure-behind-proxy", false, "listen without TLS at other addresses than loopback, as a proxy before the service encrypts")
	c.Flags().StringArrayVar(&r.proxies, "trusted-proxy", nil, "address, or network such as 10.0.0.0/24, of a proxy that says where requests come from (X-Forwarded-For); may be given several times")
	c.Flags().StringVar(&r.public, "public", "", "where the service is reached from outside, for the links it makes, such as https://fiume.example (default: as each request says)")
	c.Flags().StringVar(&collector, "traces", "", "collector (OpenTelemetry, over HTTP) that is told what requests, checkpoints and deliveries took, such as http://127.0.0.1:4318 (default: none)")
	c.Flags().StringVar(&invite, "invite", "", "print a link by which this administrator chooses a password; who is not there is created")
	c.Flags().StringVar(&r.provider.issuer, "oidc-issuer", "", "identity provider (OpenID Connect) by which people may sign in, such as https://id.example (default: none)")
	c.Flags().StringVar(&r.provider.client, "oidc-client", "", "the id that the identity provider knows the service by")
	c.Flags().StringVar(&r.provider.secretFile, "oidc-secret-file", "", "file with the secret that the identity provider knows the service by (default: none)")
	c.Flags().StringVar(&r.provider.name, "oidc-name", "the company's account", "what the button to sign in by the identity provider says")
	c.Flags().StringVar(&r.provider.groups, "oidc-groups", "groups", "the claim of the identity provider that has the groups")
	c.Flags().StringArrayVar(&r.provider.roles, "oidc-role", nil, "what a group may do: GROUP=ROLE, as timing-team=develop:timing; may be given several times")
	c.Flags().StringVar(&dsn, "dsn", "", "database for the service's records (default: a private server)")
	c.Flags().StringVar(&dsnFile, "dsn-file", "", "file with the database's address: unlike the one of --dsn it cannot be seen in the list of processes. FIUME_DSN in the environment cannot either")
	c.Flags().IntVar(&queries, "query-memory", 1024, "megabytes that live queries, tries and other questions may hold together")
	c.Flags().IntVar(&memory, "job-memory", 1024, "megabytes of state that a job holds in memory, unless it says so itself; more of it waits on disk")
	c.Flags().StringArrayVar(&files, "files", nil, "directory below which FILES may be read and written, as DIR or NAME=DIR, by which it is granted to spaces; may be given several times, and relative addresses begin in the first (default: files in the data directory)")
	c.Flags().StringVar(&secretsDir, "secrets-dir", "", "directory whose files are secrets, each called like one: they are read anew for each connection, and so change without a restart (default: none)")
	c.Flags().IntVar(&requests, "request-rate", 500, "requests a second that one caller may make, and twice as many at once, once somebody has been created; 0: no limit")
	c.Flags().IntVar(&upload, "upload-rate", 0, "megabytes a second that one caller may send in bodies, once somebody has been created (default: no limit)")
	c.Flags().IntVar(&days, "activity-days", 0, "how many days entries of the activity log are kept (default: for ever)")
	c.Flags().BoolVar(&noJobs, "no-jobs", false, "start no jobs; those that should run can be looked at, changed, started or dropped one by one")
	c.Flags().StringVar(&level, "log-level", "info", "what is logged: debug, which has all requests, info, warn or error")
	c.Flags().StringVar(&form, "log-format", "text", "how: text, or json, an object in a line")
	c.Flags().StringVar(&config, "config", os.Getenv("FIUME_CONFIG"), "file of settings, see fiume config (default $FIUME_CONFIG, or none)")
	return c
}

// logTo makes the log of a level and a form.
func logTo(w io.Writer, level, form string) (*slog.Logger, error) {
	var least slog.Level
	if !slices.Contains([]string{"debug", "info", "warn", "error"}, level) || least.UnmarshalText([]byte(level)) != nil {
		return nil, fail(exitUsage, "--log-level takes one of debug, info, warn, error, found %q", level)
	}
	o := &slog.HandlerOptions{Level: least}
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, fail(exitUsage, "--log-format takes one of text, json, found %q", form)
}

// waitForStart is how long a request waits for a service that is starting, before it is told so.
const waitForStart = 20 * time.Second

// server is a running service with its listener.
type server struct {
	*app
	listen    string
	brokers   string // "": clients of brokers are not answered
	mqtt      string // "": devices are not answered
	noJobs    bool
	config    service.Config
	reach     reach
	proxies   []netip.Prefix
	invite    string
	traces    string // where a collector is
	endTraces func(context.Context) error
	limits    api.Limits
	provider  *api.Provider
	link      string // of it

	addr    string
	service *service.Service
	http    *http.Server
	wire    *wire.Server
	devices *devices.Server
	stop    context.CancelFunc
}

func (s *server) open(ctx context.Context) error {
	takeLibraries(s.config.Log)
	// The address first: a second service on it fails before it touches anything.
	l, err := s.reach.listenAt("--listen", s.listen)
	if err != nil {
		return err
	}
	open := []io.Closer{l}
	fail := func(err error) error {
		for _, c := range open {
			err = errors.Join(err, c.Close())
		}
		return err
	}
	var brokers, devicesAt net.Listener
	for _, x := range []struct {
		option, address string
		to              *net.Listener
	}{{"--brokers-listen", s.brokers, &brokers}, {"--mqtt-listen", s.mqtt, &devicesAt}} {
		if x.address == "" {
			continue
		}
		if *x.to, err = s.reach.listenAt(x.option, x.address); err != nil {
			return fail(err)
		}
		open = append(open, *x.to)
	}
	secure, err := s.reach.config(s.config.Log)
	if err != nil {
		return fail(err)
	}
	if secure != nil {
		l = tls.NewListener(l, secure)
		plain := secure.Clone()
		plain.NextProtos = nil
		if brokers != nil {
			brokers = tls.NewListener(brokers, plain)
		}
		if devicesAt != nil {
			devicesAt = tls.NewListener(devicesAt, plain)
		}
	}
	s.addr = l.Addr().String()
	// It is answered from now on: that it is starting, as long as it does.
	starting := api.NewStarting(waitForStart)
	s.http = &http.Server{Handler: starting,
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 5 * time.Minute, MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(s.config.Log.Handler(), slog.LevelDebug), TLSConfig: secure}
	go func() {
		if err := s.http.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			s.config.Log.Error("the network interface has ended", "error", err)
		}
	}()
	open[0] = s.http
	svc, err := service.Open(ctx, s.config)
	if err != nil {
		return fail(err)
	}
	s.service = svc
	if err := s.opens(); err != nil {
		return errors.Join(fail(err), svc.Close())
	}
	if s.traces != "" {
		if s.endTraces, err = traces.Send(context.WithoutCancel(ctx), s.traces, service.Version, svc.Identity(), s.config.Log); err != nil {
			return errors.Join(fail(err), svc.Close())
		}
	}
	if brokers != nil {
		s.wire = wire.Serve(brokers, svc, s.config.Log)
	}
	if devicesAt != nil {
		if s.devices, err = devices.Serve(devicesAt, svc, s.config.Log); err != nil {
			return errors.Join(fail(err), svc.Close())
		}
	}
	streams, stop := context.WithCancel(context.Background())
	s.stop = stop
	starting.Begin(api.New(streams, svc, console.Files(), s.config.Log, api.Settings{Encrypted: secure != nil || s.reach.proxied, Proxies: s.proxies, Public: s.reach.public, Limits: s.limits, Provider: s.provider}))
	if !s.noJobs {
		svc.Resume()
	}
	return nil
}

// opens says why the service must not be reached as it was asked for; it makes the link of --invite.
func (s *server) opens() error {
	if s.invite != "" {
		code, err := s.service.People.InviteAdministrator(s.invite)
		if err != nil {
			return fail(exitUsage, "--invite: %s", err)
		}
		s.link = s.url() + "/welcome#" + code
		if s.reach.public != "" {
			s.link = strings.TrimSuffix(s.reach.public, "/") + "/welcome#" + code
		}
	}
	for option, address := range map[string]string{"--listen": s.listen, "--brokers-listen": s.brokers, "--mqtt-listen": s.mqtt} {
		if address != "" && !loopback(address) && !s.service.People.Needed() {
			return fail(exitUsage, "%s %s: everybody who reaches the service could do everything, as nobody has been created; create an administrator first (fiume user create NAME --role administer, while it listens at 127.0.0.1), or start it with --invite NAME", option, address)
		}
	}
	return nil
}

// url is where the service is.
func (s *server) url() string {
	if s.reach.cert != "" {
		return "https://" + s.addr
	}
	return "http://" + s.addr
}

// close stops in order: no new requests, event streams end, jobs take their last checkpoints, then
// topics and database.
func (s *server) close() error {
	s.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err := s.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = s.http.Close()
	}
	if s.wire != nil {
		err = errors.Join(err, s.wire.Close())
	}
	if s.devices != nil {
		err = errors.Join(err, s.devices.Close())
	}
	err = errors.Join(err, s.service.Close())
	if s.endTraces != nil {
		late, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		_ = s.endTraces(late) // a collector that is away keeps nobody from ending
	}
	return err
}

// serviceAddress is where the client commands find the service.
func (a *app) serviceAddress() string {
	switch {
	case a.server != "":
		return a.server
	case os.Getenv("FIUME_SERVER") != "":
		return os.Getenv("FIUME_SERVER")
	}
	return "http://" + defaultListen
}
