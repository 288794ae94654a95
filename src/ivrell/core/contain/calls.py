"""System calls that strangers' code may not make: filters of the kernel's, compiled by libseccomp
for bubblewrap, which hands them to the kernel before it starts what it shuts in.

Denied is what outlives a run (keyrings, memory and queues of System V), what leads out of its walls
(user namespaces, mounts, entering of namespaces) and what lanes have no use for (the kernel's
programs, counters and clocks). Memory that is asked for with ``memfd_create`` stays: it is counted.
"""

import errno
from enum import StrEnum
from functools import lru_cache
from pathlib import Path

from ivrell.core.base.folders import data_folder

_EDITION = 1
"""Raised with any change of what is denied: a compiled filter is kept by it."""


class Filter(StrEnum):
    """Whom a filter is for."""

    RUN = "run"
    """Strangers' code."""
    SERVER = "server"
    """A database server: it shares memory among its processes, and queues its reads."""


_KEYRINGS = ("add_key", "keyctl", "request_key")
_SYSTEM_V = (
    "shmget", "shmat", "shmctl", "shmdt", "msgget", "msgsnd", "msgrcv", "msgctl",
    "semget", "semop", "semctl", "semtimedop",
)  # fmt: skip
_NAMESPACES = (
    "setns", "mount", "umount", "umount2", "pivot_root", "chroot", "fsopen", "fsconfig", "fsmount",
    "fspick", "move_mount", "open_tree", "mount_setattr", "name_to_handle_at", "open_by_handle_at",
)  # fmt: skip
_KERNEL = (
    "bpf", "perf_event_open", "userfaultfd", "memfd_secret", "kexec_load", "kexec_file_load",
    "init_module", "finit_module", "delete_module", "swapon", "swapoff", "reboot", "acct",
    "quotactl", "quotactl_fd", "syslog", "settimeofday", "clock_settime", "sethostname",
    "setdomainname", "iopl", "ioperm", "modify_ldt", "lookup_dcookie", "pidfd_getfd", "kcmp",
    "process_madvise", "vhangup", "nfsservctl", "uselib",
)  # fmt: skip
_QUEUED = ("io_uring_setup", "io_uring_enter", "io_uring_register")
_NEW_USER = 0x10000000
_FAMILIES = (1, 2, 10, 16)
"""Sockets of this machine and of the internet, and the kernel's own list of networks."""
_LAST_FAMILY = 16


def compiled(whose: Filter) -> str:
    """Path of a filter, compiled unless it is there. Raises OSError or ImportError where it
    cannot be."""
    import tempfile  # what the runner does not need would weigh on its size

    path = data_folder() / "calls" / f"{whose}-{_edition()}.bpf"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=path.parent, delete=False) as file:
            _export(whose, file)
        Path(file.name).replace(path)
    return str(path)


@lru_cache(maxsize=1)
def _edition() -> str:
    """Tells filters of other editions, machines and libraries apart."""
    import hashlib

    import pyseccomp

    told = (_EDITION, pyseccomp.system_arch(), pyseccomp.get_api())
    return hashlib.sha256(repr(told).encode()).hexdigest()[:12]


def _export(whose: Filter, file: object) -> None:
    import pyseccomp
    from pyseccomp import EQ, ERRNO, GT, MASKED_EQ, Arch, Arg, Attr, SyscallFilter

    found = SyscallFilter(pyseccomp.ALLOW)
    if pyseccomp.get_api() >= 4:
        # A tree instead of a list: what is allowed is found as quickly as what is denied.
        found.set_attr(Attr.CTL_OPTIMIZE, 2)
    no = ERRNO(errno.EPERM)
    denied: tuple[str, ...] = (*_KEYRINGS, *_NAMESPACES, *_KERNEL)
    if whose == Filter.RUN:
        denied += (*_SYSTEM_V, *_QUEUED)
    for name in denied:
        if pyseccomp.resolve_syscall(Arch.NATIVE, name) >= 0:
            found.add_rule(no, name)
    for name in ("unshare", "clone"):
        found.add_rule(no, name, Arg(0, MASKED_EQ, _NEW_USER, _NEW_USER))
    # Its flags lie in memory, which a filter cannot see; without it libraries take the older one.
    found.add_rule(ERRNO(errno.ENOSYS), "clone3")
    family = ERRNO(errno.EAFNOSUPPORT)
    found.add_rule(family, "socket", Arg(0, GT, _LAST_FAMILY))
    for number in set(range(_LAST_FAMILY)) - {*_FAMILIES}:
        found.add_rule(family, "socket", Arg(0, EQ, number))
    found.export_bpf(file)
