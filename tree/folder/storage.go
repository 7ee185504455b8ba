package folder

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// fileSystems are the names of file systems by their magic numbers (statfs(2)).
var fileSystems = map[int64]string{
	unix.EXT4_SUPER_MAGIC: "ext4", unix.XFS_SUPER_MAGIC: "xfs", unix.BTRFS_SUPER_MAGIC: "btrfs", unix.TMPFS_MAGIC: "tmpfs", unix.MSDOS_SUPER_MAGIC: "vfat", unix.EXFAT_SUPER_MAGIC: "exfat",
	unix.NFS_SUPER_MAGIC: "nfs", unix.FUSE_SUPER_MAGIC: "fuse", unix.OVERLAYFS_SUPER_MAGIC: "overlay", unix.ISOFS_SUPER_MAGIC: "iso9660", unix.SQUASHFS_MAGIC: "squashfs", unix.F2FS_SUPER_MAGIC: "f2fs", unix.SMB2_SUPER_MAGIC: "smb",
}

// storageOf tells what the kernel knows of the storage that an open folder lies on.
func storageOf(f *os.File, st *unix.Statfs_t) tree.Storage {
	s := tree.Storage{Known: true, FileSystem: fileSystems[int64(st.Type)], ReadOnly: st.Flags&unix.ST_RDONLY != 0}
	var here, top unix.Stat_t
	if unix.Fstat(int(f.Fd()), &here) == nil {
		s.System = unix.Stat("/", &top) == nil && here.Dev == top.Dev
		s.Removable = removable(here.Dev)
	}
	return s
}

// removable asks the kernel whether a block device can be taken out; a partition is
// asked for its disk (Documentation/ABI/testing/sysfs-block).
func removable(device uint64) bool {
	at := fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(device), unix.Minor(device))
	disk, err := filepath.EvalSymlinks(at)
	if err != nil {
		return false
	}
	for _, dir := range []string{disk, filepath.Dir(disk)} {
		if text, err := os.ReadFile(filepath.Join(dir, "removable")); err == nil {
			return strings.TrimSpace(string(text)) == "1"
		}
	}
	return false
}
