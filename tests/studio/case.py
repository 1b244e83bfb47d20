"""A person with a production, a shot and a take."""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TransactionTestCase, override_settings

from basin.stages.samples import tiny_scene
from studio.productions.models import Production, Role, Take

CUBE = """v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 0 0 1
v 1 0 1
v 1 1 1
v 0 1 1
f 1 4 3 2
f 5 6 7 8
f 1 2 6 5
f 3 4 8 7
f 2 3 7 6
f 1 5 8 4
"""


class StudioCase(TransactionTestCase):
    """A person with a production, a shot and a take, and a cache folder of the test's own."""

    def setUp(self) -> None:
        self.root = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.root)
        own = override_settings(CACHE_ROOT=self.root)
        own.enable()
        self.addCleanup(own.disable)
        self.person = User.objects.create_user("mira", password="clay")
        production = Production.objects.create(name="Mill")
        production.members.add(self.person, through_defaults={"role": Role.OWNER})
        self.take = Take.objects.create(
            shot=production.shots.create(name="TM900"), name="one", scene={**tiny_scene(), "time": {"last": 4}}
        )
        self.client = Client()
        self.client.force_login(self.person)

    def post(self, url: str, body: dict[str, Any]) -> Any:
        return self.client.post(url, json.dumps(body), content_type="application/json")

    def put(self, url: str, body: dict[str, Any]) -> Any:
        return self.client.put(url, json.dumps(body), content_type="application/json")

    def bring(self, kind: str, files: dict[str, bytes], query: str = "") -> Any:
        """Send files and have something made of them."""
        base = f"/api/takes/{self.take.pk}"
        held = [SimpleUploadedFile(name, data) for name, data in files.items()]
        upload = self.client.post(f"{base}/uploads", {"file": held}).json()["upload"]
        return self.client.post(f"{base}/{kind}?upload={upload}{query}")

    def ask(self, stages: list[str] | None = None) -> Any:
        return self.post(
            f"/api/takes/{self.take.pk}/runs", {"quality": "draft", "stages": stages or ["liquid", "surface"]}
        )
