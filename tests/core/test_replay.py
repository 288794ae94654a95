"""Ways in which a lane could remember its answer from one run to the next: none may work."""

import unittest

from ivrell.core.contain import sandbox
from ivrell.core.servers import mariadb
from tests.core.test_sql_engines import EngineCase
from tests.support.comparisons import HEAD, TrialCase, approach

WAYS = '''
import ctypes, glob, os, site, socket, subprocess, sys, sysconfig, tempfile, time
from pathlib import Path

MARK = "remembered-by-a-lane"
LIBC = ctypes.CDLL(None, use_errno=True)
ARM = os.uname().machine == "aarch64"

def file_at(*places):
    """Leave a file in the first place that takes one."""
    def keep(data):
        for place in places:
            try:
                Path(place).mkdir(parents=True, exist_ok=True)
                (Path(place) / MARK).write_text(MARK)
            except OSError:
                pass
    def look(data):
        return any(os.access(Path(place) / MARK, os.F_OK) for place in places)
    return keep, look

def mounted():
    """Files from outside that a run is shown, its inputs among them."""
    lines = Path("/proc/self/mountinfo").read_text().splitlines()
    places = [line.split()[4] for line in lines if "ivrell" in line]
    return [place for place in places if os.path.isfile(place)]

def beside_inputs():
    keep, look = file_at(*(str(Path(path).parent) for path in mounted()))
    return keep, look

def names_of_inputs():
    """In the time, the rights or the attributes of a file that every run reads."""
    def keep(data):
        for path in mounted():
            for act in (lambda: os.utime(path, (47, 47)), lambda: os.chmod(path, 0o640),
                        lambda: os.setxattr(path, "user.kept", b"1"),
                        lambda: os.rename(path, path + "x")):
                try:
                    act()
                except OSError:
                    pass
    def look(data):
        return any(os.stat(path).st_mtime == 47 for path in mounted())
    return keep, look

def daemon(listening, asking):
    """A process that goes on, and tells whoever asks."""
    code = (
        "import os, socket, time\\n"
        "os.setsid()\\n"
        "if os.fork(): os._exit(0)\\n"
        f"server = {listening}\\n"
        f"open('/tmp/{MARK}', 'w')\\n"
        "time.sleep(60)\\n"
    )
    def keep(data):
        quiet = dict(stdin=-3, stdout=-3, stderr=-3)
        subprocess.Popen([sys.executable, "-c", code], start_new_session=True, **quiet)
        time.sleep(0.3)
    def look(data):
        try:
            asking().close()
        except OSError:
            return False
        return True
    return keep, look

def unix_asked(name):
    sock = socket.socket(socket.AF_UNIX)
    sock.connect(name)
    return sock

def kernel(keep_call, look_call):
    return (lambda data: keep_call()), (lambda data: look_call() > 0)

def system_v():
    number, size, made = (194, 4096, 0o1666) if ARM else (29, 4096, 0o1666)
    return kernel(lambda: LIBC.syscall(number, 4711, size, made),
                  lambda: LIBC.syscall(number, 4711, size, 0o666))

def queue():
    number = 186 if ARM else 68
    return kernel(lambda: LIBC.syscall(number, 4712, 0o1666),
                  lambda: LIBC.syscall(number, 4712, 0o666))

def posix_queue():
    number = 180 if ARM else 240
    name = ctypes.create_string_buffer(b"kept")
    return kernel(lambda: LIBC.syscall(number, name, os.O_CREAT | os.O_RDWR, 0o666, None),
                  lambda: LIBC.syscall(number, name, os.O_RDWR, 0, None))

def keyring(which):
    add, asked = (217, 218) if ARM else (248, 249)
    word, name = ctypes.create_string_buffer(b"user"), ctypes.create_string_buffer(MARK.encode())
    return kernel(lambda: LIBC.syscall(add, word, name, word, 4, which),
                  lambda: LIBC.syscall(asked, word, name, None, which))

def setting(path):
    def keep(data):
        try:
            Path(path).write_text(MARK)
        except OSError:
            pass
    def look(data):
        try:
            return MARK in Path(path).read_text()
        except OSError:
            return False
    return keep, look

PLACES = {
    "its folder": (".", "tmp", "~kept"), "home": (os.path.expanduser("~"), "/root", "/home/kept"),
    "temporary": ("/tmp", "/var/tmp", tempfile.gettempdir()), "shared memory": ("/dev/shm", "/run"),
    "libraries": (sysconfig.get_path("purelib"), os.path.dirname(os.__file__), "/usr/local/lib"),
    "the system": ("/etc", "/opt", "/var/cache/fontconfig", "/var/lib/libreoffice", "/srv"),
    "control groups": ("/sys/fs/cgroup/kept",),
}
WAYS = {name: file_at(*places) for name, places in PLACES.items()}
WAYS |= {
    "beside inputs": beside_inputs(),
    "names of inputs": names_of_inputs(),
    "a port": daemon("socket.create_server(('127.0.0.1', 47110))",
                     lambda: socket.create_connection(("127.0.0.1", 47110), 1)),
    "an abstract socket": daemon(
        "socket.socket(socket.AF_UNIX); server.bind('\\\\0kept'); server.listen()",
        lambda: unix_asked("\\0kept")),
    "memory of System V": system_v(),
    "a queue of System V": queue(),
    "a queue of POSIX": posix_queue(),
    "the user's keyring": keyring(-4),
    "the user's session keyring": keyring(-5),
    "the session's keyring": keyring(-3),
    "the name of the machine": setting("/proc/sys/kernel/hostname"),
    "a setting of the kernel": setting("/proc/sys/kernel/core_pattern"),
}

def answer(data, knobs, stage):
    found = [name for name, (_, look) in WAYS.items() if look(data)]
    for keep, _ in WAYS.values():
        try:
            keep(data)
        except OSError:
            pass
    # Some way must be seen to work within the run, or nothing was tried.
    tried = sum(bool(look(data)) for _, look in WAYS.values())
    return [{"gauge": name, "n": 1} for name in found] + [{"gauge": "tried", "n": tried}]
'''

SERVERS = {
    "postgres": (
        "ALTER ROLE CURRENT_USER SET application_name = 'remembered'",
        "SELECT lo_from_bytea(4713, 'remembered')",
        "CREATE TEMP TABLE remembered AS SELECT 1 AS n",
        "SELECT pg_advisory_lock(4714)",
        "SELECT set_config('ivrell.kept', 'remembered', false)",
        "PREPARE remembered AS SELECT 1",
    ),
    "mariadb": (
        "SET @remembered = 1",
        "CREATE TEMPORARY TABLE remembered AS SELECT 1 AS n",
        "SELECT GET_LOCK('remembered', 1)",
        "SET PASSWORD = PASSWORD('remembered')",
    ),
}
PREVIEWS = {
    "postgres": (
        "SELECT 1 WHERE current_setting('application_name') = 'remembered'",
        "SELECT lo_get(4713)",
        "SELECT * FROM remembered",
        "SELECT 1 WHERE NOT pg_try_advisory_lock(4714)",
        "SELECT 1 WHERE current_setting('ivrell.kept', true) = 'remembered'",
        "EXECUTE remembered",
    ),
    "mariadb": (
        "SELECT 1 FROM (SELECT @remembered AS n) t WHERE n = 1",
        "SELECT * FROM remembered",
        "SELECT 1 FROM (SELECT IS_FREE_LOCK('remembered') AS n) t WHERE n = 0",
    ),
}
SERVER_LANE = """
def asked(db, statement):
    try:
        cursor = db.cursor()
        cursor.execute(statement)
        return bool(cursor.fetchall()) if cursor.description else False
    except Exception:
        return False

def answer(data, knobs, stage, db):
    found = [{{"gauge": look[:40], "n": 1}} for look in {looks!r} if asked(db, look)]
    for statement in {statements!r}:
        asked(db, statement)
    tried = sum(asked(db, look) for look in {looks!r})
    return found + [{{"gauge": "tried", "n": tried}}]
"""


class Replay(TrialCase):
    def told(self, trial):
        """What each run found of the one before, and how many ways worked within it."""
        trial.conduct()
        for run in trial.runs:
            self.assertIsNone(run.error, run.error)
            rows = trial.answers.table(run.approach, run.answer_fingerprint).to_pylist()
            found = [row["gauge"] for row in rows if row["gauge"] != "tried"]
            yield found, rows[-1]["n"]

    @unittest.skipIf(sandbox.why_not(), "without a sandbox a run leaves what it likes")
    def test_no_way_of_the_system_works(self):
        trial = self.trial(HEAD + approach("a", WAYS), rounds=2, calls_per_process=1)
        for found, tried in self.told(trial):
            self.assertEqual(found, [])
            self.assertGreater(tried, 4, "a way that does not work within a run proves nothing")


class ReplayOnServers(EngineCase, Replay):
    test_no_way_of_the_system_works = None

    def test_no_way_of_a_server_works(self):
        for server, statements in SERVERS.items():
            if server == "mariadb" and not mariadb.server_version():
                continue
            for more in ("", "writes = true\n"):
                code = SERVER_LANE.format(looks=PREVIEWS[server], statements=statements)
                lane = approach("a", code, server=server) + more
                trial = self.trial(HEAD + lane, rounds=2, name=f"{server}-{bool(more)}")
                for found, tried in self.told(trial):
                    with self.subTest(server=server, more=more):
                        self.assertEqual(found, [])
                        self.assertGreaterEqual(tried, 2)


if __name__ == "__main__":
    unittest.main()
