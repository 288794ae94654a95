"""The built files: packed where it is worth it, kept by browsers, and nothing else served."""

import asyncio
import gzip
import tempfile
from pathlib import Path

from django.test import SimpleTestCase

from ivrell.server.assets import Assets


class Served(SimpleTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        root = Path(folder.name)
        (root / "assets").mkdir()
        (root / "assets" / "page-1a2b.js").write_text("let barge = 1;" * 50)
        (root / "assets" / "face-3c4d.woff2").write_bytes(bytes(range(256)))
        (root / "secret.txt").write_text("not for browsers")
        self.passed_on = []

        async def django(scope, receive, send):
            self.passed_on.append(scope["path"])

        self.app = Assets(django, root)

    def ask(self, path, method="GET", packed=False):
        sent = []

        async def send(message):
            sent.append(message)

        headers = [(b"accept-encoding", b"br, gzip")] if packed else []
        scope = {"type": "http", "path": path, "method": method, "headers": headers}
        asyncio.run(self.app(scope, None, send))
        if not sent:
            return None
        return sent[0]["status"], dict(sent[0]["headers"]), sent[1]["body"]

    def test_script_is_packed_when_asked(self):
        status, headers, body = self.ask("/assets/page-1a2b.js", packed=True)
        self.assertEqual((status, headers[b"content-encoding"]), (200, b"gzip"))
        self.assertIn(b"javascript", headers[b"content-type"])
        self.assertIn(b"immutable", headers[b"cache-control"])
        self.assertEqual(gzip.decompress(body), b"let barge = 1;" * 50)
        plain = self.ask("/assets/page-1a2b.js")
        self.assertEqual(plain[2], b"let barge = 1;" * 50)

    def test_fonts_are_sent_as_they_are(self):
        _, headers, body = self.ask("/assets/face-3c4d.woff2", packed=True)
        self.assertNotIn(b"content-encoding", headers)
        self.assertEqual(len(body), 256)

    def test_head_has_no_body(self):
        status, headers, body = self.ask("/assets/page-1a2b.js", method="HEAD")
        self.assertEqual((status, headers[b"content-length"], body), (200, b"700", b""))

    def test_nothing_else_is_there(self):
        for path in ("/assets/none.js", "/assets/../secret.txt", "/assets/"):
            self.assertEqual(self.ask(path)[0], 404)
        self.assertEqual(self.ask("/assets/page-1a2b.js", method="POST")[0], 404)

    def test_all_else_is_passed_on(self):
        self.assertIsNone(self.ask("/api/now/"))
        self.assertEqual(self.passed_on, ["/api/now/"])
