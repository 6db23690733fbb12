package inside

import "golang.org/x/sys/unix"

const architecture = unix.AUDIT_ARCH_X86_64

// oldCalls are those that only this architecture still has beside their newer forms.
var oldCalls = []uintptr{unix.SYS_OPEN, unix.SYS_STAT, unix.SYS_LSTAT, unix.SYS_POLL, unix.SYS_ACCESS, unix.SYS_PIPE, unix.SYS_SELECT,
	unix.SYS_DUP2, unix.SYS_PAUSE,
	unix.SYS_ALARM, unix.SYS_FORK, unix.SYS_VFORK, unix.SYS_GETDENTS, unix.SYS_RENAME, unix.SYS_MKDIR, unix.SYS_RMDIR, unix.SYS_CREAT,
	unix.SYS_LINK, unix.SYS_UNLINK,
	unix.SYS_SYMLINK, unix.SYS_READLINK, unix.SYS_CHMOD, unix.SYS_CHOWN, unix.SYS_LCHOWN, unix.SYS_GETPGRP, unix.SYS_UTIME,
	unix.SYS_UTIMES, unix.SYS_FUTIMESAT,
	unix.SYS_TIME, unix.SYS_EPOLL_CREATE, unix.SYS_EPOLL_WAIT, unix.SYS_INOTIFY_INIT, unix.SYS_SIGNALFD, unix.SYS_EVENTFD,
	unix.SYS_ARCH_PRCTL, unix.SYS_MKNOD, unix.SYS_GETRLIMIT,
	unix.SYS_EPOLL_PWAIT2, unix.SYS_SETRLIMIT}
