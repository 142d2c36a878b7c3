package spool

import (
	"encoding/json"
	"path/filepath"

	"fiume/internal/disk"
)

// Targets that cannot be asked what they have keep beside the spool how much of a delivery was sent. A file that is not there, or cannot be read, says nothing: then what was sent is sent again.

func sentFile(dir string) string { return filepath.Join(dir, "sent") }

// Sent reads what was kept into v, a pointer, and says whether there is something.
func Sent(fs disk.FS, dir string, v any) bool {
	b, err := disk.Read(fs, sentFile(dir))
	return err == nil && json.Unmarshal(b, v) == nil
}

// KeepSent keeps v, whole or not at all.
func KeepSent(fs disk.FS, dir string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	name := sentFile(dir)
	if err := disk.Write(fs, name+".new", b); err != nil {
		return err
	}
	if err := fs.Rename(name+".new", name); err != nil {
		return err
	}
	return fs.SyncDir(dir)
}
