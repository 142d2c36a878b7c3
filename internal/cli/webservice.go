package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"fiume/internal/connect/web/standin"

	"github.com/spf13/cobra"
)

// keptRequests are those of which the stand-in knows that they came.
const keptRequests = 10_000

func (a *app) webserviceCommand() *cobra.Command {
	var listen, things, key, page string
	var slow time.Duration
	var faulty float64
	c := &cobra.Command{
		Use:   "webservice",
		Short: "Serve a web service that takes rows and answers questions, to try with",
		Long: `Serves a web service until it is ended. It is for trying WEB, and for tests, where there is no service: it takes what is
sent to any address, prints it, and takes nothing twice that has the same Idempotency-Key.

  /things/KEY       answers with the row of a key, of the file --things; 404 where there is none
  /things?keys=A,B  answers with several, as {"data": {"items": [...]}}
  /page             gives the rows of the file --page, as {"items": [...]}, with ETag, a hundred at a time
  /taken            gives the newest requests that were taken, and how many came

Who calls must have the bearer token that FIUME_WEBSERVICE_TOKEN in the environment says, where it is set. The files have a JSON object a line.`,
		Example: `  fiume webservice
  fiume webservice --things entrants.ndjson --key chip --slow 20ms --faulty 0.01
  echo "DECLARE ENDPOINT desk WEB 'http://127.0.0.1:8090';" | fiume apply -`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if faulty < 0 || faulty > 1 {
				return fail(exitUsage, "--faulty is a share, from 0 to 1")
			}
			s := &standin.Service{Token: os.Getenv("FIUME_WEBSERVICE_TOKEN"), Slow: slow, Faulty: faulty, Keep: keptRequests, Took: func(r standin.Request) {
				fmt.Fprintf(a.out, "%s %s %s %s\n", r.At.UTC().Format("15:04:05.000"), r.Method, r.Path, oneLineOf(r.Body))
			}}
			err := eachObject(things, "--things", func(line []byte, o map[string]json.RawMessage) error {
				var text string
				if o[key] == nil {
					return fmt.Errorf("has no %q: --key names the field by which rows are asked for", key)
				}
				if json.Unmarshal(o[key], &text) != nil {
					text = string(o[key])
				}
				s.Put(text, string(line))
				return nil
			})
			if err == nil {
				err = eachObject(page, "--page", func(line []byte, _ map[string]json.RawMessage) error { s.Page(string(line)); return nil })
			}
			if err != nil {
				return err
			}
			l, err := listenAt("--listen", listen)
			if err != nil {
				return err
			}
			return a.standsIn(c.Context(), l, s, "A web service")
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8090", "loopback address to listen on; port 0 takes a free one")
	c.Flags().StringVar(&things, "things", "", "file of rows that are asked for by key")
	c.Flags().StringVar(&key, "key", "id", "with --things: the field that is the key")
	c.Flags().StringVar(&page, "page", "", "file of the rows of the page")
	c.Flags().DurationVar(&slow, "slow", 0, "how long each answer takes")
	c.Flags().Float64Var(&faulty, "faulty", 0, "share of requests that fail, some of them behind being taken")
	return c
}

// eachObject reads the JSON objects of a file, one a line; "" has none.
func eachObject(file, option string, do func(line []byte, o map[string]json.RawMessage) error) error {
	if file == "" {
		return nil
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return fail(exitUsage, "%s: %v", option, err)
	}
	n := 0
	for line := range bytes.Lines(b) {
		n++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		var o map[string]json.RawMessage
		if err := json.Unmarshal(line, &o); err != nil {
			return fail(exitUsage, "%s: line %d of %s is no JSON object: %v", option, n, file, err)
		}
		if err := do(line, o); err != nil {
			return fail(exitUsage, "%s: line %d of %s %v", option, n, file, err)
		}
	}
	return nil
}

// oneLineOf is a text that is to be printed in a line, and not to do anything else to the terminal.
func oneLineOf(text string) string {
	const most = 300
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	if !utf8.ValidString(text) || strings.ContainsFunc(text, unicode.IsControl) {
		return fmt.Sprintf("%q", text)
	}
	return text
}
