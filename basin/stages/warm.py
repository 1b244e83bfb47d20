"""``python -m basin.stages.warm``: compile all kernels before somebody waits for them, several at a time.

Kernels come in groups: what each of a stage's small scenes needs that none before it did, a stage's first scene before
all others. `kernels.json`, which ``--record`` writes, says which kernels with which types those are and how long each
took; it only saves time: at the end of a group its scene is run, which compiles whatever the table does not know.
"""

from __future__ import annotations

import fcntl
import hashlib
import importlib
import json
import os
import subprocess
import sys
import tempfile
import threading
import time as clock
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import NamedTuple

from numba.core.errors import NumbaError

from basin import kernels
from basin.cache import Cache, is_held
from basin.exchange import write_ply
from basin.geometry.primitives import sphere_mesh
from basin.scene import Scene, parse_scene
from basin.stages.beside import Beside
from basin.stages.judge import Asked, Judge
from basin.stages.run import run
from basin.stages.samples import BALL
from basin.stages.stage import stages, with_read

TABLE = Path(__file__).with_name("kernels.json")
PROCESSES = 2
TOLD_EVERY = 3.0  # seconds
STALE = 90 * 24 * 3600.0  # seconds after which code that nobody has asked for is thrown away


class Group(NamedTuple):
    """What the scene of a number of a stage needs."""

    stage: str
    number: int


@dataclass(frozen=True)
class Row:
    """A kernel with types of its arguments, and how long its own compiling took."""

    kernel: str
    types: str
    seconds: float
    stage: str
    number: int


@dataclass(frozen=True)
class Readiness:
    """How far the kernels of all groups are.

    Attributes
    ----------
    working : whether somebody compiles them now
    ready : groups that are, as "stage number"
    done, total : kernels
    seconds_left : until the stages' first groups are ready, and until all are
    """

    working: bool
    ready: list[str]
    done: int
    total: int
    seconds_left: dict[str, float]


def groups() -> list[Group]:
    """All groups, in the order in which they are needed."""
    there = stages()
    found = [Group(name, n) for name, stage in there.items() for n in range(len(stage.warm_up()))]
    return sorted(found, key=lambda group: (there[group.stage].on_demand(None), group.number > 0))


def table() -> list[Row]:
    """What is known of kernels, those that still are."""
    try:
        rows = [Row(**row) for row in json.loads(TABLE.read_text(encoding="utf-8"))]
    except (OSError, ValueError, TypeError):
        return []
    for module in {row.kernel.rpartition(".")[0] for row in rows}:
        with suppress(ImportError):
            importlib.import_module(module)
    return [row for row in rows if row.kernel in kernels.KERNELS]


def version() -> str:
    """What tells these kernels, and the scenes that need them, from other ones; the same in every process."""
    names = sorted({row.kernel for row in table()})
    digests = [(name, kernels.digest(kernels.KERNELS[name].py_func)) for name in names]
    scenes = [[name, stage.warm_up()] for name, stage in stages().items() if stage.warm_up()]
    return hashlib.sha256(repr([digests, scenes]).encode()).hexdigest()[:16]


def _stamp(group: Group) -> Path:
    return kernels.folder() / "ready" / version() / f"{group.stage} {group.number}"


def _progress() -> Path:
    return kernels.folder() / f"progress-{version()}.json"


def is_ready(group: Group) -> bool:
    """Whether a group has been compiled."""
    return _stamp(group).exists()


def readiness() -> Readiness:
    """How far it is."""
    ready = [f"{g.stage} {g.number}" for g in groups() if is_ready(g)]
    try:
        told = json.loads(_progress().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        told = {"done": 0, "total": len(table()), "seconds_left": {}}
    return Readiness(is_held(_lock()), ready, told["done"], told["total"], told["seconds_left"])


def _lock() -> Path:
    return kernels.folder() / f"lock-{version()}"


def needed(scene: Scene, names: Iterable[str]) -> list[Group]:
    """Groups that a run of some stages of a scene needs."""
    wanted = set(names)
    return [g for g in groups() if g.stage in wanted and g.number in stages()[g.stage].needs(scene)]


def wait_for(wanted: list[Group], tell: Callable[[float], None], stop: Callable[[], bool]) -> None:
    """Wait until groups are ready, as long as somebody works on them; `tell` hears the seconds that are left."""
    while not stop() and not all(is_ready(g) for g in wanted):
        now = readiness()
        if not now.working:
            return
        tell(max((now.seconds_left.get(f"{g.stage} {g.number}", 0.0) for g in wanted), default=0.0))
        clock.sleep(1.0)


def compile_kernel(name: str, types: list[str]) -> None:
    """Compile a kernel for some types of arguments; what no longer fits is left to the scenes."""
    importlib.import_module(name.rpartition(".")[0])
    for text in types:
        with suppress(NumbaError, NameError, SyntaxError, TypeError, AttributeError):
            kernels.KERNELS[name].compile(kernels.signature(text))


def run_scene(stage: str, number: int) -> None:
    """Run a group's scene, and look at a frame of it if it can be judged."""
    document = stages()[stage].warm_up()[number]
    with tempfile.TemporaryDirectory() as folder:
        cache = Path(folder) / "cache"
        ball = sphere_mesh(0.05)
        write_ply(Path(folder) / BALL, ball.position, ball.triangle)
        for _ in run(parse_scene(document), Path(folder), Cache(cache), stages=tuple(with_read(stage))):
            pass
        if stages()[stage].judged:
            asked = Asked(Path(folder), cache, document, "final", 2)
            Judge().look(asked)
            Judge().look(replace(asked, middle=(0.2, 0.1, 0.2), reach=0.1))


class _Work:
    """Compiling by several processes; the first group's kernels first, of those what others name, then the largest."""

    def __init__(self) -> None:
        self.rows = table()
        self.order = [g for g in groups() if not is_ready(g)]
        self._tasks: dict[Group, list[list[Row]]] = {g: _tasks(self.rows, g) for g in self.order}
        self._open = {g: len(tasks) for g, tasks in self._tasks.items()}
        self._turn = threading.Condition()
        self.total = sum(len(t) for tasks in self._tasks.values() for t in tasks)
        self.done = 0
        self._begin, self._spent = clock.monotonic(), 0.0
        self.errors: list[BaseException] = []

    def next(self) -> tuple[Group, list[Row] | None] | None:
        """Kernels to compile, or nothing for a group whose scene is to be run; None at the end."""
        with self._turn:
            while self.order and not self.errors:
                for group in self.order:
                    if self._tasks[group]:
                        return group, self._tasks[group].pop(0)
                    if self._open[group] == 0:
                        self.order.remove(group)
                        return group, None
                self._turn.wait()
            return None

    def finished(self, group: Group, rows: list[Row]) -> None:
        """Note what was compiled."""
        with self._turn:
            self._open[group] -= 1
            self.done += len(rows)
            self._spent += sum(row.seconds for row in rows)
            self._turn.notify_all()
        self.tell()

    def failed(self, error: BaseException) -> None:
        """Note what ends it."""
        with self._turn:
            self.errors.append(error)
            self._turn.notify_all()

    def seconds_left(self) -> dict[str, float]:
        """Until each group is ready."""
        pace = (clock.monotonic() - self._begin) / self._spent if self._spent > 2.0 else 1.0 / PROCESSES
        left, found = 0.0, {}
        for group in list(self.order):
            left += sum(row.seconds for task in self._tasks[group] for row in task) + 2.0
            found[f"{group.stage} {group.number}"] = round(pace * left, 1)
        return found

    def tell(self) -> None:
        """Leave word for others."""
        path = _progress()
        part = path.with_suffix(f".{threading.get_ident()}")
        told = {"done": self.done, "total": self.total, "seconds_left": self.seconds_left()}
        part.write_text(json.dumps(told), encoding="utf-8")
        part.replace(path)


def _tasks(rows: list[Row], group: Group) -> list[list[Row]]:
    own = [row for row in rows if (row.stage, row.number) == group]
    by_kernel: dict[str, list[Row]] = {}
    for row in own:
        by_kernel.setdefault(row.kernel, []).append(row)

    def turn(rows: list[Row]) -> tuple[int, float, str]:
        name = rows[0].kernel
        return kernels.depth(kernels.KERNELS[name]), -sum(row.seconds for row in rows), name

    return sorted(by_kernel.values(), key=turn)


def _serve(work: _Work) -> None:
    beside = Beside()
    try:
        while (task := work.next()) is not None:
            group, rows = task
            if rows is not None:
                beside.call(compile_kernel, rows[0].kernel, [row.types for row in rows])
                work.finished(group, rows)
            else:
                beside.call(run_scene, *group)
                stamp = _stamp(group)
                stamp.parent.mkdir(parents=True, exist_ok=True)
                stamp.touch()
                work.tell()
    except BaseException as error:
        work.failed(error)
    finally:
        beside.end()


def make_ready(say: Callable[[str], None] = print) -> None:
    """Compile what is not ready; waits for another process that does."""
    if all(is_ready(group) for group in groups()):
        return
    kernels.folder().mkdir(parents=True, exist_ok=True)
    with _lock().open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        _throw_away_old()
        work = _Work()
        work.tell()
        threads = [threading.Thread(target=_serve, args=(work,)) for _ in range(PROCESSES)]
        for thread in threads:
            thread.start()
        while alive := [thread for thread in threads if thread.is_alive()]:
            alive[0].join(TOLD_EVERY)
            left = max(work.seconds_left().values(), default=0.0)
            group = work.order[0] if work.order else None
            doing = f"{stages()[group.stage].title.lower()}" if group else "the last checks"
            say(f"kernels {work.done} of {work.total} ({doing}), about {spoken(left)} left")
        _progress().unlink(missing_ok=True)
        if work.errors:
            raise work.errors[0]


def spoken(seconds: float) -> str:
    """How long that is, for people."""
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"


def _throw_away_old() -> None:
    """Remove code of kernels that have not been compiled or asked for since long."""
    old = clock.time() - STALE
    for path in kernels.folder().rglob("*.nb?"):
        with suppress(OSError):
            if max(path.stat().st_atime, path.stat().st_mtime) < old:
                path.unlink()


def record() -> list[Row]:
    """Compile everything in this process, in an empty folder, and write the table of what it took."""
    rows: list[Row] = []
    for group in groups():
        for name, types, seconds in kernels.compiled(lambda g=group: run_scene(*g)):  # type: ignore[misc]
            if name in kernels.KERNELS and "Literal" not in types:  # those come along with who calls them
                rows.append(Row(name, types, round(seconds, 2), *group))
    lines = ",\n".join(json.dumps(asdict(row)) for row in rows)
    TABLE.write_text(f"[\n{lines}\n]\n", encoding="utf-8")
    return rows


def main() -> None:
    """Make ready, or with ``--record`` write the table."""
    if "--record" in sys.argv and kernels.PLACE not in os.environ:  # where code is kept is settled at the import
        with tempfile.TemporaryDirectory() as folder:
            own = {**os.environ, kernels.PLACE: folder}
            subprocess.run([sys.executable, "-m", "basin.stages.warm", "--record"], env=own, check=True)
        return
    if "--record" in sys.argv:
        rows = record()
        print(f"{len(rows)} kernels, {sum(row.seconds for row in rows):.0f} s of compiling")
        return
    make_ready(lambda line: print(line, flush=True))


if __name__ == "__main__":
    from basin.stages import warm  # by its name, under which other processes find what they are to call

    warm.main()
