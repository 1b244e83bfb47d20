"""Makes sure that everything the application needs is installed and built."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
WEB = ROOT / "web"
DEBIAN = {
    "mariadb-server": "/usr/sbin/mariadbd",
    "libmariadb-dev": "/usr/include/mariadb/mysql.h",
    "pkg-config": "/usr/bin/pkg-config",
    "gcc": "/usr/bin/gcc",
    "redis-server": "/usr/bin/redis-server",
    "python3-openvdb": "/usr/share/doc/python3-openvdb",
}
TOLD_EVERY = 3.0  # seconds
FOR_TESTS = {"chromium": "/usr/bin/chromium"}


class SetupError(RuntimeError):
    """Something is missing; the message is one sentence that says what to do."""


def say(text: str) -> None:
    """One line of progress."""
    print(f"  {text}", flush=True)


def quiet(command: list[str], what: str, cwd: Path = ROOT, env: dict[str, str] | None = None) -> None:
    """Run a command; while it takes its time that is said, its output is shown only when it fails."""
    begin = time.monotonic()
    with tempfile.TemporaryFile("w+") as output:
        try:
            process = subprocess.Popen(command, cwd=cwd, env=env, stdout=output, stderr=subprocess.STDOUT, text=True)
        except OSError as error:
            raise SetupError(f"{what} failed: {error.filename} cannot be run ({error.strerror}).") from None
        while True:
            try:
                process.wait(TOLD_EVERY)
                break
            except subprocess.TimeoutExpired:
                say(f"... {what}, {time.monotonic() - begin:.0f} s")
        if process.returncode:
            output.seek(0)
            print(output.read()[-4000:])
            raise SetupError(f"{what} failed (exit {process.returncode}); its output is above.")


def beside(*steps: Callable[[], None]) -> None:
    """Take steps that do not need one another at the same time; raises what the first of them raised."""
    with ThreadPoolExecutor(len(steps)) as threads:
        for future in [threads.submit(step) for step in steps]:
            future.result()


def debian_packages(wanted: dict[str, str]) -> None:
    """Install Debian packages whose files are missing, as root or through sudo."""
    missing = [name for name, file in wanted.items() if not Path(file).exists()]
    if not missing:
        return
    install = ["apt-get", "install", "-y", "--no-install-recommends", *missing]
    prefix: list[str] = []
    if os.geteuid() != 0:
        allowed = shutil.which("sudo") and subprocess.run(["sudo", "-n", "true"], capture_output=True).returncode == 0
        if not allowed:
            raise SetupError(f"Debian packages are missing; run: sudo {' '.join(install)}")
        prefix = ["sudo", "-n"]
    say(f"installing Debian packages: {' '.join(missing)}")
    env = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    quiet([*prefix, "apt-get", "update"], "apt-get update", env=env)
    quiet([*prefix, *install], "apt-get install", env=env)


def digest(paths: list[Path]) -> str:
    """Digest of files and whole folders."""
    result = hashlib.sha256()
    for path in paths:
        for file in sorted(path.rglob("*")) if path.is_dir() else [path]:
            if file.is_file():
                result.update(str(file.relative_to(ROOT)).encode())
                result.update(file.read_bytes())
    return result.hexdigest()


def _fresh(stamp: Path, value: str) -> bool:
    return stamp.exists() and stamp.read_text() == value


def python_environment(measuring: bool = False) -> None:
    """The virtual environment with pinned requirements, and with what only the measurements need."""
    if sys.version_info[:2] != (3, 11):
        raise SetupError(f"Python 3.11 is needed; this is {sys.version.split()[0]}.")
    for name in ("requirements", "requirements-bench") if measuring else ("requirements",):
        stamp, value = VENV / f"{name}.stamp", digest([ROOT / f"{name}.txt"])
        if _fresh(stamp, value):
            continue
        if not PYTHON.exists():
            say("making the virtual environment")
            quiet([sys.executable, "-m", "venv", str(VENV)], "python -m venv")
        say("installing Python packages")
        quiet([str(PYTHON), "-m", "pip", "install", "-q", "-r", f"{name}.txt"], "pip install")
        stamp.write_text(value)


def front_end_packages() -> None:
    """Node packages."""
    node = shutil.which("node")
    if not node or not shutil.which("npm"):
        raise SetupError("Node 20 with npm is needed; install it and run this again.")
    version = subprocess.run([node, "--version"], capture_output=True, text=True).stdout.strip().lstrip("v")
    if int(version.split(".")[0]) < 20:
        raise SetupError(f"Node 20 or newer is needed; this is {version}.")
    stamp, value = WEB / "node_modules" / ".stamp", digest([WEB / "package-lock.json"])
    if not _fresh(stamp, value):
        say("installing front-end packages")
        quiet(["npm", "ci", "--no-fund", "--no-audit"], "npm ci", cwd=WEB)
        stamp.write_text(value)


def page() -> None:
    """The built page."""
    sources = [WEB / n for n in ("src", "public", "index.html", "package-lock.json", "vite.config.ts")]
    sources += [ROOT / "docs" / n for n in ("manual", "screenshots")]  # the page holds the manual
    stamp, value = WEB / "dist" / ".stamp", digest([s for s in sources if s.exists()])
    if not _fresh(stamp, value):
        say("building the page")
        quiet(["npm", "run", "build"], "npm run build", cwd=WEB)
        stamp.write_text(value)


def packages(for_tests: bool = False) -> None:
    """Everything that is installed."""
    debian_packages({**DEBIAN, **(FOR_TESTS if for_tests else {})})
    beside(python_environment, front_end_packages)


def measuring(env: dict[str, str]) -> subprocess.Popen[bytes]:
    """Begin to measure how fast this machine is, if no run has told yet."""
    command = ["nice", str(PYTHON), "manage.py", "measure"]
    return subprocess.Popen(command, cwd=ROOT, env=env, start_new_session=True, stdout=subprocess.DEVNULL)


def kernels(env: dict[str, str]) -> subprocess.Popen[bytes]:
    """Begin to compile the solver; it says how far it is by itself, and what needs a part of it waits for that part."""
    command = ["nice", str(PYTHON), "-u", "-m", "basin.stages.warm"]
    return subprocess.Popen(command, cwd=ROOT, env=env, start_new_session=True)
