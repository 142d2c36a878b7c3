package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"text/tabwriter"

	"fiume/internal/api"
	"fiume/internal/client"
)

func (a *app) client() *client.Client { return client.New(a.serviceAddress()) }

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
