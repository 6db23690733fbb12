package inside

import (
	"slices"
	"syscall"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// calls are what a cell's programs may ask of the kernel, by family. What is not here is answered as by a kernel that does not have it:
// io_uring, userfaultfd, ptrace and its kin, bpf, keys, mounts, namespaces, modules, clocks.
var calls = slices.Concat(oldCalls,
	// files
	[]uintptr{unix.SYS_READ, unix.SYS_WRITE, unix.SYS_OPENAT, unix.SYS_OPENAT2, unix.SYS_CLOSE, unix.SYS_CLOSE_RANGE, unix.SYS_FSTAT,
		unix.SYS_NEWFSTATAT, unix.SYS_STATX,
		unix.SYS_LSEEK, unix.SYS_PREAD64, unix.SYS_PWRITE64, unix.SYS_READV, unix.SYS_WRITEV, unix.SYS_PREADV, unix.SYS_PWRITEV,
		unix.SYS_PREADV2, unix.SYS_PWRITEV2,
		unix.SYS_FACCESSAT, unix.SYS_FACCESSAT2, unix.SYS_PIPE2, unix.SYS_DUP, unix.SYS_DUP3, unix.SYS_FCNTL, unix.SYS_FLOCK, unix.SYS_FSYNC,
		unix.SYS_FDATASYNC,
		unix.SYS_TRUNCATE, unix.SYS_FTRUNCATE, unix.SYS_FALLOCATE, unix.SYS_GETDENTS64, unix.SYS_GETCWD, unix.SYS_CHDIR, unix.SYS_FCHDIR,
		unix.SYS_RENAMEAT,
		unix.SYS_RENAMEAT2, unix.SYS_MKDIRAT, unix.SYS_UNLINKAT, unix.SYS_LINKAT, unix.SYS_SYMLINKAT, unix.SYS_READLINKAT, unix.SYS_FCHMOD,
		unix.SYS_FCHMODAT, unix.SYS_FCHMODAT2,
		unix.SYS_FCHOWN, unix.SYS_FCHOWNAT, unix.SYS_UTIMENSAT, unix.SYS_UMASK, unix.SYS_STATFS, unix.SYS_FSTATFS, unix.SYS_SYNC,
		unix.SYS_SYNCFS, unix.SYS_SYNC_FILE_RANGE,
		unix.SYS_FADVISE64, unix.SYS_READAHEAD, unix.SYS_SENDFILE, unix.SYS_SPLICE, unix.SYS_TEE, unix.SYS_VMSPLICE, unix.SYS_COPY_FILE_RANGE,
		unix.SYS_MKNODAT,
		unix.SYS_SETXATTR, unix.SYS_LSETXATTR, unix.SYS_FSETXATTR, unix.SYS_GETXATTR, unix.SYS_LGETXATTR, unix.SYS_FGETXATTR,
		unix.SYS_LISTXATTR, unix.SYS_LLISTXATTR,
		unix.SYS_FLISTXATTR, unix.SYS_REMOVEXATTR, unix.SYS_LREMOVEXATTR, unix.SYS_FREMOVEXATTR, unix.SYS_IO_SETUP, unix.SYS_IO_DESTROY,
		unix.SYS_IO_SUBMIT, unix.SYS_IO_CANCEL,
		unix.SYS_IO_GETEVENTS, unix.SYS_IO_PGETEVENTS, unix.SYS_INOTIFY_INIT1, unix.SYS_INOTIFY_ADD_WATCH, unix.SYS_INOTIFY_RM_WATCH,
		unix.SYS_MEMFD_CREATE},
	// memory
	[]uintptr{unix.SYS_MMAP, unix.SYS_MPROTECT, unix.SYS_MUNMAP, unix.SYS_MREMAP, unix.SYS_MSYNC, unix.SYS_MINCORE, unix.SYS_MADVISE,
		unix.SYS_BRK, unix.SYS_MLOCK, unix.SYS_MLOCK2,
		unix.SYS_MUNLOCK, unix.SYS_MLOCKALL, unix.SYS_MUNLOCKALL, unix.SYS_MEMBARRIER, unix.SYS_PKEY_ALLOC, unix.SYS_PKEY_FREE,
		unix.SYS_PKEY_MPROTECT, unix.SYS_GET_MEMPOLICY,
		unix.SYS_SHMGET, unix.SYS_SHMAT, unix.SYS_SHMCTL, unix.SYS_SHMDT, unix.SYS_SEMGET, unix.SYS_SEMOP, unix.SYS_SEMCTL,
		unix.SYS_SEMTIMEDOP, unix.SYS_MSGGET, unix.SYS_MSGSND,
		unix.SYS_MSGRCV, unix.SYS_MSGCTL},
	// processes, signals, time
	[]uintptr{unix.SYS_EXECVE, unix.SYS_EXECVEAT, unix.SYS_EXIT, unix.SYS_EXIT_GROUP, unix.SYS_WAIT4, unix.SYS_WAITID, unix.SYS_KILL,
		unix.SYS_TKILL, unix.SYS_TGKILL, unix.SYS_GETPID,
		unix.SYS_GETPPID, unix.SYS_GETTID, unix.SYS_GETUID, unix.SYS_GETEUID, unix.SYS_GETGID, unix.SYS_GETEGID, unix.SYS_GETRESUID,
		unix.SYS_GETRESGID, unix.SYS_GETGROUPS,
		unix.SYS_SETUID, unix.SYS_SETGID, unix.SYS_SETREUID, unix.SYS_SETREGID, unix.SYS_SETRESUID, unix.SYS_SETRESGID, unix.SYS_SETGROUPS,
		unix.SYS_SETFSUID, unix.SYS_SETFSGID,
		unix.SYS_SETSID, unix.SYS_GETSID, unix.SYS_SETPGID, unix.SYS_GETPGID, unix.SYS_CAPGET, unix.SYS_CAPSET, unix.SYS_PRCTL,
		unix.SYS_PRLIMIT64, unix.SYS_GETRUSAGE,
		unix.SYS_GETPRIORITY, unix.SYS_SETPRIORITY, unix.SYS_SCHED_YIELD, unix.SYS_SCHED_GETAFFINITY, unix.SYS_SCHED_SETAFFINITY,
		unix.SYS_SCHED_GETPARAM, unix.SYS_SCHED_SETPARAM,
		unix.SYS_SCHED_GETSCHEDULER, unix.SYS_SCHED_SETSCHEDULER, unix.SYS_SCHED_GET_PRIORITY_MAX, unix.SYS_SCHED_GET_PRIORITY_MIN,
		unix.SYS_SCHED_RR_GET_INTERVAL,
		unix.SYS_SCHED_GETATTR, unix.SYS_SCHED_SETATTR, unix.SYS_GETCPU, unix.SYS_IOPRIO_GET, unix.SYS_IOPRIO_SET, unix.SYS_FUTEX,
		unix.SYS_FUTEX_WAITV, unix.SYS_SET_ROBUST_LIST,
		unix.SYS_GET_ROBUST_LIST, unix.SYS_SET_TID_ADDRESS, unix.SYS_RSEQ, unix.SYS_RESTART_SYSCALL, unix.SYS_RT_SIGACTION,
		unix.SYS_RT_SIGPROCMASK, unix.SYS_RT_SIGPENDING,
		unix.SYS_RT_SIGTIMEDWAIT, unix.SYS_RT_SIGQUEUEINFO, unix.SYS_RT_TGSIGQUEUEINFO, unix.SYS_RT_SIGRETURN, unix.SYS_RT_SIGSUSPEND,
		unix.SYS_SIGALTSTACK, unix.SYS_SIGNALFD4,
		unix.SYS_PIDFD_OPEN, unix.SYS_PIDFD_SEND_SIGNAL, unix.SYS_NANOSLEEP, unix.SYS_CLOCK_NANOSLEEP, unix.SYS_CLOCK_GETTIME,
		unix.SYS_CLOCK_GETRES, unix.SYS_GETTIMEOFDAY,
		unix.SYS_TIMES, unix.SYS_GETITIMER, unix.SYS_SETITIMER, unix.SYS_TIMER_CREATE, unix.SYS_TIMER_SETTIME, unix.SYS_TIMER_GETTIME,
		unix.SYS_TIMER_GETOVERRUN, unix.SYS_TIMER_DELETE,
		unix.SYS_TIMERFD_CREATE, unix.SYS_TIMERFD_SETTIME, unix.SYS_TIMERFD_GETTIME, unix.SYS_UNAME, unix.SYS_SYSINFO, unix.SYS_GETRANDOM,
		unix.SYS_PERSONALITY,
		unix.SYS_LANDLOCK_CREATE_RULESET, unix.SYS_LANDLOCK_ADD_RULE, unix.SYS_LANDLOCK_RESTRICT_SELF, unix.SYS_SECCOMP},
	// sockets and waiting for them; those that are looked at more closely are in closer
	[]uintptr{unix.SYS_SOCKETPAIR, unix.SYS_BIND, unix.SYS_LISTEN, unix.SYS_ACCEPT, unix.SYS_ACCEPT4, unix.SYS_CONNECT,
		unix.SYS_GETSOCKNAME, unix.SYS_GETPEERNAME, unix.SYS_RECVFROM,
		unix.SYS_RECVMSG, unix.SYS_RECVMMSG, unix.SYS_SHUTDOWN, unix.SYS_SETSOCKOPT, unix.SYS_GETSOCKOPT, unix.SYS_PPOLL, unix.SYS_PSELECT6,
		unix.SYS_EPOLL_CREATE1, unix.SYS_EPOLL_CTL,
		unix.SYS_EPOLL_PWAIT, unix.SYS_EVENTFD2})

const (
	numberOffset       = 0 // of the fields of seccomp_data, see seccomp(2)
	architectureOffset = 4
	argumentsOffset    = 16
	x32Bit             = 0x40000000
	newNamespaces      = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC |
		unix.CLONE_NEWUSER | unix.CLONE_NEWPID | unix.CLONE_NEWNET
	terminalInput = unix.TIOCSTI
	kinds         = 0xf // of a socket's type: the rest are flags
)

func refuse(errno syscall.Errno) bpf.Instruction {
	return bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(errno)}
}

var (
	allow = bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}
	ask   = bpf.RetConstant{Val: unix.SECCOMP_RET_USER_NOTIF}
)

// only looks at one call more closely: what follows ends in an answer.
func only(call uintptr, then ...bpf.Instruction) []bpf.Instruction {
	return append([]bpf.Instruction{bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(call), SkipTrue: uint8(len(then))}}, then...)
}

// argument loads the lower half of one.
func argument(n uint32) bpf.Instruction { return bpf.LoadAbsolute{Off: argumentsOffset + 8*n, Size: 4} }

// closer are the calls whose arguments decide.
func (s Spec) closer() []bpf.Instruction {
	fastOpen := func(call uintptr, flags uint32) []bpf.Instruction { // it connects without connect(2)
		return only(call, argument(flags), bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: unix.MSG_FASTOPEN, SkipFalse: 1}, refuse(unix.EOPNOTSUPP),
			allow)
	}
	unixSockets := bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_UNIX, SkipTrue: 3}
	if !s.UnixSockets {
		unixSockets.SkipTrue = 2
	}
	program := slices.Concat(
		// of the families inet, inet6 and unix; streams and datagrams; TCP, UDP and what belongs to the type
		only(unix.SYS_SOCKET, argument(0), unixSockets, bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_INET, SkipTrue: 3},
			bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_INET6, SkipTrue: 2},
			refuse(unix.EAFNOSUPPORT), allow,
			argument(1), bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: kinds}, bpf.JumpIf{Cond: bpf.JumpGreaterThan, Val: unix.SOCK_DGRAM, SkipTrue: 5},
			argument(2), bpf.JumpIf{Cond: bpf.JumpEqual, Val: 0, SkipTrue: 2}, bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_TCP, SkipTrue: 1},
			bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 1}, allow, refuse(unix.EPROTONOSUPPORT)),
		only(unix.SYS_CLONE, argument(0), bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: newNamespaces, SkipFalse: 1}, refuse(unix.EPERM), allow),
		only(unix.SYS_IOCTL, argument(1), bpf.JumpIf{Cond: bpf.JumpEqual, Val: terminalInput, SkipFalse: 1}, refuse(unix.EPERM), allow),
		fastOpen(unix.SYS_SENDTO, 3), fastOpen(unix.SYS_SENDMSG, 2), fastOpen(unix.SYS_SENDMMSG, 3))
	if !s.Namespaces { // a datagram with an address of its own, which nobody would be asked about
		program = append(only(unix.SYS_SENDTO, argument(4), bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 0, SkipTrue: 3},
			argument(3), bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: unix.MSG_FASTOPEN, SkipTrue: 1}, allow, refuse(unix.EOPNOTSUPP)), program...)
	}
	if s.Governed {
		program = append(program, only(unix.SYS_CONNECT, ask)...)
	}
	if s.Governed || s.Listens {
		program = append(program, only(unix.SYS_BIND, ask)...)
	}
	return program
}

// program is the whole filter.
func (s Spec) program() ([]bpf.RawInstruction, error) {
	program := slices.Concat([]bpf.Instruction{
		bpf.LoadAbsolute{Off: architectureOffset, Size: 4}, bpf.JumpIf{Cond: bpf.JumpEqual, Val: architecture, SkipTrue: 1}, refuse(unix.ENOSYS),
		bpf.LoadAbsolute{Off: numberOffset, Size: 4}, bpf.JumpIf{Cond: bpf.JumpGreaterOrEqual, Val: x32Bit, SkipFalse: 1}, refuse(unix.ENOSYS),
	}, s.closer())
	numbers := slices.Compact(slices.Sorted(slices.Values(calls)))
	for from := 0; from < len(numbers); {
		to := from
		for to+1 < len(numbers) && numbers[to+1] == numbers[to]+1 {
			to++
		}
		program = append(program, bpf.JumpIf{Cond: bpf.JumpLessThan, Val: uint32(numbers[from]), SkipTrue: 2},
			bpf.JumpIf{Cond: bpf.JumpGreaterThan, Val: uint32(numbers[to]), SkipTrue: 1}, allow)
		from = to + 1
	}
	return bpf.Assemble(append(program, refuse(unix.ENOSYS)))
}

// filter installs the filter for this thread and what it executes, and returns the listener of the calls that the service answers; -1
// where there are none.
func (s Spec) filter() (listener int, err error) {
	program, err := s.program()
	if err != nil {
		return -1, err
	}
	filter := make([]unix.SockFilter, len(program))
	for i, raw := range program {
		filter[i] = unix.SockFilter{Code: raw.Op, Jt: raw.Jt, Jf: raw.Jf, K: raw.K}
	}
	loaded := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	if s.Control == 0 || !s.Governed && !s.Listens {
		return -1, unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&loaded)), 0, 0)
	}
	for _, flags := range []uintptr{unix.SECCOMP_FILTER_FLAG_NEW_LISTENER | unix.SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV,
		unix.SECCOMP_FILTER_FLAG_NEW_LISTENER} {
		fd, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags, uintptr(unsafe.Pointer(&loaded)))
		if errno == 0 {
			return int(fd), nil
		}
		err = errno
		if errno != unix.EINVAL { // the second flag is from 5.19
			break
		}
	}
	return -1, err
}
