"""Who may import whom, and that the documents say what is true."""

from __future__ import annotations

import ast
import json
import re
from pathlib import Path

from django.test import SimpleTestCase

from basin.scene import Collider, Force, Inflow, parse_scene, scene_schema

ROOT = Path(__file__).resolve().parent.parent.parent
SINGLE = {"apart", "randomness", "settings", "kernels", "threads", "attributes", "readings"}
GROUND = SINGLE | {"geometry", "grid", "cache", "exchange"}
PARTS = {"liquid", "surface", "whitewater", "sea"}


def imported(path: Path) -> set[str]:
    """Modules that a file imports."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
        elif isinstance(node, ast.Import):
            found |= {n.name for n in node.names}
    return found


class Rooms(SimpleTestCase):
    """The architecture's rules about imports."""

    def test_basin_knows_neither_django_nor_studio(self) -> None:
        for path in (ROOT / "basin").rglob("*.py"):
            roots = {m.split(".")[0] for m in imported(path)}
            self.assertFalse(roots & {"django", "studio", "celery", "ninja"}, path)

    def test_parts_meet_only_in_stages(self) -> None:
        for part in PARTS:
            for path in (ROOT / "basin" / part).rglob("*.py"):
                rooms = {m.split(".")[1] for m in imported(path) if m.startswith("basin.")}
                self.assertLessEqual(rooms, GROUND | {part}, path)

    def test_ground_does_not_look_up(self) -> None:
        for room in GROUND - SINGLE:
            for path in (ROOT / "basin" / room).rglob("*.py"):
                rooms = {m.split(".")[1] for m in imported(path) if m.startswith("basin.")}
                self.assertLessEqual(rooms, GROUND, path)

    def test_studio_uses_scene_stages_and_cache_alone(self) -> None:
        for path in (ROOT / "studio").rglob("*.py"):
            rooms = {m.split(".")[1] for m in imported(path) if m.startswith("basin.")}
            self.assertLessEqual(rooms, {"scene", "stages", "cache", "readings", "apart"}, path)


class Recipes(SimpleTestCase):
    """CONTRIBUTING.md names at most six places for each thing that is added, and they are there."""

    def test_recipes_are_short_and_true(self) -> None:
        text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
        recipes = text.split("\n## Add ")[1:]
        wanted = ("a setting", "a filter", "a force", "an attribute", "a reading", "a stage", "a format", "an element")
        self.assertEqual([r.splitlines()[0] for r in recipes], [*wanted, "a permission"])
        for recipe in recipes:
            places = set(re.findall(r"`((?:basin|studio|web|docs|tests)/[\w./-]+)`", recipe))
            self.assertTrue(1 <= len(places) <= 6, recipe)
            for place in places:
                self.assertTrue((ROOT / place).exists(), place)

    def test_every_room_of_the_core_is_told(self) -> None:
        told = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        for path in (ROOT / "basin").iterdir():
            if path.name not in ("__init__.py", "__main__.py", "__pycache__"):
                self.assertIn(f"basin/{path.name}{'/' if path.is_dir() else ''}", told)

    def test_no_stage_is_asked_for_by_its_name(self) -> None:
        """Run loop, forecast, command line and API go through the list of stages."""
        through = ("basin/__main__.py", "basin/stages/run.py", "basin/stages/forecast.py", "basin/stages/stage.py")
        for place in (*through, "basin/stages/deliver.py", *self.studio()):
            text = re.sub(r'"""(.|\n)*?"""|#.*', "", (ROOT / place).read_text(encoding="utf-8"))
            self.assertFalse(re.search(r'["\'](liquid|surface)["\']', text), place)

    def studio(self) -> list[str]:
        return [str(p.relative_to(ROOT)) for p in (ROOT / "studio").rglob("*.py")]


class Documents(SimpleTestCase):
    """docs/scene-format.md holds one complete scene that uses every element."""

    def test_complete_scene_of_the_format_page_is_valid_and_complete(self) -> None:
        text = (ROOT / "docs" / "scene-format.md").read_text(encoding="utf-8")
        block = re.search(r"```json\n(.*?)```", text, re.S)
        assert block
        scene = parse_scene(json.loads(block.group(1)))
        self.assertEqual({e.kind for e in scene.elements}, {"fill", "inflow", "collider", "drain", "force"})
        shapes = {e.shape.kind for e in scene.elements if not isinstance(e, Force)}
        self.assertEqual(shapes, {"sphere", "box", "mesh", "plane", "tub", "tube", "disc", "slot"})
        forces = [e for e in scene.elements if isinstance(e, Force)]
        effects = {e.effect.kind for e in forces}
        self.assertEqual(effects, {"wind", "drag", "turbulence", "vortex", "attraction"})
        self.assertEqual({e.zone.kind for e in forces}, {"everywhere", "box", "sphere"})
        amounts = {e.amount for e in scene.elements if isinstance(e, Inflow)}
        self.assertEqual(amounts, {"speed", "flow", "total", "full"})
        sides = {e.side for e in scene.elements if isinstance(e, Collider)}
        self.assertEqual(sides, {"outside", "inside", "shell"})

    def test_every_setting_has_a_meaning(self) -> None:
        schema = scene_schema()
        count = 0
        for definition in schema["$defs"].values():
            for name, field in definition.get("properties", {}).items():
                if "zinc" in field:
                    count += 1
                    self.assertTrue(field.get("description"), name)
        self.assertGreater(count, 40)
