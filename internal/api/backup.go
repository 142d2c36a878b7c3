package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// BackupRequest asks for a backup.
type BackupRequest struct {
	Passphrase string `json:"passphrase,omitempty" maxLength:"1000" doc:"seals the key of the secrets; without one they are left out"`
}

// begun notes whether anything was written.
type begun struct {
	hc    huma.Context
	wrote bool
}

func (b *begun) Write(p []byte) (int, error) {
	if !b.wrote {
		b.wrote = true
		b.hc.SetHeader("Content-Type", "application/zstd")
		b.hc.SetHeader("Content-Disposition", `attachment; filename="fiume.backup"`)
	}
	return b.hc.BodyWriter().Write(p)
}

func (h *handler) backup(a huma.API, op func(id, method, path, summary, tag string) huma.Operation) {
	o := op("backup", "POST", "/api/backup", "Take a copy of the service as it is at this moment, while it runs", "service")
	o.Description = "Answers with an archive, which `fiume restore` makes a data directory of. One that was not written whole has no end, which `fiume restore` finds out."
	o.Responses = map[string]*huma.Response{"200": {Description: "the archive", Content: map[string]*huma.MediaType{"application/zstd": {}}}}
	huma.Register(a, o, func(ctx context.Context, in *struct {
		Acting
		Body BackupRequest
	}) (*huma.StreamResponse, error) {
		actor := by(ctx)
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			w := &begun{hc: hc}
			if _, err := h.s.Backup(hc.Context(), actor, in.Body.Passphrase, w); err != nil {
				if w.wrote { // the connection is cut, so that nobody takes it for whole
					panic(http.ErrAbortHandler)
				}
				p, _ := problem(err).(*Problem)
				hc.SetHeader("Content-Type", "application/problem+json")
				hc.SetStatus(p.Status)
				_ = json.NewEncoder(hc.BodyWriter()).Encode(p)
			}
		}}, nil
	})
}
