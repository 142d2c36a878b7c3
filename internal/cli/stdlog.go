package cli

import (
	stdlog "log"
	"log/slog"
	"strings"
)

// libraries takes what libraries say to the standard log into the service's.
type libraries struct{ log *slog.Logger }

// Write implements io.Writer.
func (l libraries) Write(b []byte) (int, error) {
	text := strings.TrimSpace(string(b))
	if strings.HasPrefix(text, "Unsolicited response received") { // net/http quotes what a server says, which may be what it was told: a secret
		text = "a server has sent more than it was asked for"
	}
	l.log.Warn(text)
	return len(b), nil
}

// takeLibraries has what libraries say stand in the service's log.
func takeLibraries(log *slog.Logger) {
	stdlog.SetFlags(0)
	stdlog.SetOutput(libraries{log})
}
