"""The commands of ``./zinc``."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from types import FrameType

from launcher import services, setup
from launcher.services import Profile
from launcher.setup import PYTHON, ROOT, SetupError, quiet, say

USAGE = """usage: ./zinc COMMAND
  start [--host H]   set everything up and run it; Ctrl-C ends it
  person NAME        make an account, or give it another password
  stop               end a running start
  status             say what runs
  test [LABEL ...]   run all tests and checks, or some of Django's test labels
  bench [--mutants | --reference | --surfacing | --cold | --memory | --attack | --forecast | --actions |
        --long | --rehearsal | --flows | --shots | --beside COMMIT | --large | --only WORD]
                     measure; see docs/performance.md
  screenshots        renew docs/screenshots from the demo data"""


SHORT = ["tests", "--exclude-tag", "long"]  # those are left to `./zinc bench --long`, which says so
LONG = ["tests", "--tag", "long"]


def main(arguments: list[str]) -> int:
    """Run one command; returns the exit code."""
    command, rest = (arguments[0], arguments[1:]) if arguments else ("help", [])
    actions = {action.__name__: action for action in (start, person, stop, status, test, bench, screenshots)}
    if command not in actions:
        print(USAGE)
        return 0 if command in ("help", "--help", "-h") else 2
    os.chdir(ROOT)
    try:
        return actions[command](rest)
    except SetupError as error:
        print(f"zinc: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 130


def _pid_file() -> str:
    return str(Profile("start").folder / "zinc.pid")


def _running() -> int | None:
    try:
        with open(_pid_file()) as file:
            pid = int(file.read())
    except (OSError, ValueError):
        return None
    return pid if services.alive(pid) else None


def start(arguments: list[str]) -> int:
    """Set up, start the services, the worker and the web server; stay until interrupted."""
    host = arguments[arguments.index("--host") + 1] if "--host" in arguments[:-1] else "127.0.0.1"
    # nobody else can reach it: on loopback, and no proxy before it
    alone = (host == "localhost" or host.startswith("127.")) and not os.environ.get("ZINC_NAMES")
    os.umask(0o077)  # what lies in var/ is its owner's alone
    if os.geteuid() == 0:
        say("this runs as root, which nothing here needs; an account of its own is safer")
    if _running():
        raise SetupError("already running; ./zinc status tells where, ./zinc stop ends it.")
    profile = Profile("start")
    web_port = profile.port("web")
    services.need_port(web_port, "page", "ZINC_WEB_PORT")
    print("Zinc Basin", flush=True)
    begin = time.monotonic()
    setup.packages()
    say(f"packages are there after {time.monotonic() - begin:.0f} s")
    begin = time.monotonic()
    stopping = False

    def ask(_signal: int, _frame: FrameType | None) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGTERM, ask)
    signal.signal(signal.SIGINT, ask)
    profile.folder.mkdir(parents=True, exist_ok=True)
    os.chmod(services.VAR, 0o700)
    with open(_pid_file(), "w") as file:
        file.write(str(os.getpid()))
    supervised = Supervised()
    compiling = measuring = None
    try:
        env = {**profile.environment(), "ZINC_HOST": host}
        compiling = setup.kernels(env)

        def data() -> None:
            say("starting the database")
            supervised.begin("database", lambda: services.start_database(profile))
            supervised.begin("broker", lambda: services.start_redis(profile))
            quiet([str(PYTHON), "manage.py", "migrate", "--no-input", "-v0"], "migrate", env=env)
            quiet([str(PYTHON), "manage.py", "demo"], "the demo data", env=env)

        setup.beside(setup.page, data)
        accounts = [str(PYTHON), "manage.py", "person", "--needed"]
        if not alone and subprocess.run(accounts, env=env, capture_output=True).returncode:
            raise SetupError("others can reach this; make an account first: ./zinc person NAME")
        supervised.begin("worker", lambda: _worker(env, profile))
        supervised.begin("web server", lambda: _web(env, profile, host, web_port))
        until = time.monotonic() + 60
        while services.port_free(web_port) and time.monotonic() < until and not stopping:
            if supervised.ended("web server"):
                raise SetupError(f"the web server ended at once; see {profile.folder / 'web.log'}.")
            time.sleep(0.1)
        say(f"the page answers after {time.monotonic() - begin:.0f} s")
        sign_in = "demo  with  tide-mill" if alone else "one of the accounts"
        print(f"\n  http://{host}:{web_port}\n  sign in as  {sign_in}\n\n  Ctrl-C ends it.", flush=True)
        while not stopping:
            time.sleep(0.5)
            if compiling and compiling.poll() is not None:
                well = compiling.returncode == 0
                say("the solver is ready" if well else "kernels failed; runs compile what they need")
                # and how fast this machine is, where nobody has made anything yet
                compiling, measuring = None, setup.measuring(env) if well else None
            supervised.look()
        print("\n  ending", flush=True)
    finally:
        supervised.end()
        for process in (compiling, measuring):
            if process and process.poll() is None:
                services.end(process)
        os.unlink(_pid_file())
    return 0


class Supervised:
    """Services that are begun again when they end; the end of one is not the end of the others."""

    SOON, LATER = 1.0, 15.0  # seconds until one is begun again, and if it has only just begun

    def __init__(self) -> None:
        self._begin: dict[str, Callable[[], subprocess.Popen[bytes]]] = {}
        self._running: dict[str, subprocess.Popen[bytes]] = {}
        self._due: dict[str, float] = {}
        self._since: dict[str, float] = {}

    def begin(self, name: str, start: Callable[[], subprocess.Popen[bytes]]) -> None:
        """Start a service; SetupError if it does not come up."""
        self._begin[name], self._since[name] = start, time.monotonic()
        self._running[name] = start()

    def ended(self, name: str) -> bool:
        """Whether a service has ended by itself."""
        return self._running[name].poll() is not None

    def look(self) -> None:
        """Begin again what has ended, and say so."""
        now = time.monotonic()
        for name in [n for n, process in self._running.items() if process.poll() is not None]:
            if name not in self._due:
                services.end(self._running[name])  # with what it has left behind
                self._due[name] = now + (self.LATER if now - self._since[name] < self.LATER else self.SOON)
                say(f"the {name} ended (exit {self._running[name].returncode}); starting it again")
            elif now >= self._due[name]:
                del self._due[name]
                try:
                    self.begin(name, self._begin[name])
                    say(f"the {name} runs again")
                except SetupError as error:
                    say(f"the {name} does not start: {error}")

    def end(self) -> None:
        """End everything, what was begun last first."""
        for process in reversed(self._running.values()):
            services.end(process)


def _worker(env: dict[str, str], profile: Profile) -> subprocess.Popen[bytes]:
    with open(profile.folder / "worker.log", "ab") as log:
        return subprocess.Popen(
            [
                *(str(PYTHON), "-m", "celery", "-A", "studio", "worker", "-B", "-s", str(profile.folder / "beat")),
                *("--concurrency=1", "--without-gossip", "--without-mingle", "--loglevel=warning"),
            ],
            env=env,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )


def _web(env: dict[str, str], profile: Profile, host: str, port: int) -> subprocess.Popen[bytes]:
    with open(profile.folder / "web.log", "ab") as log:
        return subprocess.Popen(
            [
                *(str(PYTHON), "-m", "uvicorn", "studio.asgi:application", "--host", host, "--port", str(port)),
                *("--lifespan", "off", "--log-level", "warning", "--timeout-graceful-shutdown", "2"),
            ],
            env=env,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )


def person(arguments: list[str]) -> int:
    """Make an account, or give one another password; asks for it. The database need not run."""
    if len(arguments) != 1:
        print(USAGE)
        return 2
    os.umask(0o077)
    setup.packages()
    profile = Profile("start")
    env = profile.environment()
    database = None if _running() else services.start_database(profile)
    try:
        quiet([str(PYTHON), "manage.py", "migrate", "--no-input", "-v0"], "migrate", env=env)
        return subprocess.run([str(PYTHON), "manage.py", "person", arguments[0]], env=env).returncode
    finally:
        if database:
            services.end(database)


def stop(_arguments: list[str]) -> int:
    """End a running start."""
    pid = _running()
    if not pid:
        print("nothing is running")
        return 0
    os.kill(pid, signal.SIGTERM)
    until = time.monotonic() + 40
    while services.alive(pid) and time.monotonic() < until:
        time.sleep(0.1)
    print("ended" if not services.alive(pid) else "still ending; look at ./zinc status in a moment")
    return 0


def status(_arguments: list[str]) -> int:
    """Say what runs, and where."""
    pid = _running()
    profile = Profile("start")
    if not pid:
        print("not running; ./zinc start")
        return 1
    print(f"running as process {pid}")
    for service in ("web", "database", "redis"):
        port = profile.port(service)
        print(f"  {service:9} 127.0.0.1:{port} {'answers' if not services.port_free(port) else 'does not answer'}")
    return 0


def test(arguments: list[str]) -> int:
    """All tests, lint, types and the generated client; or only the labels given."""
    setup.packages(for_tests=True)
    profile = Profile("test")
    env = profile.environment()
    running = [setup.kernels(env)]
    failed: list[str] = []

    def check(name: str, command: list[str], cwd: str = str(ROOT), env: dict[str, str] | None = None) -> None:
        begin = time.monotonic()
        print(f"\n== {name}", flush=True)
        if subprocess.run(command, cwd=cwd, env=env).returncode:
            failed.append(name)
        print(f"== {name}: {'failed' if name in failed else 'well'}, {time.monotonic() - begin:.0f} s", flush=True)

    python = str(PYTHON)
    try:
        setup.page()
        running.append(services.start_database(profile))
        running.append(services.start_redis(profile))
        if not arguments:
            check("lint", [python, "-m", "ruff", "check", "."])
            check("format", [python, "-m", "ruff", "format", "--check", "."])
            check("types", [python, "-m", "mypy"], env=env)
            check("page: lint and format", ["npm", "run", "-s", "lint"], cwd=str(ROOT / "web"))
            check("page: types", ["npm", "run", "-s", "types"], cwd=str(ROOT / "web"))
            check("schema and client are current", [python, "manage.py", "client", "--check"], env=env)
            say("published cases tagged long are left to ./zinc bench --long")
        if running[0].wait():
            raise SetupError("compiling the solver failed; what it said is above.")
        check(
            "tests",
            [python, "manage.py", "test", "--no-input", "--timing", "--parallel", "2", *(arguments or SHORT)],
            env=env,
        )
    finally:
        for process in reversed(running):
            services.end(process)
    print(f"\n{'all well' if not failed else 'failed: ' + ', '.join(failed)}")
    return 1 if failed else 0


def bench(arguments: list[str]) -> int:
    """Measurements; see ``benchmarks/``."""
    setup.debian_packages(setup.DEBIAN)
    setup.python_environment(measuring=True)
    if "--long" in arguments:
        return test(LONG)
    others = (
        "mutants",
        "reference",
        "surfacing",
        "cold",
        "beside",
        "memory",
        "attack",
        "forecast",
        "actions",
        "rehearsal",
        "flows",
        "shots",
    )
    module = next((f"benchmarks.{name}" for name in others if f"--{name}" in arguments), "benchmarks.speed")
    env = Profile("test").environment()
    return subprocess.run([str(PYTHON), "-m", module, *arguments], env=env).returncode


def screenshots(_arguments: list[str]) -> int:
    """Renew the pictures of the README; needs a running start with complete demo caches."""
    if not _running():
        raise SetupError("./zinc start must be running, with the demo's frames made.")
    setup.debian_packages(setup.FOR_TESTS)
    env = {**os.environ, "ZINC_URL": f"http://127.0.0.1:{Profile('start').port('web')}"}
    return subprocess.run([str(PYTHON), "-m", "docs.take_screenshots"], env=env).returncode
