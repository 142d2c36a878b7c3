package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"text/tabwriter"

	"fiume/internal/api"
	"fiume/internal/client"
)

// client is one that shows who the user is: by the token of the environment, or by what fiume login has kept.
func (a *app) client() *client.Client {
	c := a.plainClient()
	if token := os.Getenv("FIUME_TOKEN"); token != "" {
		return c.With(token)
	}
	if all, err := logins(); err == nil { // who cannot read it has not signed in
		return c.With(all[a.serviceAddress()].Token)
	}
	return c
}

// caFile is the file with the certificate that signs the service's; "": there is none.
func (a *app) caFile() string {
	file := cmp.Or(a.ca, os.Getenv("FIUME_CA"))
	if file == "" {
		if all, err := logins(); err == nil {
			file = all[a.serviceAddress()].CA
		}
	}
	if abs, err := filepath.Abs(file); err == nil && file != "" {
		file = abs // it is kept, and used from elsewhere
	}
	return file
}

// plainClient is one that shows nothing.
func (a *app) plainClient() *client.Client {
	var once sync.Once
	c := client.New(a.serviceAddress()).Waiting(func() {
		once.Do(func() { fmt.Fprintln(a.err, "the service is starting …") })
	})
	if file := a.caFile(); file != "" {
		trusting, err := c.Trusting(file)
		if err != nil {
			fmt.Fprintf(a.err, "--ca: %s\n", err) // and so the certificate is not trusted
			return c
		}
		c = trusting
	}
	return c
}

// failed gives an error of a call its exit code.
func failed(err error) error {
	var p *api.Problem
	switch {
	case err == nil:
		return nil
	case errors.Is(err, client.ErrNoService):
		return &failure{code: exitNoServer, err: err}
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		return &failure{code: exitNotFound, err: err}
	case errors.As(err, &p) && (p.Status == http.StatusUnauthorized || p.Status == http.StatusForbidden):
		return &failure{code: exitNotAllowed, err: err}
	case errors.As(err, &p) && len(p.Diagnostics) > 0:
		return &failure{code: exitSQL, err: err}
	}
	return err
}

// printJSON prints for scripts.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// columns prints rows in columns.
func columns(w io.Writer, head []string, rows [][]string) {
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	fmt.Fprintln(t, strings.Join(head, "\t"))
	for _, r := range rows {
		fmt.Fprintln(t, strings.Join(r, "\t"))
	}
	t.Flush()
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0
}
