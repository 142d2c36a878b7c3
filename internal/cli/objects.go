package cli

import (
	"os"

	"fiume/internal/connect/store/standin"

	"github.com/spf13/cobra"
)

func (a *app) objectsCommand() *cobra.Command {
	var listen, key string
	var buckets []string
	c := &cobra.Command{
		Use:   "objects",
		Short: "Serve an object store in memory, to try with",
		Long: `Serves an object store over the usual HTTP interface until it is ended. It keeps everything in memory alone: it is
for trying FILES 's3://…', and for tests, where there is no object store.

With --key requests must be signed with that key, whose secret is FIUME_OBJECTS_SECRET in the environment.`,
		Example: `  fiume objects
  fiume objects --bucket race --bucket archive --listen 127.0.0.1:9001
  echo "DECLARE ENDPOINT archive FILES 'http://127.0.0.1:9000';" | fiume apply -`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			secret := os.Getenv("FIUME_OBJECTS_SECRET")
			if key != "" && secret == "" {
				return fail(exitUsage, "--key needs a secret, in FIUME_OBJECTS_SECRET")
			}
			h, err := standin.New(key, secret, buckets...)
			if err != nil {
				return fail(exitUsage, "%v", err)
			}
			l, err := listenAt("--listen", listen)
			if err != nil {
				return err
			}
			return a.standsIn(c.Context(), l, h, "An object store")
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:9000", "loopback address to listen on; port 0 takes a free one")
	c.Flags().StringVar(&key, "key", "", "the key that alone is let in, with the secret of FIUME_OBJECTS_SECRET (default: anyone)")
	c.Flags().StringSliceVar(&buckets, "bucket", []string{"race"}, "bucket that is there; may be given several times")
	return c
}
