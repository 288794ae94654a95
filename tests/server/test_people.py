"""People with roles, passwords, tokens with scopes, and the log of who did what."""

import datetime
from unittest import mock

from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import Client, TestCase, override_settings
from django.utils import timezone

from ivrell.server.accounts.models import ApiToken, AuditEntry, SignInLink, owner
from ivrell.server.accounts.roles import Role, give, role_of
from ivrell.server.comparisons.models import Comparison
from tests.support.comparisons import DEMO

PASSWORD = "barge-at-the-weir"


class PeopleCase(TestCase):
    def setUp(self):
        cache.clear()
        self.client.force_login(owner())

    def person(self, name, role):
        """A client of somebody who was let in, signed in by the link of the answer."""
        answer = self.ask("post", "people", {"name": name, "role": role})
        self.assertEqual(answer.status_code, 201, answer.content)
        one = Client()
        self.assertEqual(one.get(answer.json()["link"]).status_code, 302)
        return one

    def ask(self, method, path, body=None, client=None, **more):
        kind = {} if method == "get" else {"content_type": "application/json"}
        send = getattr(client or self.client, method)
        return send(f"/api/{path}{'' if '?' in path else '/'}", body or {}, **kind, **more)

    def comparison(self):
        return self.ask("post", "comparisons", {"text": DEMO.read_text()}).json()["id"]


class Roles(PeopleCase):
    def test_each_does_what_its_role_may_and_nothing_more(self):
        number = self.comparison()
        of = {role: self.person(f"{role}-1", role) for role in ("viewer", "editor", "owner")}
        asked = (
            # What, and who may.
            (("get", f"comparisons/{number}"), ("viewer", "editor", "owner")),
            (("post", f"comparisons/{number}/data/look"), ("viewer", "editor", "owner")),
            (("put", f"comparisons/{number}/labels", {"labels": ["tolls"]}), ("editor", "owner")),
            (("get", "runtimes"), ("viewer", "editor", "owner")),
            (("post", "servers", {"name": "yard", "address": "x"}), ("owner",)),
            (("post", "environments", {"name": "", "packages": []}), ("owner",)),
            (("post", "machines", {"name": "weir"}), ("owner",)),
            (("get", "people"), ("owner",)),
            (("get", "audit"), ("owner",)),
        )
        for what, able in asked:
            for role, client in of.items():
                answer = self.ask(*what, client=client)
                refused = answer.status_code == 403
                self.assertEqual(refused, role not in able, (what, role, answer.content))

    def test_another_role_counts_at_once_and_who_is_let_out_is_out(self):
        number = self.comparison()
        one = self.person("Ashe", "viewer")
        labels = ("put", f"comparisons/{number}/labels", {"labels": []})
        self.assertEqual(self.ask(*labels, client=one).status_code, 403)
        self.ask("patch", "people", {"name": "Ashe", "role": "editor"})
        self.assertEqual(self.ask(*labels, client=one).status_code, 200)
        token = self.ask("post", "tokens", {"name": "n", "scopes": ["read"]}, one).json()["token"]
        link = self.ask("patch", "people", {"name": "Ashe", "new_link": True}).json()["link"]
        told = self.client.delete("/api/people/?name=Ashe").json()
        self.assertEqual([person["name"] for person in told["people"]], ["owner"])
        self.assertEqual(self.ask("get", "now", client=one).status_code, 403)
        self.assertEqual(Client().get(link).status_code, 403)
        self.assertEqual(self.bearer(token, "get", "now").status_code, 403)
        # Who comes again under that name has nothing of before.
        again = self.person("Ashe", "viewer")
        self.assertEqual(self.ask(*labels, client=again).status_code, 403)
        self.assertEqual(self.ask("get", "now", client=one).status_code, 403)

    def bearer(self, token, method, path, body=None):
        return self.ask(method, path, body, Client(), HTTP_AUTHORIZATION=f"Bearer {token}")

    def test_there_is_always_an_owner(self):
        for answer in (
            self.ask("patch", "people", {"name": "owner", "role": "viewer"}),
            self.client.delete("/api/people/?name=owner"),
        ):
            self.assertEqual(answer.status_code, 400)
            self.assertIn("stays an owner", answer.json()["what"])
        self.assertEqual(role_of(owner()), Role.OWNER)
        taken = self.ask("post", "people", {"name": "OWNER", "role": "viewer"})
        self.assertIn("somebody called owner", taken.json()["what"])


class Passwords(PeopleCase):
    def sign_in(self, name, password):
        client = Client()
        return client, self.ask("post", "sign-in", {"name": name, "password": password}, client)

    def test_set_changed_and_asked_for(self):
        one = self.person("Ashe", "editor")
        for weak in ("short", "1234567890123", "password123"):
            answer = self.ask("put", "password", {"new": weak}, one)
            self.assertEqual((answer.status_code, answer.json()["where"]), (400, "new"))
        self.assertTrue(self.ask("put", "password", {"new": PASSWORD}, one).json()["has_password"])
        other, answer = self.sign_in("Ashe", PASSWORD)
        self.assertEqual(answer.json(), {"user": "Ashe"})
        wrong = self.ask("put", "password", {"old": "no", "new": f"{PASSWORD}s"}, one)
        self.assertEqual(wrong.json()["where"], "old")
        self.ask("put", "password", {"old": PASSWORD, "new": f"{PASSWORD}s"}, one)
        # Whoever changed it stays; other sessions end.
        self.assertEqual(self.ask("get", "now", client=one).status_code, 200)
        self.assertEqual(self.ask("get", "now", client=other).status_code, 403)
        self.assertEqual(self.sign_in("Ashe", PASSWORD)[1].status_code, 400)
        # The owner of a machine has none, and cannot come in that way.
        self.assertEqual(self.sign_in("owner", "")[1].status_code, 400)

    def test_it_cannot_be_guessed_by_trying(self):
        found = [self.sign_in("owner", f"guess-{n}")[1].status_code for n in range(12)]
        self.assertEqual(found, [400] * 10 + [429] * 2)


class Tokens(PeopleCase):
    def bearer(self, token, method, path, body=None):
        return self.ask(method, path, body, Client(), HTTP_AUTHORIZATION=f"Bearer {token}")

    def token(self, scopes, client=None, **more):
        asked = {"name": "pipeline", "scopes": scopes, **more}
        return self.ask("post", "tokens", asked, client).json()["token"]

    def test_it_may_what_its_scopes_say(self):
        number = self.comparison()
        asked = {
            "read": ("get", f"comparisons/{number}"),
            "change": ("put", f"comparisons/{number}/labels", {"labels": []}),
            "run": ("post", f"comparisons/{number}/launch", {"plan": {"rounds": 0}}),
        }
        for scope in asked:
            token = self.token([scope])
            for name, what in asked.items():
                answer = self.bearer(token, *what)
                self.assertEqual(answer.status_code == 403, name != scope, (scope, name))
        self.assertIn('lack "run"', self.bearer(self.token(["read"]), *asked["run"]).json()["what"])

    def test_never_more_than_whom_it_is_of_and_nothing_about_people(self):
        number = self.comparison()
        viewer = self.person("Ashe", "viewer")
        token = self.token(["read", "change", "run"], viewer)
        change = ("put", f"comparisons/{number}/labels", {"labels": []})
        self.assertEqual(self.bearer(token, *change).status_code, 403)
        mine = self.token(["read", "change", "run"])
        for path in ("people", "tokens", "password"):
            self.assertEqual(self.bearer(mine, "get", path).status_code, 403, path)

    def test_it_runs_out_is_taken_back_and_is_not_kept(self):
        token = self.token(["read"], days=1)
        self.assertNotIn(token, str(ApiToken.objects.values()))
        self.assertEqual(self.bearer(token, "get", "now").status_code, 200)
        (told,) = self.ask("get", "tokens").json()["tokens"]
        self.assertIsNotNone(told["used_at"])
        later = timezone.now() + datetime.timedelta(days=1, seconds=1)
        with mock.patch("django.utils.timezone.now", return_value=later):
            self.assertEqual(self.bearer(token, "get", "now").status_code, 403)
        viewer = self.person("Ashe", "viewer")
        self.assertEqual(self.ask("get", "tokens", client=viewer).json()["tokens"], [])
        refused = viewer.delete(f"/api/tokens/?id={told['id']}")
        self.assertEqual(refused.status_code, 400)
        self.client.delete(f"/api/tokens/?id={told['id']}")
        self.assertEqual(self.bearer(token, "get", "now").status_code, 403)


class Audit(PeopleCase):
    def entries(self):
        return self.ask("get", "audit").json()["entries"]

    def test_who_did_what_by_what_and_who_was_refused(self):
        number = self.comparison()
        self.ask("get", f"comparisons/{number}")
        self.ask("post", f"comparisons/{number}/data/look")
        for words in ("a", "ab", "abc"):
            self.ask("put", f"comparisons/{number}/labels", {"labels": [words]})
        viewer = self.person("Ashe", "viewer")
        self.ask("delete", f"comparisons/{number}", client=viewer)
        token = self.ask("post", "tokens", {"name": "nightly", "scopes": ["change"]}).json()[
            "token"
        ]
        self.ask(
            "put", f"comparisons/{number}/labels", {"labels": []}, Client(),
            HTTP_AUTHORIZATION=f"Bearer {token}",
        )  # fmt: skip
        told = [
            (e["who"], e["by"], e["what"].replace(str(number), "N"), e["status"], e["times"])
            for e in reversed(self.entries())
        ]
        self.assertEqual(told, [
            ("owner", "the page", "POST /comparisons/", 201, 1),
            ("owner", "the page", "PUT /comparisons/N/labels/", 200, 3),
            ("owner", "the page", "POST /people/", 201, 1),
            ("Ashe", "the page", "DELETE /comparisons/N/", 403, 1),
            ("owner", "the page", "POST /tokens/", 201, 1),
            ("owner", "token nightly", "PUT /comparisons/N/labels/", 200, 1),
        ])  # fmt: skip
        subjects = {e["what"]: e["subject"] for e in self.entries()}
        self.assertEqual(subjects["POST /people/"], "Ashe as viewer")
        self.assertEqual(subjects["POST /tokens/"], "nightly: change")
        self.assertEqual(self.entries()[0]["subject"], Comparison.objects.get(pk=number).name)
        self.assertNotIn(token, str(AuditEntry.objects.values()))

    def test_what_cannot_be_kept_keeps_nobody_from_working(self):
        from django.db import DatabaseError

        number = self.comparison()
        with (
            mock.patch.object(AuditEntry.objects, "create", side_effect=DatabaseError("full")),
            self.assertLogs("ivrell.audit", "ERROR"),
        ):
            answer = self.ask("put", f"comparisons/{number}/labels", {"labels": ["kept"]})
        self.assertEqual(answer.status_code, 200)

    def test_page_after_page(self):
        for n in range(130):
            AuditEntry.objects.create(who=f"p{n}", by="", method="PUT", path="/", status=200)
        first = self.ask("get", "audit").json()
        self.assertEqual((len(first["entries"]), first["more"]), (100, True))
        rest = self.client.get(f"/api/audit/?before={first['entries'][-1]['id']}").json()
        self.assertEqual((len(rest["entries"]), rest["more"]), (30, False))


class Accounts(PeopleCase):
    def test_a_character_that_the_records_cannot_hold_is_refused_in_words(self):
        for path, body in (
            ("people", {"name": "a\x00", "role": "viewer"}),
            ("tokens", {"name": "a\x00", "scopes": ["read"]}),
        ):
            answer = self.ask("post", path, body)
            self.assertEqual(answer.status_code, 400)
            self.assertIn("NUL", answer.json()["what"])
        taken = self.ask("post", "tokens", {"name": "\\u0000 as text", "scopes": ["read"]})
        self.assertEqual(taken.status_code, 201)

    def test_a_link_of_somebody_let_out_does_not_work(self):
        user = User.objects.create_user("Ashe")
        give(user, Role.EDITOR)
        token = SignInLink.objects.issue(user)
        user.is_active = False
        user.save()
        self.assertIsNone(SignInLink.objects.redeem(token))

    @override_settings(
        USE_X_FORWARDED_HOST=True, SECURE_PROXY_SSL_HEADER=("HTTP_X_FORWARDED_PROTO", "https"),
        ALLOWED_HOSTS=["127.0.0.1", "ivrell.example"],
    )  # fmt: skip
    def test_behind_a_proxy_links_name_the_address_that_was_asked(self):
        answer = self.ask(
            "post", "people", {"name": "Ashe", "role": "viewer"},
            HTTP_X_FORWARDED_HOST="ivrell.example", HTTP_X_FORWARDED_PROTO="https",
        )  # fmt: skip
        self.assertTrue(answer.json()["link"].startswith("https://ivrell.example/enter/"))
