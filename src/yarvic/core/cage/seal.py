"""What a process may no longer ask of the kernel: a filter of system calls (seccomp), which cannot be taken off again.

Refused are the network, other programs, other processes, and any change to files. Numbers of calls: the kernel's own
tables (arch/x86/entry/syscalls/syscall_64.tbl, include/uapi/asm-generic/unistd.h), from memory and tried in the tests.
"""

from __future__ import annotations

import ctypes
import errno
import os
import platform
import struct
from typing import Any

_SET_NO_NEW_PRIVILEGES, _SET_SECCOMP, _FILTER = 38, 22, 2
_ALLOW, _ERRNO, _KILL = 0x7FFF0000, 0x00050000, 0x80000000
# Of classic BPF (linux/filter.h): load a word, jump on equal, jump on any bit, return.
_LOAD, _EQUAL, _AT_LEAST, _ANY_BIT, _RETURN = 0x20, 0x15, 0x35, 0x45, 0x06
_OTHER_FORM = 0x40000000  # the same calls by other numbers (x32)
_NUMBER, _ARCHITECTURE, _ARGUMENTS = 0, 4, 16  # places in struct seccomp_data
_THREAD = 0x00010000  # CLONE_THREAD
_WRITES = os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC

_X86: dict[str, Any] = {
    "refused": (
        41, 42, 43, 49, 50, 288,  # socket, connect, accept, bind, listen, accept4
        57, 58, 59, 322,  # fork, vfork, execve, execveat
        62, 200, 101, 310, 311, 434, 424, 438,  # kill, tkill, ptrace, process_vm_*, pidfd_*
        76, 82, 83, 84, 85, 86, 87, 88,  # truncate, rename, mkdir, rmdir, creat, link, unlink, symlink
        90, 91, 92, 93, 94, 132, 133, 235, 280,  # chmod, chown, times, mknod
        258, 259, 260, 261, 263, 264, 265, 266, 268, 316, 452,  # the same by folder
        161, 165, 166, 169, 246, 272, 308, 321, 155,  # chroot, mount, reboot, kexec, unshare, setns, bpf
        188, 189, 190, 197, 198, 199,  # extended attributes
    ),
    "absent": (425, 426, 427, 435, 437),  # io_uring_*, clone3, openat2: what they do cannot be seen from here
    "open": 2, "openat": 257, "clone": 56, "tgkill": 234, "architecture": 0xC000003E,
}  # fmt: skip
_ARM: dict[str, Any] = {
    "refused": (
        198, 200, 201, 202, 203, 242, 221, 281, 129, 130, 117, 270, 271, 434, 424, 438,
        45, 34, 33, 35, 36, 37, 38, 276, 52, 53, 54, 55, 88, 452,
        51, 40, 39, 142, 104, 97, 268, 280, 41, 5, 6, 7, 14, 15, 16,
    ),
    "absent": (425, 426, 427, 435, 437),
    "open": None, "openat": 56, "clone": 220, "tgkill": 131, "architecture": 0xC00000B7,
}  # fmt: skip
_MACHINES = {"x86_64": _X86, "aarch64": _ARM}


def seal() -> bool:
    """Refuse these calls to this process from now on; whether the machine and its kernel offer that."""
    calls = _MACHINES.get(platform.machine())
    if calls is None:
        return False
    program = b"".join(_program(calls, os.getpid()))
    code = ctypes.create_string_buffer(program, len(program))
    kept = struct.pack("HxxxxxxP", len(program) // 8, ctypes.addressof(code))
    libc = ctypes.CDLL(None, use_errno=True)
    if libc.prctl(_SET_NO_NEW_PRIVILEGES, 1, 0, 0, 0) != 0:
        return False
    return bool(libc.prctl(_SET_SECCOMP, _FILTER, kept, 0, 0) == 0)


def _program(calls: dict[str, Any], own: int) -> list[bytes]:
    """The filter: each call that is named is refused with an error, all others are let through."""
    refuse, absent = _ERRNO | errno.EPERM, _ERRNO | errno.ENOSYS
    found = [
        _line(_LOAD, value=_ARCHITECTURE),
        _line(_EQUAL, 1, 0, calls["architecture"]),
        _line(_RETURN, value=_KILL),
        _line(_LOAD, value=_NUMBER),
        _line(_AT_LEAST, 0, 1, _OTHER_FORM),
        _line(_RETURN, value=_KILL),
    ]
    for number in calls["refused"]:
        found += [_line(_EQUAL, 0, 1, number), _line(_RETURN, value=refuse)]
    for number in calls["absent"]:
        found += [_line(_EQUAL, 0, 1, number), _line(_RETURN, value=absent)]
    if calls["open"] is not None:
        found += _by_argument(calls["open"], 1, _ANY_BIT, _WRITES, refused=True)
    found += _by_argument(calls["openat"], 2, _ANY_BIT, _WRITES, refused=True)
    found += _by_argument(calls["clone"], 0, _ANY_BIT, _THREAD, refused=False)
    found += _by_argument(calls["tgkill"], 0, _EQUAL, own, refused=False)
    return [*found, _line(_RETURN, value=_ALLOW)]


def _by_argument(number: int, argument: int, how: int, value: int, *, refused: bool) -> list[bytes]:
    """Refuse a call by one of its arguments: where it is as said, or where it is not."""
    first, second = (_ERRNO | errno.EPERM, _ALLOW) if refused else (_ALLOW, _ERRNO | errno.EPERM)
    return [
        _line(_EQUAL, 0, 4, number),
        _line(_LOAD, value=_ARGUMENTS + 8 * argument),
        _line(how, 0, 1, value),
        _line(_RETURN, value=first),
        _line(_RETURN, value=second),
    ]


def _line(code: int, true: int = 0, false: int = 0, value: int = 0) -> bytes:
    return struct.pack("HBBI", code, true, false, value)
