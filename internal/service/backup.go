package service

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"strings"

	"fiume/internal/service/backup"
	"fiume/internal/service/base"
)

// Backup writes an archive of the service, as it is at a moment, while it runs. passphrase seals the key of its secrets, which is left out without one. What has been
// written without an error is whole.
func (s *Service) Backup(ctx context.Context, actor, passphrase string, w io.Writer) (*backup.Manifest, error) {
	src := backup.Source{Dir: s.base.Dir, Version: Version, Identity: s.base.Identity, DSN: s.dsn, Describe: s.describe}
	if s.server != nil {
		src.DSN = s.server.DSN("")
	}
	here, err := filepath.Abs(s.base.Dir)
	if err == nil {
		here, err = filepath.EvalSymlinks(here)
	}
	if err != nil {
		return nil, err
	}
	for _, d := range s.base.Files.Dirs() {
		if d != here && !strings.HasPrefix(d, here+string(filepath.Separator)) {
			src.Left = append(src.Left, d)
		}
	}
	m, err := backup.Take(ctx, src, passphrase, w)
	if errors.Is(err, backup.ErrTaken) {
		return nil, base.Errorf(base.ErrBusy, "%s; try again when it is done", err)
	}
	what := "backup taken"
	if err != nil {
		what = "backup failed"
		s.base.Log.Error("a backup was not taken", "error", err)
		s.base.Note(actor, what, "service", err.Error())
		return m, err
	}
	s.base.Note(actor, what, "service", m.At.Format("2006-01-02 15:04:05.000Z"))
	return m, nil
}

// describe says what there is, for the manifest of a backup.
func (s *Service) describe() (jobs []backup.JobAt, topics []backup.TopicAt) {
	for _, j := range s.Jobs.Measure() {
		jobs = append(jobs, backup.JobAt{Name: j.Name, State: j.State, Checkpoint: j.Checkpoint.Number})
	}
	for _, t := range s.Topics.List() {
		x := backup.TopicAt{Name: t.Name}
		for _, p := range t.Partitions {
			x.Next = append(x.Next, p.Next)
		}
		topics = append(topics, x)
	}
	return jobs, topics
}
