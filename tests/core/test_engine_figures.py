"""CPU time of engines that work elsewhere than in the run's own process."""

import re
import unittest

from tests.core.test_sql_engines import BIG, EngineCase, sql
from tests.support.comparisons import HEAD, approach


class Cpu(EngineCase):
    def test_the_server_s_cpu_time_is_the_run_s_with_its_parallel_workers(self):
        code = """
        SELECT max(s) AS gauge, 1 AS n
        FROM (SELECT sum(sqrt(reading * i)) AS s FROM readings, generate_series(1, 4) i) t
        """
        settings = (
            "settings = { max_parallel_workers_per_gather = 2, min_parallel_table_scan_size = 0, "
            "parallel_setup_cost = 0, parallel_tuple_cost = 0 }\n"
        )
        _, runs = self.conducted(sql("server", "postgres", code, settings), text=BIG)
        run = runs["server"]
        cpu = run.cpu_user_s + run.cpu_system_s
        self.assertGreater(run.server_cpu_s, 0.2)
        self.assertGreaterEqual(cpu, run.server_cpu_s)
        self.assertGreater(cpu / run.elapsed_s, 0.7)

    def test_cpu_time_of_the_program_is_the_run_s(self):
        script = (
            "i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done; "
            'times >took; read -r user system <took; echo gauge,n; echo "$user+$system,1"'
        )
        lane = approach("loop", script, "command") + 'argv = ["sh", "{script}"]\n'
        trial = self.trial(HEAD + lane)
        trial.conduct()
        run = trial.runs[0]
        answer = trial.answers.table("loop", run.answer_fingerprint)
        # What the shell says of itself, which no other work on the machine changes.
        told = re.findall(r"(\d+)m([\d.]+)s", answer["gauge"][0].as_py())
        own = sum(60 * int(minutes) + float(seconds) for minutes, seconds in told)
        self.assertGreater(own, 0.1)
        cpu = run.cpu_user_s + run.cpu_system_s
        self.assertGreaterEqual(cpu, 0.95 * own)
        self.assertLess(cpu, 1.1 * own + 0.05)


if __name__ == "__main__":
    unittest.main()
