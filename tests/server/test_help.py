"""The help as it is served: found without signing in, its own policy, errors that lead there."""

from unittest import mock

from django.conf import settings
from django.test import TestCase

from ivrell.server.accounts.models import owner


class Help(TestCase):
    def test_pages_parts_and_what_is_not_there(self):
        answer = self.client.get("/help/")
        text = b"".join(answer.streaming_content).decode()
        self.assertIn("First comparison", text)
        self.assertNotIn('src="http', text)
        self.assertNotIn('href="http', text.replace('href="https://www.mkdocs.org', ""))
        self.assertIn("script-src 'self' 'unsafe-inline'", answer["Content-Security-Policy"])
        self.assertIn("frame-ancestors 'none'", answer["Content-Security-Policy"])
        self.assertRedirects(
            self.client.get("/help/guide"), "/help/guide/", fetch_redirect_response=False
        )
        self.assertEqual(self.client.get("/help/nowhere/").status_code, 404)
        for way_out in ("../web/index.html", "%2e%2e/web/index.html"):
            self.assertIn(self.client.get(f"/help/{way_out}").status_code, (400, 404))

    def test_where_it_is_not_built(self):
        with mock.patch.object(settings, "IVRELL_HELP", settings.IVRELL_HELP / "none"):
            self.assertContains(self.client.get("/help/"), "ivrell help", status_code=503)

    def test_an_error_says_where_it_is_explained(self):
        self.client.force_login(owner())
        made = self.client.post(
            "/api/comparisons/", {"text": "name = 3"}, content_type="application/json"
        ).json()
        answer = self.client.post(
            f"/api/comparisons/{made['id']}/launch/", {}, content_type="application/json"
        )
        self.assertEqual(answer.status_code, 400, answer.content)
        self.assertEqual(answer.json()["help"], "file/#plans")
        page = b"".join(self.client.get("/help/file/").streaming_content)
        self.assertIn(b"comparison file", page)
