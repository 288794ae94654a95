"""System calls that a run may not make: a run that tries them is refused, and goes on."""

import unittest

from ivrell.core.contain import sandbox
from tests.support.comparisons import HEAD, TrialCase, approach

TRYING = """
import ctypes, errno, mmap, multiprocessing, os, socket, subprocess, sys, threading

LIBC = ctypes.CDLL(None, use_errno=True)
NEW_USER = 0x10000000
NUMBERS = {
    "x86_64": dict(
        add_key=248, request_key=249, keyctl=250, shmget=29, semget=64, msgget=68, setns=308,
        unshare=272, clone=56, mount=165, chroot=161, fsopen=430, move_mount=429, open_tree=428,
        bpf=321, perf_event_open=298, userfaultfd=323, memfd_secret=447, io_uring_setup=425,
        pidfd_getfd=438, init_module=175, settimeofday=164, sethostname=170, kexec_load=246,
    ),
    "aarch64": dict(
        add_key=217, request_key=218, keyctl=219, shmget=194, semget=190, msgget=186, setns=268,
        unshare=97, clone=220, mount=40, chroot=51, fsopen=430, move_mount=429, open_tree=428,
        bpf=280, perf_event_open=241, userfaultfd=282, memfd_secret=447, io_uring_setup=425,
        pidfd_getfd=438, init_module=105, settimeofday=170, sethostname=161, kexec_load=104,
    ),
}[os.uname().machine]

def tried(name):
    word = ctypes.create_string_buffer(b"user")
    given = {
        "shmget": (0, 4096, 0o1600), "semget": (0, 1, 0o1600), "msgget": (0, 0o1600),
        "add_key": (word, word, word, 4, -4), "keyctl": (0, -4, 1),
        "request_key": (word, word, None, -4), "unshare": (NEW_USER,),
        "clone": (NEW_USER | 17, 0, 0, 0, 0),
        "io_uring_setup": (4, ctypes.create_string_buffer(200)),
    }.get(name, (0, 0, 0, 0, 0))
    ctypes.set_errno(0)
    done = LIBC.syscall(NUMBERS[name], *given)
    if name == "clone" and done == 0:
        os._exit(0)
    return done >= 0 or ctypes.get_errno() != errno.EPERM

def refused(family):
    try:
        socket.socket(family, socket.SOCK_STREAM).close()
    except OSError as error:
        return error.errno in (errno.EAFNOSUPPORT, errno.EPERM)
    return False
"""

ATTACK = (
    TRYING
    + """
def answer(data, knobs, stage):
    rows = [{"gauge": name, "n": 1} for name in NUMBERS if tried(name)]
    rows += [{"gauge": f"family {n}", "n": 1} for n in (3, 17, 38, 40) if not refused(n)]
    return rows or [{"gauge": "none", "n": 0}]
"""
)

ORDINARY = """
import mmap, multiprocessing, os, socket, subprocess, threading

def answer(data, knobs, stage):
    told = []
    thread = threading.Thread(target=told.append, args=(1,))
    thread.start()
    thread.join()
    with multiprocessing.get_context("fork").Pool(2) as pool:
        told += pool.map(abs, [-1, -2])
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        told += pool.map(abs, [-3])
    told.append(int(subprocess.run(["sh", "-c", "echo 4"], capture_output=True).stdout))
    kept = mmap.mmap(os.memfd_create("kept"), 0) if False else mmap.mmap(-1, 4096)
    kept[0] = 5
    told.append(kept[0])
    with socket.create_server(("127.0.0.1", 0)) as server:
        with socket.create_connection(server.getsockname()):
            told.append(6)
    lock = multiprocessing.Lock()
    with lock:
        told.append(7)
    return [{"gauge": "told", "n": sum(told)}]
"""


@unittest.skipIf(sandbox.why_not(), "no sandbox here")
class Calls(TrialCase):
    def answered(self, code, name):
        trial = self.trial(HEAD + approach("a", code), name=name)
        trial.conduct()
        run = trial.runs[0]
        self.assertIsNone(run.error, run.error)
        return trial.answers.table("a", run.answer_fingerprint).to_pylist()

    def test_what_outlives_a_run_or_leads_out_of_it_is_refused(self):
        self.assertEqual(self.answered(ATTACK, "attack"), [{"gauge": "none", "n": 0}])

    def test_what_lanes_do_goes_on(self):
        self.assertEqual(self.answered(ORDINARY, "ordinary"), [{"gauge": "told", "n": 29}])


if __name__ == "__main__":
    unittest.main()
