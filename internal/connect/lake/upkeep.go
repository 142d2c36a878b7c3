package lake

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/plan"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	"github.com/apache/iceberg-go/table/compaction"
)

// upkeep keeps a table small: small files are put together, what deletes nothing any more is taken away, snapshots that are old are forgotten, and
// files that belong to none are removed.
type upkeep struct {
	every time.Duration // 0: never
	keep  time.Duration
	did   func(to, what, detail string)
}

// What a table tells whoever writes to it: when it was tended, and when files were sought that belong to no snapshot, for which all lists of files are read.
const (
	tendedProperty = "fiume.tended"
	sweptProperty  = "fiume.swept"
)

// since gives how long ago a property says that something was.
func since(t *table.Table, property string) time.Duration {
	at, err := time.Parse(time.RFC3339Nano, t.Properties()[property])
	if err != nil {
		return 1 << 62
	}
	return time.Since(at)
}

func upkeepOf(o plan.Options, did func(to, what, detail string)) upkeep {
	if did == nil {
		did = func(string, string, string) {}
	}
	return upkeep{time.Duration(o.Duration("compact every", 0)) * time.Microsecond, time.Duration(o.Duration("keep", int64(7*day/time.Microsecond))) * time.Microsecond, did}
}

// tend tends a table where it is time. That others write at the same time is no failure: it is tried again after the next delivery.
func (u upkeep) tend(ctx context.Context, l *lake, address string) error {
	if u.every <= 0 {
		return nil
	}
	t, err := l.load(ctx, address)
	if err != nil {
		return err
	}
	if since(t, tendedProperty) < u.every {
		return nil
	}
	begun := time.Now()
	compacted, err := u.compact(ctx, t)
	expired := ""
	if err == nil {
		if t, err = l.load(ctx, address); err == nil {
			expired, err = u.expire(ctx, t)
		}
	}
	if did := strings.Join(slices.DeleteFunc([]string{compacted, expired}, func(s string) bool { return s == "" }), "; "); did != "" {
		u.did(fmt.Sprintf("table %s via %s", address, l.e.Name), "tended", fmt.Sprintf("%s; it took %.1f s", did, time.Since(begun).Seconds()))
	}
	if l.passing(err) {
		return nil
	}
	return l.said(err)
}

// compact puts small files together, and says what came of it; "": there was nothing to do.
func (u upkeep) compact(ctx context.Context, t *table.Table) (string, error) {
	if t.CurrentSnapshot() == nil {
		return "", nil
	}
	plan, err := compaction.Analyze(ctx, t, compaction.DefaultConfig())
	if err != nil || len(plan.Groups) == 0 {
		return "", err
	}
	gone := map[string]struct{}{}
	var groups []table.CompactionTaskGroup
	for _, g := range plan.Groups {
		groups = append(groups, table.CompactionTaskGroup{PartitionKey: g.PartitionKey, Tasks: g.Tasks, TotalSizeBytes: g.TotalSizeBytes})
		for _, task := range g.Tasks {
			gone[task.File.FilePath()] = struct{}{}
		}
	}
	fs, err := t.FS(ctx)
	if err != nil {
		return "", err
	}
	dead, err := compaction.CollectDeadEqualityDeletesWithSpecs(ctx, fs, t.Metadata(), t.CurrentSnapshot(), gone)
	if err != nil {
		return "", err
	}
	tx := t.NewTransaction()
	if err := tx.AssertRefSnapshotID("main"); err != nil {
		return "", err
	}
	got, err := tx.RewriteDataFiles(ctx, groups, table.RewriteDataFilesOptions{SnapshotProps: iceberg.Properties{writerSummary: "upkeep"}, ExtraDeleteFilesToRemove: dead})
	if err != nil {
		return "", fmt.Errorf("small files cannot be put together: %w", err)
	}
	if _, err = tx.Commit(ctx); err != nil {
		return "", err
	}
	did := fmt.Sprintf("%d files were put together in %d", got.RemovedDataFiles, got.AddedDataFiles)
	if len(dead) > 0 {
		did += fmt.Sprintf(", and %d files of deletes went", len(dead))
	}
	return did, nil
}

// expire forgets snapshots that are old, and removes files of none. It says what came of it; "": nothing.
func (u upkeep) expire(ctx context.Context, t *table.Table) (string, error) {
	tx := t.NewTransaction()
	if err := tx.ExpireSnapshots(table.WithOlderThan(u.keep), table.WithRetainLast(1)); err != nil {
		return "", fmt.Errorf("old snapshots cannot be forgotten: %w", err)
	}
	at := time.Now().UTC().Format(time.RFC3339Nano)
	props := iceberg.Properties{tendedProperty: at}
	// A file may be of a delivery that is being written, so that it has to be old to belong to none.
	least := max(u.keep, day)
	_, known := t.Properties()[sweptProperty]
	sweeps := known && since(t, sweptProperty) > day
	if sweeps || !known {
		props[sweptProperty] = at
	}
	if err := tx.SetProperties(props); err != nil {
		return "", err
	}
	now, err := tx.Commit(ctx)
	if err != nil {
		return "", err
	}
	var did []string
	if n := len(t.Metadata().Snapshots()) - len(now.Metadata().Snapshots()); n > 0 {
		did = append(did, fmt.Sprintf("%d old snapshots were forgotten", n))
	}
	if sweeps {
		got, err := now.DeleteOrphanFiles(ctx, table.WithFilesOlderThan(least))
		if n := len(got.DeletedFiles); n > 0 {
			did = append(did, fmt.Sprintf("%d files that belong to none were removed", n))
		}
		if err != nil {
			return strings.Join(did, ", "), err
		}
	}
	return strings.Join(did, ", "), nil
}

const day = 24 * time.Hour
