package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"time"

	"fiume/internal/connect/schemas/standin"

	"github.com/spf13/cobra"
)

func (a *app) registryCommand() *cobra.Command {
	var listen, user string
	c := &cobra.Command{
		Use:   "registry",
		Short: "Serve a registry of schemas in memory, to try with",
		Long: `Serves a registry of schemas over the usual HTTP interface, with a check of compatibility, until it is
ended. It keeps everything in memory alone: it is for trying FORMAT avro and protobuf with SCHEMAS, and for tests,
where there is no registry.

With --user a password is asked for, that of FIUME_REGISTRY_PASSWORD in the environment.`,
		Example: `  fiume registry
  fiume registry --listen 127.0.0.1:8082
  echo "DECLARE ENDPOINT schemas REGISTRY 'http://127.0.0.1:8081';" | fiume apply -`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			password := os.Getenv("FIUME_REGISTRY_PASSWORD")
			if user != "" && password == "" {
				return fail(exitUsage, "--user needs a password, in FIUME_REGISTRY_PASSWORD")
			}
			l, err := listenAt("--listen", listen)
			if err != nil {
				return err
			}
			return a.standsIn(c.Context(), l, standin.New(user, password), "A registry of schemas")
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8081", "loopback address to listen on; port 0 takes a free one")
	c.Flags().StringVar(&user, "user", "", "who alone is let in, with the password of FIUME_REGISTRY_PASSWORD (default: anyone)")
	return c
}

// standsIn serves what stands in for something outside, until ctx is over.
func (a *app) standsIn(ctx context.Context, l net.Listener, h http.Handler, what string) error {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(l) }()
	fmt.Fprintf(a.out, "%s is at http://%s\n", what, l.Addr())
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := s.Shutdown(end); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}
