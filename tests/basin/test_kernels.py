"""Compiled functions: what an edit compiles anew, loops shared among threads, and kernels made ready beforehand."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
import threading
from pathlib import Path
from unittest import mock

import numba
import numpy as np
from django.test import SimpleTestCase
from numba import prange

from basin import kernels, threads
from basin.kernels import Unknowable, kernel, shared
from basin.stages import warm

ROOT = Path(__file__).resolve().parent.parent.parent
LOW = """
    from basin.kernels import kernel
    STEP = 1.0
    @kernel
    def step(x):
        return x + STEP
"""
HIGH = """
    from basin.kernels import kernel
    from trial.low import step
    @kernel
    def twice(x):
        return step(step(x))
"""
ASIDE = '''
    from basin.kernels import kernel
    @kernel
    def half(x):
        """Half of it."""
        return x / 2  # a comment
'''
LOOK = """
    from basin import kernels
    from trial import aside, high, low
    def use():
        print(high.twice(1.0), aside.half(1.0))
    rows = kernels.compiled(use)
    print(" ".join(sorted({row[0].removeprefix("trial.") for row in rows})))
"""


class Edits(SimpleTestCase):
    """An edit compiles what depends on it, in whatever file, and nothing else."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)
        (self.home / "trial").mkdir()
        for name, text in (("low", LOW), ("high", HIGH), ("aside", ASIDE), ("__init__", "")):
            self.write(name, text)

    def write(self, name: str, text: str) -> None:
        (self.home / "trial" / f"{name}.py").write_text(textwrap.dedent(text))

    def look(self) -> tuple[str, str]:
        """What the kernels give, and which of them were compiled for it."""
        env = {**os.environ, "PYTHONPATH": f"{self.home}:{ROOT}", kernels.PLACE: str(self.home / "kept")}
        command = [sys.executable, "-c", textwrap.dedent(LOOK)]
        given, names = subprocess.check_output(command, env=env, text=True).splitlines()
        return given, names

    def test_an_edit_compiles_what_names_it_and_nothing_else(self) -> None:
        self.assertEqual(self.look(), ("3.0 0.5", "aside.half high.twice low.step"))
        self.assertEqual(self.look(), ("3.0 0.5", ""))
        self.write("low", LOW.replace("x + STEP", "x - STEP"))
        self.assertEqual(self.look(), ("-1.0 0.5", "high.twice low.step"))
        self.write("low", LOW.replace("STEP = 1.0", "STEP = 2.0"))  # a constant in another file
        self.assertEqual(self.look(), ("5.0 0.5", "high.twice low.step"))
        self.write("low", LOW)  # as it was: its code is still there
        self.assertEqual(self.look(), ("3.0 0.5", ""))
        self.write("aside", "\n\n\n" + ASIDE.replace("Half of it", "One half").replace("a comment", "another one"))
        self.assertEqual(self.look(), ("3.0 0.5", ""))
        self.write("aside", ASIDE.replace("@kernel", '@kernel(error_model="numpy")'))
        self.assertEqual(self.look(), ("3.0 0.5", "aside.half"))

    def test_another_folder_with_the_same_kernels_compiles_nothing(self) -> None:
        self.look()
        other = self.home / "elsewhere"
        other.mkdir()
        shutil.move(self.home / "trial", other / "trial")
        env = {**os.environ, "PYTHONPATH": f"{other}:{ROOT}", kernels.PLACE: str(self.home / "kept")}
        told = subprocess.check_output([sys.executable, "-c", textwrap.dedent(LOOK)], env=env, text=True)
        self.assertEqual(told.splitlines()[1], "")

    def test_an_edit_of_the_surface_leaves_every_kernel_of_the_liquid(self) -> None:
        """Digests are what code is kept under: those of `liquid` stay as they are, those of the edit's users change."""
        shutil.copytree(ROOT / "basin", self.home / "basin", ignore=shutil.ignore_patterns("__pycache__"))
        tell = (
            "import basin.stages.warm; from basin import kernels\n"
            "for name, one in kernels.KERNELS.items(): print(name, kernels.digest(one.py_func))"
        )

        def digests() -> dict[str, str]:
            env = {**os.environ, "PYTHONPATH": str(self.home)}
            told = subprocess.check_output([sys.executable, "-c", tell], env=env, text=True, cwd=self.home)
            return dict(line.split() for line in told.splitlines())

        before = digests()
        path = self.home / "basin" / "grid" / "neighbours.py"
        text = path.read_text()
        self.assertIn("def span(", text)
        path.write_text(text + "\n# more\n")
        self.assertEqual(digests(), before)
        path = self.home / "basin" / "surface" / "kernels.py"
        text = path.read_text()
        self.assertIn("MOST_RATIO = ", text)
        path.write_text(text.replace("MOST_RATIO = ", "MOST_RATIO = 2 * ", 1))
        after = digests()
        changed = {name for name in before if before[name] != after[name]}
        self.assertTrue(changed)
        self.assertEqual({name.split(".")[1] for name in changed}, {"surface"})
        # and the other way about: tiles are the ground of both
        path = self.home / "basin" / "grid" / "tiles.py"
        text = path.read_text()
        self.assertIn("def row_of(where, i, j, k):", text)
        path.write_text(text.replace("def row_of(where, i, j, k):", "def row_of(where, i, j, k):\n    i += 0", 1))
        importers = {name for name, own in digests().items() if own != after[name]}
        self.assertIn("basin.liquid.advection._near_solids", importers)  # names row_of, imported from there

    def test_kept_code_of_a_module_that_moved_is_compiled_anew(self) -> None:
        def gone(*_given: object) -> object:
            raise ModuleNotFoundError("No module named 'basin.moved'")

        self.assertIsNone(kernels._or_none(gone)("types"))
        self.assertEqual(kernels._or_none(lambda *given: given)(1, 2), (1, 2))

    def test_what_cannot_be_told_is_refused(self) -> None:
        space: dict[str, object] = {"lock": threading.Lock(), "__name__": "trial"}
        exec("def reads(x):\n    return lock", space)
        with self.assertRaisesRegex(Unknowable, "has no value"):
            kernels.digest(space["reads"])
        exec("def late(x):\n    return after(x)", space)
        with self.assertRaisesRegex(Unknowable, "names after before it is defined"):
            kernels.digest(space["late"])


@shared
def _squares(value, offset, out):  # type: ignore[no-untyped-def]
    shift = offset + 1.0
    for i in prange(2, value.shape[0]):
        out[i] = value[i] ** 2 + shift


class SharedLoops(SimpleTestCase):
    """Every turn is done once, whoever does it; errors come back; one alone does all."""

    def test_turns_are_those_of_the_loop(self) -> None:
        value = np.arange(1000.0)
        for count in (1, 2, 3, 9, 1000):
            for wanted in (1, numba.config.NUMBA_NUM_THREADS):
                before = numba.get_num_threads()
                numba.set_num_threads(wanted)
                try:
                    out = np.full(count, -1.0)
                    _squares(value[:count], 0.5, out)
                finally:
                    numba.set_num_threads(before)
                np.testing.assert_array_equal(out[2:], value[2:count] ** 2 + 1.5)
                np.testing.assert_array_equal(out[:2], -1.0)

    def test_every_turn_once_by_several_threads(self) -> None:
        met: list[tuple[int, str]] = []
        both = threading.Barrier(2, timeout=20)

        def piece(first: int, after: int) -> None:
            if not met:
                both.wait()  # both are at work before one of them is done
            met.extend((turn, threading.current_thread().name) for turn in range(first, after))

        with mock.patch.object(numba, "get_num_threads", lambda: 2):
            threads.share(piece, 0, 100, ())
        self.assertEqual(sorted(turn for turn, _ in met), list(range(100)))
        self.assertEqual(len({name for _, name in met}), 2)

    def test_an_error_of_a_helper_comes_back_and_the_next_loop_goes_well(self) -> None:
        def piece(first: int, after: int) -> None:
            if threading.current_thread() is not threading.main_thread():
                raise ValueError("of a helper")
            threading.Event().wait(0.05)

        with mock.patch.object(numba, "get_num_threads", lambda: 2):
            with self.assertRaisesRegex(ValueError, "of a helper"):
                threads.share(piece, 0, 100, ())
            seen: list[int] = []
            threads.share(lambda first, after: seen.extend(range(first, after)), 0, 50, ())
        self.assertEqual(sorted(seen), list(range(50)))

    def test_a_loop_within_a_loop_is_done_by_its_own_thread(self) -> None:
        inner: list[int] = []

        def outer(first: int, after: int) -> None:
            threads.share(lambda a, b: inner.extend(range(a, b)), 0, 3, ())

        with mock.patch.object(numba, "get_num_threads", lambda: 2):
            threads.share(outer, 0, 2, ())
        self.assertEqual(sorted(inner), [0, 0, 1, 1, 2, 2])

    def test_other_forms_are_refused(self) -> None:
        def two(a):  # type: ignore[no-untyped-def]
            for i in prange(3):
                a[i] = 0
            for i in prange(3):
                a[i] = 1

        def gives(a):  # type: ignore[no-untyped-def]
            for i in prange(3):
                a[i] = 0
            return a

        for form in (two, gives):
            with self.assertRaises(TypeError):
                shared(form)


class Readiness(SimpleTestCase):
    """What the warm-up knows."""

    def test_the_table_names_kernels_that_are_there_with_types_that_can_be_read(self) -> None:
        rows = warm.table()
        self.assertGreater(len(rows), 150)
        for row in rows:
            self.assertIn(row.kernel, kernels.KERNELS)
            self.assertIsInstance(kernels.signature(row.types), tuple)
        self.assertLessEqual({(row.stage, row.number) for row in rows}, set(warm.groups()))

    def test_every_process_tells_the_same_kernels_apart(self) -> None:
        """One that has imported less or more than the one that compiles must find its word."""
        look = "from basin.stages import warm; print(warm.version())"
        env = {**os.environ, "PYTHONPATH": str(ROOT)}
        more = f"import basin.stages.solid, basin.stages.imports, studio.settings, tests.basin.test_paint\n{look}"
        told = [subprocess.check_output([sys.executable, "-c", t], env=env, text=True) for t in (look, more)]
        self.assertEqual(told, [f"{warm.version()}\n"] * 2)

    def test_what_is_needed_first_comes_first(self) -> None:
        order = [tuple(group) for group in warm.groups()]
        self.assertEqual(order[:2], [("liquid", 0), ("surface", 0)])

    def test_sample_scenes_compile_nothing_once_kernels_are_ready(self) -> None:
        warm.make_ready(lambda line: None)
        self.assertEqual(warm.readiness().ready, [f"{stage} {number}" for stage, number in warm.groups()])
        look = (
            "from basin import kernels; from basin.stages import warm\n"
            "rows = kernels.compiled(lambda: warm.run_scene('surface', 0))\n"
            "print([row[0] for row in rows if row[0] in kernels.KERNELS])"
        )
        env = {**os.environ, "PYTHONPATH": str(ROOT)}
        told = subprocess.check_output([sys.executable, "-c", look], env=env, text=True)
        self.assertEqual(told.strip(), "[]")

    def test_waiting_ends_when_nobody_works_and_hears_how_long(self) -> None:
        told: list[float] = []
        group = warm.Group("liquid", 0)
        halves = iter([warm.Readiness(True, [], 1, 2, {"liquid 0": 7.0}), warm.Readiness(False, [], 1, 2, {})])
        with (
            mock.patch.object(warm, "is_ready", lambda one: False),
            mock.patch.object(warm, "readiness", lambda: next(halves)),
            mock.patch.object(warm.clock, "sleep"),
        ):
            warm.wait_for([group], told.append, lambda: False)
        self.assertEqual(told, [7.0])


@kernel
def _named_for_the_record(x):  # type: ignore[no-untyped-def]
    return x


class Names(SimpleTestCase):
    def test_kernels_are_listed_by_module_and_name(self) -> None:
        self.assertIn(f"{__name__}._named_for_the_record", kernels.KERNELS)
