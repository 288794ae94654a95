"""The container's files fit what they name, and each other."""

import re
import subprocess
import unittest
from pathlib import Path

import yaml

from ivrell.cli import main

ROOT = Path(__file__).resolve().parents[2]
LINES = (ROOT / "Containerfile").read_text().splitlines()


def steps(word):
    """What stands behind a word of the Containerfile, by step."""
    return [line.removeprefix(f"{word} ") for line in LINES if line.startswith(f"{word} ")]


class Container(unittest.TestCase):
    def test_what_is_copied_and_run_is_there_and_can_be_read(self):
        self.assertIn("tools/image.sh", steps("COPY")[0])
        (script,) = re.findall(r"bash /tmp/ivrell/(\S+)", " ".join(steps("RUN")))
        subprocess.run(["bash", "-n", ROOT / "tools" / script], check=True)
        self.assertEqual(steps("USER"), ["ivrell"])
        self.assertIn("useradd --system", (ROOT / "tools" / script).read_text())

    def test_what_it_starts_is_a_command(self):
        command = re.findall(r'"([^"]+)"', steps("CMD")[-1])
        self.assertEqual(command.pop(0), "ivrell")
        args = main.parser(with_plan=False).parse_args(command)
        self.assertEqual((args.command, args.port), ("serve", int(steps("EXPOSE")[0])))

    def test_the_service_fits_the_image(self):
        told = yaml.safe_load((ROOT / "compose.yaml").read_text())
        (service,) = told["services"].values()
        self.assertEqual(service["build"], {"context": ".", "dockerfile": "Containerfile"})
        port = steps("EXPOSE")[0]
        # At loopback alone: the proxy stands before it.
        self.assertEqual(service["ports"], [f"127.0.0.1:{port}:{port}"])
        volumes = dict(one.split(":") for one in service["volumes"])
        self.assertEqual(volumes, dict(zip(told["volumes"], steps("VOLUME"), strict=True)))
        documented = (ROOT / "docs/file.md").read_text()
        given = {*service["environment"], *re.findall(r"(IVRELL_\w+)=", " ".join(steps("ENV")))}
        for name in given:
            self.assertIn(f"`{name}`", documented)


if __name__ == "__main__":
    unittest.main()
