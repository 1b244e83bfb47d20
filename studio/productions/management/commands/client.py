"""``manage.py client``: writes the API's schema and the page's typed client from it."""

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser

from basin.scene import scene_schema
from basin.stages.imports import ENDINGS
from studio.api import api

TARGET = Path("web") / "src" / "api"


class Command(BaseCommand):
    help = "Write web/src/api, or with --check say whether it is current."

    def add_arguments(self, parser: CommandParser) -> None:
        """Options of the command."""
        parser.add_argument("--check", action="store_true")

    def handle(self, *_args: Any, **options: Any) -> None:
        """Write or compare."""
        folder = settings.ROOT / TARGET
        folder.mkdir(parents=True, exist_ok=True)
        wanted = {
            folder / "openapi.json": json.dumps(api.get_openapi_schema(path_prefix="/api/"), indent=1, default=str)
            + "\n",
            folder / "scene-schema.json": json.dumps(scene_schema(), indent=1) + "\n",
            folder / "endings.json": json.dumps(ENDINGS, indent=1) + "\n",
        }
        typed = folder / "schema.d.ts"
        before = typed.read_text() if typed.exists() else ""
        if options["check"]:
            stale = [p.name for p, text in wanted.items() if not p.exists() or p.read_text() != text]
            if stale:
                self.stderr.write(f"not current: {', '.join(stale)}; run manage.py client")
                sys.exit(1)
        for path, text in wanted.items():
            path.write_text(text)
        subprocess.run(["npm", "run", "-s", "client"], cwd=settings.ROOT / "web", check=True, stdout=subprocess.DEVNULL)
        if options["check"] and typed.read_text() != before:
            self.stderr.write("not current: schema.d.ts; run manage.py client")
            sys.exit(1)
