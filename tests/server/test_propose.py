"""A comparison shaped like uploaded samples."""

import json

from django.core.files.uploadedfile import SimpleUploadedFile

from tests.support.server import ServerCase


class Propose(ServerCase):
    def send(self, *files):
        return self.client.post("/api/comparisons/propose/", {"files": list(files)})

    def test_two_files_become_two_tables(self):
        locks = "".join(f"{n:03}-X\n" for n in range(30))
        passages = "".join(f"{n},{n % 30:03}-X\n" for n in range(600))
        answer = self.send(
            SimpleUploadedFile("locks.csv", f"lock\n{locks}".encode()),
            SimpleUploadedFile("my passages.csv", f"id,lock\n{passages}".encode()),
        )
        self.assertEqual(answer.status_code, 201, answer.content)
        made = answer.json()
        self.assertEqual(made["tables"], ["locks", "my_passages"])
        self.assertIn('to = "locks.lock"', made["data_text"])
        shown = self.call("post", f"comparisons/{made['id']}/data/look/", {})
        self.assertEqual([table["rows"] for table in shown["tables"]], [30, 600])
        self.assertEqual(made["knobs"], {"rows": [600]})
        sample = self.call("get", f"comparisons/{made['id']}/data/sample/")
        self.assertEqual(len(sample["columns"]), 3)
        self.assertFalse(sample["recipe_changed"])
        lock = sample["columns"][0]
        self.assertEqual((lock["table"], lock["name"]), ("locks", "lock"))
        self.assertEqual(lock["sample"]["rows"], 30)
        self.assertIsNotNone(lock["distance"])
        self.assertNotIn("007-X", json.dumps(sample))

    def test_categories_are_taken_over_only_where_allowed(self):
        cargo = "".join(f"{n},{('slate', 'oats')[n % 2]}\n" for n in range(200))
        for allow, expected in (("", False), ("manifests.cargo", True)):
            file = SimpleUploadedFile("manifests.csv", f"id,cargo\n{cargo}".encode())
            answer = self.client.post(
                "/api/comparisons/propose/", {"files": [file], "allow": allow}
            ).json()
            self.assertEqual("slate" in answer["data_text"], expected)
        file = SimpleUploadedFile("manifests.csv", f"id,cargo\n{cargo}".encode())
        told = self.client.post(
            "/api/comparisons/propose/", {"files": [file], "allow": "manifests.tons"}
        )
        self.assertIn("manifests.tons", told.json()["what"])

    def test_trouble_is_told_and_nothing_is_kept(self):
        answer = self.send(SimpleUploadedFile("notes.docx", b"x"))
        self.assertEqual(answer.status_code, 400)
        self.assertIn("csv or parquet", answer.json()["what"])
        self.assertIn("No file", self.send().json()["what"])
        self.assertEqual(len(self.call("get", "comparisons/")), 1)
