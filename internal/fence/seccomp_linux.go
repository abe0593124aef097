package fence

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// arches are the architectures for which system calls are filtered.
var arches = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}

// filter forbids Unix sockets, by which a program would reach the bench as its owner, and what other programs
// of the user offer; and the calls that would go around that (seccomp(2)). Pairs of sockets are free.
func filter() error {
	arch, ok := arches[runtime.GOARCH]
	if !ok {
		return nil
	}
	const (
		load = unix.BPF_LD | unix.BPF_W | unix.BPF_ABS
		jeq  = unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K
		jge  = unix.BPF_JMP | unix.BPF_JGE | unix.BPF_K
		ret  = unix.BPF_RET | unix.BPF_K
	)
	const number, architecture, argument0 = 0, 4, 16 // offsets in struct seccomp_data
	const otherCalls = 0x40000000                    // x32 on amd64
	program := []unix.SockFilter{
		{Code: load, K: architecture},
		{Code: jeq, K: arch, Jt: 1},
		{Code: ret, K: unix.SECCOMP_RET_KILL_PROCESS},
		{Code: load, K: number},
		{Code: jge, K: otherCalls, Jt: 5},
		{Code: jeq, K: unix.SYS_IO_URING_SETUP, Jt: 4},
		{Code: jeq, K: unix.SYS_SOCKET, Jf: 2},
		{Code: load, K: argument0},
		{Code: jeq, K: unix.AF_UNIX, Jt: 1},
		{Code: ret, K: unix.SECCOMP_RET_ALLOW},
		{Code: ret, K: unix.SECCOMP_RET_ERRNO | uint32(unix.EACCES)},
	}
	prog := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	if _, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, 0, uintptr(unsafe.Pointer(&prog))); errno != 0 {
		return fmt.Errorf("forbid it Unix sockets: %w", errno)
	}
	return nil
}
