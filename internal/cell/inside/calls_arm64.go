package inside

import "golang.org/x/sys/unix"

const architecture = unix.AUDIT_ARCH_AARCH64

var oldCalls = []uintptr{}
