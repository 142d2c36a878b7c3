package cli

import (
	"os"
	"time"

	"fiume/internal/connect/search/standin"

	"github.com/spf13/cobra"
)

func (a *app) searchstoreCommand() *cobra.Command {
	var listen string
	var slow time.Duration
	var faulty, crowded float64
	c := &cobra.Command{
		Use:   "searchstore",
		Short: "Serve a search store that takes documents in bulk, to try with",
		Long: `Serves a search store until it is ended. It is for trying SEARCH, and for tests, where there is none: it takes documents
in bulk, learns from the first ones which fields are numbers, refuses what does not fit, and finds documents again. It
keeps them in memory.

  /INDEX/_doc/ID                 gives a document
  /INDEX/_search?q=TEXT&size=N   finds documents with a text in them, or field:text, the newest first
  /INDEX/_count                  says how many there are

Who calls must be the user and have the password that FIUME_SEARCHSTORE_USER and FIUME_SEARCHSTORE_PASSWORD in the environment
say, where they are set.`,
		Example: `  fiume searchstore
  fiume searchstore --slow 20ms --faulty 0.01 --crowded 0.001
  echo "DECLARE ENDPOINT store SEARCH 'http://127.0.0.1:8092';" | fiume apply -`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if faulty < 0 || faulty > 1 || crowded < 0 || crowded > 1 {
				return fail(exitUsage, "--faulty and --crowded are shares, from 0 to 1")
			}
			s := &standin.Store{User: os.Getenv("FIUME_SEARCHSTORE_USER"), Password: os.Getenv("FIUME_SEARCHSTORE_PASSWORD"), Slow: slow, Faulty: faulty, Crowded: crowded}
			l, err := listenAt("--listen", listen)
			if err != nil {
				return err
			}
			return a.standsIn(c.Context(), l, s, "A search store")
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8092", "loopback address to listen on; port 0 takes a free one")
	c.Flags().DurationVar(&slow, "slow", 0, "how long each answer takes")
	c.Flags().Float64Var(&faulty, "faulty", 0, "share of requests that fail, some of them behind being taken")
	c.Flags().Float64Var(&crowded, "crowded", 0, "share of documents that it has no time for just now")
	return c
}
