"""The page, signing in, headers, and the published schema."""

import datetime
import io
import json
import re
import tomllib
from pathlib import Path

import jsonschema
import openapi_spec_validator
import yaml
from django.core.management import call_command
from django.test import TestCase
from django.utils import timezone

from ivrell.core.report.document.drawings import COLOURS
from ivrell.server.accounts.models import SignInLink, owner
from ivrell.server.comparisons.models import Comparison
from tests.support.comparisons import DEMO
from tools import page_facts

ROOT = Path(__file__).resolve().parents[2]


class SigningIn(TestCase):
    def test_a_link_works_once(self):
        token = SignInLink.objects.issue(owner())
        answer = self.client.get(f"/enter/{token}")
        self.assertRedirects(answer, "/", fetch_redirect_response=False)
        self.assertEqual(self.client.get("/api/now/").json()["user"], "owner")
        self.client.post("/leave")
        again = self.client.get(f"/enter/{token}")
        self.assertContains(again, "run <code>./start</code> again", status_code=403)
        self.assertEqual(self.client.get("/api/now/").status_code, 403)

    def test_an_old_or_made_up_link_does_not_work(self):
        token = SignInLink.objects.issue(owner())
        SignInLink.objects.update(expires_at=timezone.now() - datetime.timedelta(seconds=1))
        for tried in (token, "made-up"):
            self.assertEqual(self.client.get(f"/enter/{tried}").status_code, 403)

    def test_the_token_itself_is_not_kept(self):
        token = SignInLink.objects.issue(owner())
        self.assertNotIn(token, str(SignInLink.objects.values()))

    def test_command(self):
        out = io.StringIO()
        call_command("sign_in_link", stdout=out)
        self.assertEqual(self.client.get(out.getvalue().strip()).status_code, 302)


class Headers(TestCase):
    def test_nonce_is_fresh_and_in_the_page(self):
        policies = set()
        for _ in range(2):
            answer = self.client.get("/")
            policy = answer["Content-Security-Policy"]
            nonce = policy.split("'nonce-")[1].split("'")[0]
            self.assertContains(answer, f'nonce="{nonce}"')
            self.assertNotContains(answer, "__IVRELL_NONCE__")
            policies.add(policy)
        self.assertEqual(len(policies), 2)
        self.assertIn("default-src 'none'", policy)
        self.assertEqual(answer["X-Frame-Options"], "DENY")

    def test_other_hosts_are_refused(self):
        self.assertEqual(self.client.get("/", HTTP_HOST="elsewhere.example").status_code, 400)

    def test_changes_need_the_csrf_token(self):
        strict = self.client_class(enforce_csrf_checks=True)
        strict.force_login(owner())
        answer = strict.post("/api/comparisons/", content_type="application/json")
        self.assertEqual(answer.status_code, 403)
        self.assertEqual(Comparison.objects.count(), 0)


class Published(TestCase):
    def test_the_api_s_schema_is_one_and_tells_each_path_once(self):
        told = yaml.safe_load((ROOT / "docs" / "api" / "openapi.yaml").read_text())
        openapi_spec_validator.validate(told)
        self.assertFalse([path for path in told["paths"] if "{format}" in path])

    def test_the_file_s_schema_takes_every_demo_and_refuses_what_the_reader_does(self):
        schema = json.loads((ROOT / "docs" / "comparison.schema.json").read_text())
        checked = jsonschema.Draft202012Validator(schema)
        checked.check_schema(schema)
        self.assertEqual(schema["$id"], "urn:ivrell:ivrell-comparison/1")
        for path in sorted((ROOT / "demo").glob("*.toml")):
            with self.subTest(path.name):
                # Dates are text in JSON.
                told = json.loads(json.dumps(tomllib.loads(path.read_text()), default=str))
                self.assertEqual([e.message for e in checked.iter_errors(told)], [])
                for wrong in ("2 parsecs", "-1 s", 0, ""):
                    odd = {**told, "targets": {"elapsed": wrong}}
                    self.assertFalse(checked.is_valid(odd), wrong)

    def test_schema_is_the_published_one(self):
        out = io.StringIO()
        call_command("spectacular", "--fail-on-warn", stdout=out)
        published = (ROOT / "docs" / "api" / "openapi.yaml").read_text()
        self.assertEqual(out.getvalue(), published, "run tools/schema.sh")

    def test_nothing_published_is_just_anything(self):
        """Every shape says what it holds; of what a request takes, and of what it gives."""
        schemas = yaml.safe_load((ROOT / "docs" / "api" / "openapi.yaml").read_text())

        def empty(part, at):
            if part == {} and not at.endswith("security"):
                yield at
            for name, value in part.items() if isinstance(part, dict) else ():
                if name == "default":
                    # What stands there is a value and no shape.
                    continue
                yield from empty(value, f"{at}.{name}")
            for value in part if isinstance(part, list) else ():
                yield from empty(value, at)

        self.assertEqual(list(empty(schemas["components"]["schemas"], "")), [])

    def test_events_are_published_by_their_kinds(self):
        schemas = yaml.safe_load((ROOT / "docs" / "api" / "openapi.yaml").read_text())
        event = schemas["components"]["schemas"]["Events"]["properties"]["events"]["items"]
        kinds = set(event["discriminator"]["mapping"])
        self.assertLessEqual({"run started", "progress", "run ended", "ended", "judged"}, kinds)

    def test_facts_of_the_core_are_the_published_ones(self):
        published = (ROOT / "web" / "src" / "api" / "facts.ts").read_text()
        # The page's own formatter lays it out otherwise.
        plain = [re.sub(r'[\s,"]+', "", text) for text in (page_facts.text(), published)]
        self.assertEqual(plain[0], plain[1], "run tools/schema.sh")

    def test_colours_of_lanes_are_the_report_s(self):
        styles = (ROOT / "web" / "src" / "ui" / "theme.css").read_text()
        light = styles.split("}")[0]
        self.assertEqual(tuple(re.findall(r"--lane-\d: (#\w+)", light)), COLOURS)


class Demo(TestCase):
    def test_is_loaded_once_and_does_not_come_back(self):
        call_command("load_demo", str(DEMO.parent), stdout=io.StringIO())
        record = Comparison.objects.get(demo="tolls-per-lock")
        record.deleted_at = timezone.now()
        record.save()
        call_command("load_demo", str(DEMO.parent), stdout=io.StringIO())
        left = [record.demo for record in Comparison.objects.present()]
        files = {path.stem for path in DEMO.parent.glob("*.toml")}
        self.assertEqual(left[0], "transits-of-one-lock")
        self.assertEqual(sorted(left), sorted(files - {"tolls-per-lock"}))
