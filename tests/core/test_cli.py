"""The command line as one uses it: exit status, what it prints, what it leaves."""

import argparse
import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path
from unittest import mock

from ivrell.cli import show
from ivrell.cli.main import main, parser
from ivrell.cli.plan_options import add_plan_options, given_in, options
from ivrell.core.base.errors import BadInput
from ivrell.core.base.json_lines import whole_lines
from ivrell.core.records.plan import Limits, Plan, Until
from ivrell.core.records.run import RunRecord
from ivrell.core.records.tries import TryOutcome
from tests.support.comparisons import COUNTING, DEMO, HEAD, approach
from tests.support.waiting import PATIENCE_S, wait_until


class CommandLine(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="ivrell-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def ivrell(self, *arguments):
        if arguments[0] == "run" and "--disturbed-share" not in arguments:
            # Other tests run beside: no run waits for a quiet moment or is done again.
            arguments += ("--disturbed-share", 100, "--disturbed-wait", 0)
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)],
            capture_output=True,
            text=True,
            env={**os.environ, "IVRELL_DATA": str(self.folder / "data")},
            cwd=self.folder,
        )

    def file(self, text):
        path = self.folder / "gauges.toml"
        path.write_text(text)
        return path

    def test_demo_leaves_the_result_folder(self):
        out = self.folder / "out"
        done = self.ivrell(
            "run", DEMO, "--set", "rows=20000", "--rounds", 2, "--warm-ups", 0, "--out", out,
            "--disturbed-share", 100, "--disturbed-wait", 0, "--seed", 7,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        wanted = {
            "comparison.toml", "plan.json", "sessions.json", "runs.jsonl", "curves.parquet",
            "agreement.json", "findings.json", "journal.jsonl", "report.html",
        }  # fmt: skip
        self.assertLessEqual(wanted, {path.name for path in out.iterdir()})
        self.assertIn("rows = 20,000", done.stdout)
        self.assertIn("Query over a columnar file", done.stdout)
        self.assertEqual((out / "comparison.toml").read_text(), DEMO.read_text())
        self.assertEqual(json.loads((out / "plan.json").read_text())["order_seed"], 7)
        runs = [json.loads(line) for line in (out / "runs.jsonl").read_text().splitlines()]
        self.assertEqual(len(runs), 10)
        self.assertEqual({run["state"] for run in runs}, {"done"})

    def test_json_and_status_1_for_a_lane_that_disagrees(self):
        wrong = COUNTING.replace("+ 1", "+ 2")
        path = self.file(HEAD + approach("good", COUNTING) + approach("wrong", wrong))
        done = self.ivrell("run", path, "--rounds", 1, "--json")
        self.assertEqual(done.returncode, 1)
        lanes = json.loads(done.stdout)["points"][0]["lanes"]
        self.assertEqual([lane["agreement"]["agrees"] for lane in lanes], [True, False])

    def test_check_runs_small_and_tells_who_disagrees(self):
        wrong = COUNTING.replace("+ 1", "+ 2")
        path = self.file(
            HEAD.replace("rows = [300]", "rows = [90_000_000]")
            + approach("good", COUNTING)
            + approach("same", COUNTING)
        )
        done = self.ivrell("check", path)
        self.assertEqual((done.returncode, done.stdout), (0, "good: the reference\nsame: same\n"))
        path = self.file(HEAD + approach("good", COUNTING) + approach("wrong", wrong))
        done = self.ivrell("check", path)
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            "wrong: different (n: 3 values differ (each is 2 times the reference's))", done.stdout
        )

    def test_interpreters_are_added_shown_and_forgotten(self):
        self.assertIn("No other interpreter", self.ivrell("runtimes").stdout)
        done = self.ivrell("runtimes", "--add", "mine", sys.executable)
        self.assertRegex(done.stdout, r"mine .*CPython 3")
        bad = self.ivrell("runtimes", "--add", "other", "/bin/sh")
        self.assertEqual(bad.returncode, 2)
        self.assertIn("does not answer", bad.stderr)
        gone = json.loads(self.ivrell("runtimes", "--remove", "mine", "--json").stdout)
        self.assertEqual(gone, [])
        self.assertIn("No server", self.ivrell("servers").stdout)

    def test_places_of_spark_are_added_shown_and_forgotten(self):
        self.assertIn("No cluster is registered", self.ivrell("clusters").stdout)
        self.addCleanup(self.ivrell, "clusters", "--remove", "pair")
        done = self.ivrell("clusters", "--add", "pair", "sc://127.0.0.1:1")
        self.assertEqual(done.returncode, 2)
        self.assertIn("does not answer at port 1", done.stderr)
        done = self.ivrell(
            "clusters", "--add", "pair", "standalone:2", "--set", "spark.executor.cores=2",
            "--worker-cores", 2,
        )  # fmt: skip
        if done.returncode:
            # Without Java there is no Spark, and that is said.
            self.assertIn("there is no Java here", done.stderr)
            return
        self.assertRegex(done.stdout, r"pair .*standalone:2: a cluster that Ivrell starts")
        kept = json.loads(self.ivrell("clusters", "--json").stdout)
        self.assertEqual(kept[0]["settings"], {"spark.executor.cores": "2"})

    def test_resume_does_what_is_left(self):
        out = self.folder / "out"
        path = self.file(HEAD + approach("good", COUNTING))
        self.ivrell("run", path, "--rounds", 3, "--warm-ups", 0, "--out", out)
        lines = (out / "runs.jsonl").read_text().splitlines(keepends=True)
        (out / "runs.jsonl").write_text(lines[0])
        done = self.ivrell("resume", out, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        lane = json.loads(done.stdout)["points"][0]["lanes"][0]
        self.assertEqual(lane["elapsed"]["count"], 3)
        again = (out / "runs.jsonl").read_text().splitlines(keepends=True)
        self.assertEqual(again[0], lines[0])
        self.assertIn("no result folder", self.ivrell("resume", self.folder).stderr)

    def test_it_fails_for_claims_and_targets_where_asked_to(self):
        claim = '\n[[claim]]\ntext = "slow is quick"\nlower = "slow"\nhigher = "good"\n'
        slow = "import time\n" + textwrap.dedent(COUNTING).replace(
            "    counts = {}", "    time.sleep(0.3)\n    counts = {}")  # fmt: skip
        text = HEAD + approach("good", COUNTING) + approach("slow", slow)
        weak = claim.replace("slow is quick", "far quicker")
        weak = weak.replace('"slow"', '"x"').replace('"good"', '"slow"').replace('"x"', '"good"')
        weak += "at_least = 1e6\n"
        for name, flag, more, status, told in (
            ("claim", "--strict", claim, 1, "contradicted at rows = 300: slow is quick."),
            ("target", "--strict", '\n[targets]\nelapsed = "1 us"\n', 1,
             "no lane surely meets the target"),
            ("neither", "--strict", '\n[targets]\nelapsed = "30 s"\n', 0, ""),
            ("weak", "--claims", weak, 4, "weakened: far quicker."),
            ("both", "--claims", weak + claim, 1, "contradicted: slow is quick."),
        ):  # fmt: skip
            with self.subTest(name):
                path = self.file(text + more)
                done = self.ivrell("run", path, "--rounds", 5, flag, "--out", name)
                self.assertEqual(done.returncode, status, done.stdout + done.stderr)
                self.assertIn(told, done.stderr)

    def test_who_stops_it_is_told_and_how_to_go_on(self):
        path = self.file(HEAD + approach("good", COUNTING))
        for number, status, how in (
            (signal.SIGINT, 130, "Ctrl-C"),
            (signal.SIGTERM, 143, "SIGTERM"),
        ):
            out = self.folder / how
            command = [sys.executable, "-m", "ivrell.cli", "run", str(path), "--rounds", "500",
                       "--warm-ups", "0", "--out", str(out), "--disturbed-wait", "0"]  # fmt: skip
            running = subprocess.Popen(
                command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                env={**os.environ, "IVRELL_DATA": str(self.folder / "data")},
            )  # fmt: skip
            runs = out / "runs.jsonl"
            wait_until(lambda runs=runs: runs.exists() and runs.read_text())
            running.send_signal(number)
            said, errors = running.communicate(timeout=PATIENCE_S)
            self.assertEqual(running.returncode, status, errors)
            # No bar in a pipe, and nothing else but what is to be done.
            self.assertEqual(
                errors, f"ivrell: stopped by {how}. What was measured is kept; go on with: "
                f"ivrell resume {out}\n"
            )  # fmt: skip
            self.assertIn("(trial stopped)", said)
            self.assertTrue(whole_lines(runs))

    def test_propose_prints_a_recipe(self):
        sample = self.folder / "gauges.csv"
        sample.write_text("gauge,level\n" + "".join(f"G{n:03},{n / 8}\n" for n in range(200)))
        done = self.ivrell("propose", sample)
        self.assertIn('pattern = "[A-Z][0-9]{3}", unique = true', done.stdout)

    def test_status_2_for_bad_input_names_file_and_line(self):
        path = self.file(HEAD.replace("seed = 5", "sead = 5"))
        done = self.ivrell("run", path)
        self.assertEqual(done.returncode, 2)
        self.assertIn("gauges.toml, line 12, data.sead", done.stderr)
        self.assertEqual(done.stdout, "")

    def test_nothing_in_a_table_is_cut_and_what_else_was_found_stands_below(self):
        name = "A lane whose name is so long that no terminal of eighty columns could ever hold it"
        path = self.file(
            HEAD + approach("good", COUNTING, name=name)
            + approach("wrong", COUNTING.replace("+ 1", "+ 2"))
            + approach("broken", "import sys\ndef answer(data, knobs, stage):\n"
                       "    print('the lock is shut')\n    sys.exit(3)")
        )  # fmt: skip
        done = self.ivrell("run", path, "--rounds", 2, "--set", "rows=300,400")
        self.assertIn(name, done.stdout)
        self.assertNotIn("…", done.stdout)
        self.assertIn("stages: read", done.stdout)
        self.assertIn("reference gauge Ash", done.stdout)
        self.assertIn("    the lock is shut", done.stdout)
        self.assertEqual(done.stdout.count("Caution, few rounds"), 1)

    def test_a_lane_alone_or_without_the_baseline_says_what_it_was_held_against(self):
        path = self.file(HEAD + approach("base", COUNTING) + approach("good", COUNTING)
                         + approach("same", COUNTING))  # fmt: skip
        alone = self.ivrell("run", path, "--rounds", 1, "--only", "good")
        self.assertRegex(alone.stdout, "reference$|reference\n")
        self.assertIn("answer not checked", alone.stdout)
        two = self.ivrell("run", path, "--rounds", 1, "--only", "good,same", "--out", "two")
        self.assertIn("compared with good", two.stdout)
        self.assertIn("The baseline did not run here", two.stdout)

    def test_try_explain_and_interrupt(self):
        query = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        path = self.file(HEAD + approach("good", COUNTING) + approach("lite", query, "sqlite"))
        tried = self.ivrell("try", path)
        self.assertEqual(tried.returncode, 0, tried.stderr)
        self.assertIn("good: ", tried.stdout)
        self.assertRegex(tried.stdout, r"(?m)^Ash +\d+$")
        self.assertIn("Scan, ", self.ivrell("explain", path, "lite").stdout)
        none = self.ivrell("explain", path, "good")
        self.assertEqual(none.returncode, 1)
        self.assertIn("Only engines of SQL", none.stdout)
        cut = json.loads(self.ivrell("interrupt", path, "good", "--json").stdout)
        self.assertIn(cut["verdict"], ("can be started again", "was not killed"))

    def test_help_and_errors_do_not_wait_for_libraries(self):
        code = (
            "import sys\nfrom ivrell.cli.main import main\n"
            "try:\n    main(sys.argv[1:])\nexcept SystemExit:\n    pass\n"
            "heavy = {'numpy', 'pyarrow', 'polars', 'scipy', 'pandas', 'pydantic', 'duckdb'}\n"
            "print(sorted(heavy & sys.modules.keys()), file=sys.stderr)"
        )
        done = subprocess.run(
            [sys.executable, "-c", code, "--help"], capture_output=True, text=True
        )
        self.assertEqual(done.stderr.strip(), "[]")
        bad = self.file(HEAD.replace("seed = 5", "sead = 5"))
        done = subprocess.run(
            [sys.executable, "-c", code, "check", str(bad)], capture_output=True, text=True
        )
        for library in ("polars", "scipy", "pandas", "duckdb"):
            self.assertNotIn(library, done.stderr)

    @mock.patch("ivrell.core.base.logs.log_commands", lambda *_, **__: None)
    def test_other_bad_input(self):
        path = self.file(HEAD + approach("good", COUNTING))
        for arguments, told in (
            (("run", path, "--set", "rows"), "knob=value"),
            (("run", path, "--set", "loads=3"), 'no knob "loads"'),
            (("run", path, "--only", "bad"), 'no approach "bad"'),
            (("run", path, "--limit-memory", "lots"), "lots"),
            (("run", path, "--set", "rows=10,rows=20"), "Say --set for each"),
            (("run", path, "--cores", 99), "99"),
            (("run", path, "--kept", 0), "at least 1"),
            (("run", path, "--out", self.folder), "not empty"),
            (("run", self.folder / "nowhere.toml"), "no file"),
            (("data", path, "--forms", "clay", "--out", self.folder / "d"), 'no form "clay"'),
        ):
            with self.subTest(told=told):
                # In this process: each start of another takes seconds.
                with contextlib.redirect_stderr(io.StringIO()) as said:
                    status = main([str(argument) for argument in arguments])
                self.assertEqual(status, 2, said.getvalue())
                self.assertIn(told, said.getvalue())

    def test_every_field_of_a_plan_has_an_option_and_options_make_a_plan(self):
        flags = {option.flag for option in options()}
        self.assertLessEqual(
            {"--rounds", "--until", "--calls-per-process", "--min-sample", "--limit-memory",
             "--limit-output", "--limit-cpu", "--no-sandbox"},
            flags,
        )  # fmt: skip
        parser = argparse.ArgumentParser()
        add_plan_options(parser)
        self.assertEqual(Plan(**given_in(parser.parse_args([]))), Plan())
        said = (
            "--rounds 7 --until 10% --at-most 9 --cache warm,cold --threads 1,2 --kept 3 "
            "--shortest 50ms --limit-memory 2GiB --limit-seconds 2min --no-sandbox --only a,b "
            "--background quiet --background disk"
        )
        plan = Plan(**given_in(parser.parse_args(said.split())))
        self.assertEqual((plan.rounds, plan.until), (7, Until(narrower_than=0.1, at_most=9)))
        self.assertEqual((plan.cache, plan.threads), (["warm", "cold"], [1, 2]))
        self.assertEqual((plan.calls_per_process, plan.min_sample_s), (3, 0.05))
        self.assertEqual(plan.limits, Limits(memory_bytes=2**31, seconds=120))
        self.assertEqual((plan.sandbox, plan.approaches), ("off", ["a", "b"]))
        self.assertEqual(plan.background, ["quiet", "disk"])
        for bad, told in (("--rounds many", "--rounds many"), ("--at-most 5", "goes with --until")):
            with self.assertRaisesRegex(BadInput, told):
                given_in(parser.parse_args(bad.split()))

    def test_completion_for_shells(self):
        for shell in ("bash", "zsh", "fish"):
            done = self.ivrell("completion", shell)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("calls-per-process", done.stdout)

    def test_every_option_has_a_help_and_every_command_an_example_that_is_read(self):
        whole = parser(with_plan=True)
        [commands] = [one for one in whole._actions if isinstance(one.choices, dict)]
        for name, command in commands.choices.items():
            for option in command._actions:
                with self.subTest(command=name, option=option.dest):
                    self.assertTrue(option.help)
            example = command.epilog.removeprefix("Example: ivrell ").split()
            self.assertEqual(whole.parse_args(example).command, name)

    def test_data(self):
        out = self.folder / "d"
        path = self.file(HEAD)
        done = self.ivrell("data", path, "--forms", "csv,parquet", "--out", out, "--json")
        made = json.loads(done.stdout)
        self.assertEqual([m["form"] for m in made], ["csv", "parquet"])
        self.assertEqual(Path(made[0]["paths"][0]).read_text().count("\n"), 301)

    def test_engines_and_machine(self):
        self.assertIn("duckdb", self.ivrell("engines").stdout)
        machine = json.loads(self.ivrell("machine", "--json").stdout)
        self.assertEqual(machine["cores"], len(os.sched_getaffinity(0)))


class Shown(unittest.TestCase):
    def test_a_figure_that_was_not_measured_is_no_nought(self):
        def printed(**figures):
            run = RunRecord(run=1, approach="a", engine="python", point={}, round=1, position=1,
                            warm_up=False, state="done", elapsed_s=1.5, **figures)  # fmt: skip
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                show.tried("Loop", TryOutcome(run=run, point={}))
            return out.getvalue().strip()

        self.assertEqual(printed(), "Loop: 1.50 s, CPU not measured, rows not told")
        known = printed(cpu_user_s=1.0, cpu_system_s=0.25, answer_rows=1200)
        self.assertEqual(known, "Loop: 1.50 s, CPU 1.25 s, 1,200 rows")


if __name__ == "__main__":
    unittest.main()
