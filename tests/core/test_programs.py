"""Whole programs: built, fed, told apart by the lines that they print."""

import re
import shutil
import textwrap
import unittest
from pathlib import Path

from tests.support.comparisons import HEAD, TrialCase, approach

GUIDE = Path(__file__).resolve().parents[2] / "docs" / "programs.md"
ROWS = HEAD.replace('key = ["gauge"]', 'key = ["rows"]').replace("[300]", "[20000]")
LINES = 'lines = "calls"\n'


def example(language):
    """The example in a language, as the guide has it, as a lane."""
    part = GUIDE.read_text().split(f"### {language}\n")[1].split("\n### ")[0]
    settings = dict(re.findall(r"`(build|argv) = (\[[^`]*\])`", part))
    code = re.search(r"```\w+\n(.*?)```", part, re.DOTALL)[1]
    lines = "".join(f"{name} = {value}\n" for name, value in settings.items())
    lane = approach(language.lower(), "", "command") + lines.replace("{passages}", "{readings}")
    return lane.replace("code = '''\n\n'''", f"code = '''\n{code}'''") + LINES


class Guide(TrialCase):
    def test_the_examples_do_their_calls_in_one_process(self):
        needs = {"Shell": "sh", "Python": "python3", "C": "gcc", "Java": "java"}
        there = [name for name, program in needs.items() if shutil.which(program)]
        self.assertGreater(len(there), 2)
        trial = self.trial(ROWS + "".join(map(example, there)), calls_per_process=3)
        lanes = {lane.id: lane for lane in trial.conduct().points[0].lanes}
        runs = {run.approach: run for run in trial.runs if not run.memory_run}
        for name in there:
            with self.subTest(name):
                lane, run = lanes[name.lower()], runs[name.lower()]
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
                self.assertEqual(len(run.calls), 3)
                self.assertIn("read", [stage.name for stage in run.stages])


class Programs(TrialCase):
    def ran(self, code, more, **plan):
        trial = self.trial(
            HEAD + approach("one", code, "command") + more, limits={"seconds": 20}, **plan
        )
        trial.conduct()
        return trial.runs[0]

    def test_a_table_is_standard_input(self):
        code = 'NR > 1 { n[$2]++ }\nEND { print "gauge,n"; for (g in n) print g "," n[g] }'
        more = 'argv = ["awk", "-F,", "-f", "{script}"]\nstdin = "readings"\n'
        run = self.ran(code, more)
        self.assertEqual((run.state, run.answer_rows), ("done", 3), run.error)

    def test_stages_are_told_with_the_cpu_time_of_the_program(self):
        code = """
            import time
            print("::stage wait", flush=True)
            time.sleep(0.3)
            print("::stage work", flush=True)
            end = time.process_time() + 0.3
            while time.process_time() < end:
                pass
            print("gauge,n")
            print("Ash,1")
        """
        more = 'argv = ["python3", "{script}"]\nlines = "stages"\n'
        run = self.ran(code, more)
        self.assertEqual((run.state, run.answer_rows), ("done", 1), run.error)
        told = {stage.name: stage for stage in run.stages}
        self.assertLess(told["wait"].cpu_s, 0.1)
        self.assertGreater(told["wait"].elapsed_s, 0.28)
        self.assertGreater(told["work"].cpu_s, 0.25)
        self.assertGreater(run.cpu_user_s + run.cpu_system_s, 0.25)

    def test_one_that_ends_too_early_is_told(self):
        for body, why in (
            ("raise SystemExit(4)", "status 4"),
            ("print('::ready', flush=True)", "ended before it printed ::done|between two calls"),
            ("pass", "before it printed ::ready"),
        ):
            with self.subTest(body):
                more = 'argv = ["python3", "{script}"]\n' + LINES
                run = self.ran(textwrap.dedent(body), more, name=f"t{len(body)}")
                self.assertEqual(run.state, "failed")
                self.assertRegex(run.error.message, why)

    def test_what_cannot_be_fed_is_refused(self):
        more = 'argv = ["cat"]\nstdin = "readngs"\n'
        self.assertIn("There is no table readngs", self.ran("", more).error.message)
        fed = 'argv = ["cat"]\nstdin = "readings"\n' + LINES
        self.assertIn("cannot have a table there", self.ran("", fed, name="fed").error.message)


if __name__ == "__main__":
    unittest.main()
