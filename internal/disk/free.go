package disk

import "golang.org/x/sys/unix"

// Free says how many bytes a process of this user can still write on the disk of a directory.
func Free(dir string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// Size says how many bytes the disk of a directory has.
func Size(dir string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Blocks) * st.Bsize, nil
}
