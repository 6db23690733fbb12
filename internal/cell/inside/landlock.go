package inside

import (
	"slices"

	"github.com/landlock-lsm/go-landlock/landlock"
)

// landlock holds the program to the same folders once more: in a cell it is the second wall, without namespaces the first; see
// landlock(7).
func (s Spec) landlock() error {
	writeFolders, readFolders, readFiles := slices.Clone(s.WriteFolders), slices.Clone(SystemFolders), slices.Clone(SystemFiles)
	if s.Namespaces { // made up for the cell
		writeFolders = append(writeFolders, "/tmp", "/dev/shm")
		readFolders = append(readFolders, "/etc", "/proc")
	} else {
		readFiles = append(readFiles, "/etc/resolv.conf", "/etc/hosts", "/etc/nsswitch.conf", "/dev/zero", "/dev/full", "/dev/random",
			"/dev/urandom")
	}
	return landlock.MustConfig(landlock.V7.HandledAccessFS, landlock.V7.Scoped).BestEffort().Restrict(
		landlock.RODirs(s.ReadFolders...).IgnoreIfMissing(), landlock.ROFiles(s.ReadFiles...).IgnoreIfMissing(),
		landlock.RODirs(readFolders...).IgnoreIfMissing(), landlock.ROFiles(readFiles...).IgnoreIfMissing(),
		landlock.RWDirs(writeFolders...).WithRefer(), landlock.RWFiles(s.WriteFiles...), landlock.RWFiles(Devices...).IgnoreIfMissing())
}
