"""``./zinc bench --attack [--many N] [--only PART]``: attacks of all kinds, bounded; for docs/security.md.

Files, scenes and caches are spoilt at random and used by this process. Requests, kills and clients go to an instance of
their own, on loopback, with ports and data of its own, which is taken down afterwards.
"""

from __future__ import annotations

import argparse
import http.client
import json
import multiprocessing
import os
import random
import resource
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any

import numpy as np

from basin.cache import Cache
from basin.exchange import UnusableFile
from basin.scene import SceneError, parse_scene
from basin.stages.files import SceneFiles
from basin.stages.run import run
from basin.stages.samples import tiny_scene
from benchmarks.speed import replaced
from tests.spoilt import BINARY, NUMBERS, WORDS, sound, spoilt, spoilt_scene, used, used_scene

ROOT = Path(__file__).resolve().parent.parent
PAGE = ROOT / "docs" / "security.md"
DEMO = ROOT / "demo" / "scenes"
PORTS = {"ZINC_WEB_PORT": "8291", "ZINC_DATABASE_PORT": "33291", "ZINC_REDIS_PORT": "63291"}
ADDRESS = f"http://127.0.0.1:{PORTS['ZINC_WEB_PORT']}"
PATIENT = 240.0  # seconds that anything of the instance is waited for
CLIENTS, LASTING = 20, 30.0
# requests after which there is nothing more to ask, or that are answered late on purpose
LEFT_OUT = [
    ("/api/session", "delete"),
    ("/api/session", "post"),
    ("/api/session/password", "put"),
    ("/api/takes/{take_id}", "delete"),
]
SCENES_AT_ONCE = 250
QUICK, SLOW = 0.3, 1.0  # seconds: median and 95th of a hundred that are asked for


# files, scenes, caches


def _spoilt_files(kind: str, many: int) -> tuple[str, int, int, float, float]:
    """What became of spoilt files of a format: kind, read, ended readers, longest seconds, growth in MB."""
    with tempfile.TemporaryDirectory() as holding:
        home = Path(holding)
        path = sound(home)[kind]
        data, one = path.read_bytes(), home / f"spoilt.{kind}"
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        read, ended, longest = 0, 0, 0.0
        for seed in range(many):
            one.write_bytes(spoilt(data, seed))
            begin = time.monotonic()
            try:
                used(one)
                read += 1
            except UnusableFile as error:
                ended += "ended its reader" in str(error) or "to be read" in str(error)
            longest = max(longest, time.monotonic() - begin)
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1000
    return kind, read, ended, longest, grown


def files(many: int) -> list[str]:
    """Spoilt files of each binary format; whoever asks for them to be read goes on."""
    lines = [
        f"Of each binary format {many:,} files spoilt at random, read as the application reads what is uploaded. None "
        "of them ended, held up or swelled the process that asked; those that ended their reader got a sentence as "
        "those that were refused.",
        "",
        "| format | read | refused | ended their reader | longest, s | the asking process grew by, MB |",
        "|---|---|---|---|---|---|",
    ]
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        for kind, read, ended, longest, grown in pool.starmap(_spoilt_files, [(k, many) for k in BINARY], chunksize=1):
            row = f"| {kind} | {read:,} | {many - read - ended:,} | {ended} | {longest:.1f} | {grown:.0f} |"
            print(row, flush=True)
            lines.append(row)
    return lines


def _spoilt_scenes(seeds: range) -> tuple[int, Counter[str], list[float]]:
    """What became of spoilt documents: how many were valid, what escaped, seconds of each."""
    documents = [json.loads(path.read_text()) for path in sorted(DEMO.glob("*.json"))]
    valid, took, escaped = 0, list[float](), Counter[str]()
    for document in documents:  # what a process starts and loads once is no document's
        used_scene(document, SceneFiles(DEMO))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        for seed in seeds:
            begin = time.monotonic()
            try:
                used_scene(spoilt_scene(documents[seed % len(documents)], seed), SceneFiles(DEMO))
                valid += 1
            except (SceneError, UnusableFile):
                pass
            except Exception as error:
                escaped[f"{type(error).__name__}: {error}"] += 1
            took.append(time.monotonic() - begin)
    return valid, escaped, took


def scenes(many: int) -> list[str]:
    """Spoilt documents through parsing, checks, forecast and keys."""
    pieces = [range(first, min(first + SCENES_AT_ONCE, many)) for first in range(0, many, SCENES_AT_ONCE)]
    valid, took, escaped = 0, list[float](), Counter[str]()
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        for good, bad, seconds in pool.imap_unordered(_spoilt_scenes, pieces, chunksize=1):
            valid, escaped, took = valid + good, escaped + bad, took + seconds
            print(f"  spoilt scenes: {len(took):,} of {many:,}", flush=True)
    return [
        f"{many:,} spoilt scene documents through parsing, check, forecast and keys, two at a time: {valid:,} were "
        f"valid, {many - valid - escaped.total():,} got sentences, {escaped.total()} escaped"
        + (f" ({dict(escaped)})" if escaped else "")
        + f"; median {statistics.median(took):.2f} s, {sum(t > 1 for t in took)} took more than 1 s (none asked), the "
        f"slowest {max(took):.2f} s."
    ]


def caches(many: int) -> list[str]:
    """Spoilt caches, mended by the next run."""
    scene = parse_scene({**tiny_scene(), "time": {"last": 3}})

    def bits(home: Path) -> dict[str, bytes]:
        list(run(scene, home, Cache(home), stages=("liquid",)))
        store = Cache(home).stage("liquid")
        return {f"{n} {name}": value.tobytes() for n in (1, 2, 3) for name, value in store.frame(n).items()}

    with tempfile.TemporaryDirectory() as holding:
        home = Path(holding)
        whole, same = bits(home / "sound"), 0
        there = sorted(p for p in (home / "sound" / "liquid").iterdir() if p.stat().st_size)
        for seed in range(many):
            shutil.copytree(home / "sound", home / "spoilt")
            path = there[seed % len(there)]
            (home / "spoilt" / "liquid" / path.name).write_bytes(spoilt(path.read_bytes(), seed))
            same += bits(home / "spoilt") == whole
            shutil.rmtree(home / "spoilt")
    return [
        f"{many} caches with one spoilt file each (frames, restart states, manifests): {same} were made whole again "
        "by the next run, to the same bits."
    ]


def full_disk() -> list[str]:
    """A run on a disk of 230 MB, of which 200 stay free; needs to mount one."""
    with tempfile.TemporaryDirectory() as holding:
        home = Path(holding)
        small = home / "small"
        small.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=230m", "none", str(small)], capture_output=True)
        if mounted.returncode:
            return ["The run on a full disk was left out: this machine lets nobody mount a small one."]
        try:
            (home / "scene.json").write_text(json.dumps({**tiny_scene(), "time": {"last": 60}}))
            call = [sys.executable, "-m", "basin", "run", str(home / "scene.json"), "--to", str(small)]
            ended = subprocess.run(call, cwd=ROOT, capture_output=True, text=True)
            left = sorted(p.suffix for p in small.rglob("*") if p.suffix == ".tmp")
        finally:
            subprocess.run(["umount", str(small)], check=True)
    said = ended.stderr.strip().splitlines()[-1]
    return [
        f"A run on a disk of 230 MB, of which 200 are to stay free, ended with exit {ended.returncode} and {said!r}; "
        f"half files left: {len(left)}."
    ]


# an instance of its own


class Instance:
    """A started application with data of its own."""

    def __init__(self, home: Path) -> None:
        self.home = home
        self.env = {**os.environ, **PORTS, "ZINC_VAR": str(home / "var")}
        self.process = subprocess.Popen(
            [sys.executable, str(ROOT / "zinc"), "start"], env=self.env, stdout=subprocess.DEVNULL, cwd=ROOT
        )
        self.until(lambda: self.health().get("worker", False), "the instance did not come up")

    def until(self, what: Callable[[], bool], otherwise: str) -> float:
        """Seconds until something holds."""
        begin = time.monotonic()
        while not what():
            if self.process.poll() is not None or time.monotonic() - begin > PATIENT:
                raise RuntimeError(otherwise)
            time.sleep(0.2)
        return time.monotonic() - begin

    def health(self) -> dict[str, Any]:
        """What runs."""
        try:
            with urllib.request.urlopen(f"{ADDRESS}/api/health", timeout=10) as reply:
                return dict(json.load(reply))
        except urllib.error.HTTPError as error:
            return dict(json.load(error))
        except (OSError, ValueError):
            return {}

    def parts(self) -> dict[str, int]:
        """Processes of the services, by what they are."""
        found: dict[str, int] = {}
        for line in subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout.splitlines():
            pid, parent, command = line.split(None, 2)
            for name, word in (("web server", "uvicorn"), ("database", "mariadbd"), ("broker", "redis-server")):
                if parent == str(self.process.pid) and word in command:
                    found[name] = int(pid)
            if parent == str(self.process.pid) and "celery" in command:
                found["worker"] = int(pid)
        for line in subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout.splitlines():
            pid, parent, command = line.split(None, 2)
            if parent == str(found.get("worker")) and "celery" in command:
                found["worker's child"] = int(pid)
        return found

    def end(self) -> None:
        """Take it down."""
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(60)


class Person:
    """Somebody's browser, without one."""

    def __init__(self, signed_in: bool = True) -> None:
        self.jar = CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.opener.open(f"{ADDRESS}/", timeout=30).read()
        if signed_in:
            self.ask("POST", "/api/session", {"name": "demo", "password": "tide-mill"})

    @property
    def headers(self) -> dict[str, str]:
        """Cookies and token."""
        held = {c.name: c.value or "" for c in self.jar}
        return {
            "Cookie": "; ".join(f"{n}={v}" for n, v in held.items()),
            "X-CSRFToken": held.get("csrftoken", ""),
            "Content-Type": "application/json",
        }

    def ask(self, method: str, path: str, body: Any = None) -> tuple[int, bytes, str]:
        """Status, body and type of an answer; status 0 if the connection was dropped."""
        data = body if isinstance(body, bytes) else json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(ADDRESS + path, data, self.headers, method=method)
        try:
            with self.opener.open(request, timeout=60) as reply:
                return reply.status, reply.read(), reply.headers.get("Content-Type", "")
        except urllib.error.HTTPError as error:
            return error.code, error.read(), error.headers.get("Content-Type", "")
        except (OSError, http.client.HTTPException):
            return 0, b"", ""


@contextmanager
def instance() -> Iterator[Instance]:
    """An instance, taken down afterwards."""
    with tempfile.TemporaryDirectory() as holding:
        made = Instance(Path(holding))
        try:
            yield made
        finally:
            made.end()


def _value(schema: dict[str, Any], rng: random.Random) -> Any:
    """Something for a parameter, mostly of its kind."""
    if rng.random() < 0.3:
        return rng.choice([*NUMBERS, *WORDS, None, [], {}, True])
    kind = schema.get("type") or rng.choice([s.get("type", "object") for s in schema.get("anyOf", [{}])])
    return {
        "integer": rng.choice([1, 2, 3, 0, -1, 99]),
        "number": rng.choice([0.5, 1.0, -3.0, 1e9]),
        "string": rng.choice(["draft", "liquid", "surface", "m", "y", "speed", "a.ply", "x"]),
        "boolean": rng.random() < 0.5,
        "array": [],
        "object": rng.choice([{}, tiny_scene(), spoilt_scene(tiny_scene(), rng.randrange(10**6))]),
    }.get(kind or "object", {})


def requests(_made: Instance, many: int) -> list[str]:
    """Requests made up from the API's own description, signed in and not."""
    document = json.loads((ROOT / "web" / "src" / "api" / "openapi.json").read_text())
    parts = document["components"]["schemas"]
    asked = [
        (path, method, operation)
        for path, one in document["paths"].items()
        for method, operation in one.items()
        if (path, method) not in LEFT_OUT
    ]
    rng = random.Random(1)
    found: Counter[str] = Counter()
    bad: list[str] = []
    people = (Person(), Person(signed_in=False))
    for n in range(many):
        path, method, operation = rng.choice(asked)
        query = []
        for parameter in operation.get("parameters", []):
            value = _value(parameter["schema"], rng)
            word = urllib.parse.quote(str(value).encode("utf-8", "surrogatepass"), safe="")
            if parameter["in"] == "path":
                path = path.replace(f"{{{parameter['name']}}}", word or "_")
            elif rng.random() < 0.8:
                query.append(f"{parameter['name']}={word}")
        body: Any = None
        if "requestBody" in operation:
            content = operation["requestBody"]["content"]
            name = next(iter(content.values()))["schema"].get("$ref", "").rpartition("/")[2]
            fields = parts.get(name, {}).get("properties", {})
            body = {field: _value(schema, rng) for field, schema in fields.items() if rng.random() < 0.9}
            if rng.random() < 0.1:
                body = spoilt(json.dumps(body).encode(), n)
        who = people[rng.random() < 0.1]
        while True:
            status, text, kind = who.ask(method.upper(), path + ("?" + "&".join(query) if query else ""), body)
            if status != 429:
                break
            found["429, asked again"] += 1
            time.sleep(1.0)
        found[f"{status // 100}xx" if status else "dropped"] += 1
        plain = status < 400 or kind.startswith("application/json")
        if status == 0 or status >= 500 or not plain or b"Traceback" in text:
            bad.append(f"{method} {path[:80]}: {status} {text[:120]!r}")
    for line in bad[:20]:
        print(line, flush=True)
    told_of = ", ".join(f"{count:,} {what}" for what, count in sorted(found.items()))
    return [
        f"{many:,} requests made up from the API's description, nine of ten signed in: {told_of}. Answers that were "
        f"no JSON sentence, held a stack trace, failed or were dropped: {len(bad)}."
    ]


def kills(made: Instance) -> list[str]:
    """Each service killed while a shot is made; the frames are those of a run that nobody disturbed."""
    person = Person()
    take = _shot(person)
    _, text, _ = person.ask("GET", "/api/runs")
    for one in json.loads(text):  # those of the demo's other shots
        person.ask("POST", f"/api/runs/{one['run']}/stop")
    made.until(lambda: _runs_done(person), "the demo's runs do not stop")
    person.ask("POST", f"/api/takes/{take}/runs", {"quality": "draft", "stages": ["liquid", "surface"]})
    made.until(lambda: _runs_done(person), "the shot is not made")
    lines = ["| killed while frames are made | back after, s |", "|---|---|"]
    folder = made.home / "var" / "start" / "takes" / f"take-{take}" / "draft"
    before = _bits(folder)
    person.ask("DELETE", f"/api/takes/{take}/stages/draft/liquid")
    person.ask("POST", f"/api/takes/{take}/runs", {"quality": "draft", "stages": ["liquid"]})
    for name in ("worker's child", "worker", "database", "broker", "web server"):
        made.until(lambda: any((folder / "liquid").glob("frame-00000[2-9].npz")), "no frames")
        count = len(list((folder / "liquid").glob("frame-*.npz")))
        made.until(lambda: len(list((folder / "liquid").glob("frame-*.npz"))) > count, "it does not go on")  # noqa: B023
        os.kill(made.parts()[name], signal.SIGKILL)
        time.sleep(0.5)
        back = made.until(lambda: len(made.parts()) == 5 and made.health().get("worker", False), f"the {name}")
        lines.append(f"| {name} | {back:.1f} |")
        print(lines[-1], flush=True)
    person = Person()
    took = made.until(lambda: _runs_done(person), "the run does not end")
    same = _bits(folder) == before
    return [
        *lines,
        "",
        f"The run went on each time and ended {took:.0f} s after the last kill; its frames "
        f"{'are the same, bit by bit' if same else '**differ**'}.",
    ]


def _shot(person: Person) -> int:
    """The take of the demo's second shot."""
    _, text, _ = person.ask("GET", "/api/productions")
    return int(json.loads(text)[0]["shots"][1]["takes"][0]["id"])


def _runs_done(person: Person) -> bool:
    status, text, _ = person.ask("GET", "/api/runs")
    return status == 200 and all(one["status"] not in ("waiting", "running") for one in json.loads(text))


def _bits(folder: Path) -> dict[str, bytes]:
    store = Cache(folder).stage("liquid")
    return {f"{n} {name}": value.tobytes() for n in sorted(store.records()) for name, value in store.frame(n).items()}


def clients(_made: Instance) -> list[str]:
    """Twenty people who look at frames and reports."""
    take = _shot(Person())
    took: list[float] = []
    wrong: list[int] = []
    until = time.monotonic() + LASTING

    def look(number: int) -> None:
        person, rng = Person(), random.Random(number)
        while time.monotonic() < until:
            path = rng.choice(
                [
                    f"/api/takes/{take}/view/draft/liquid/{rng.randint(1, 90)}?budget=60000&by=speed",
                    f"/api/takes/{take}/view/draft/surface/{rng.randint(1, 90)}?by=speed",
                    f"/api/takes/{take}/stages/draft",
                    f"/api/takes/{take}/forecast/draft",
                    "/api/productions",
                ]
            )
            begin = time.monotonic()
            status, _, _ = person.ask("GET", path)
            took.append(time.monotonic() - begin)
            if status != 200:
                wrong.append(status)
            time.sleep(rng.uniform(0.5, 1.5))  # as people look

    people = [threading.Thread(target=look, args=(n,)) for n in range(CLIENTS)]
    for one in people:
        one.start()
    for one in people:
        one.join()
    middle, slow = statistics.median(took), float(np.percentile(took, 95))
    return [
        f"{CLIENTS} clients for {LASTING:.0f} s, each with a pause of about a second between requests for frames, "
        f"reports, forecasts and the sheet: {len(took):,} answers, {len(wrong)} of them refused; median "
        f"{1000 * middle:.0f} ms ({1000 * QUICK:.0f} asked), 95th of a hundred {1000 * slow:.0f} ms "
        f"({1000 * SLOW:.0f} asked)."
    ]


def main() -> None:
    """Attack, and write what came of it."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--attack", action="store_true")
    options.add_argument("--many", type=int, default=20_000, help="spoilt files of each format")
    options.add_argument("--only", help="files, scenes, caches, disk, or instance")
    given = options.parse_args()
    page = PAGE.read_text(encoding="utf-8")

    def part(title: str, word: str, measure: Callable[[], list[str]]) -> None:
        nonlocal page
        if given.only in (None, word):
            lines = measure()
            print(f"## {title}", *lines, sep="\n", flush=True)
            page = replaced(page, title, lines)
            PAGE.write_text(page, encoding="utf-8")

    part("Spoilt scenes", "scenes", lambda: scenes(6_000))
    part("Spoilt caches", "caches", lambda: caches(200))
    part("A full disk", "disk", full_disk)
    if given.only in (None, "instance"):
        with instance() as made:
            part("Kills", "instance", lambda: kills(made))
            part("Twenty clients", "instance", lambda: clients(made))
            part("Requests", "instance", lambda: requests(made, 5_000))  # may change and remove what the others need
    part("Spoilt files", "files", lambda: files(given.many))


if __name__ == "__main__":
    main()
