"""A private MariaDB and Redis on loopback, with data, ports and passwords of their own."""

from __future__ import annotations

import json
import os
import pwd
import secrets
import signal
import socket
import subprocess
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from launcher.setup import ROOT, SetupError

VAR = Path(os.environ.get("ZINC_VAR", ROOT / "var"))
PORTS = {
    "start": {"web": 8260, "database": 33260, "redis": 63260},
    "test": {"web": 0, "database": 33261, "redis": 63261},
}


@dataclass
class Profile:
    """One set of data: "start" for the artist, "test" for the tests."""

    name: str

    @property
    def folder(self) -> Path:
        """Everything of this profile lies here."""
        return VAR / self.name

    def port(self, service: str) -> int:
        """Port of a service; ZINC_WEB_PORT and so on override it."""
        own = os.environ.get(f"ZINC_{service.upper()}_PORT")
        return int(own) if own and self.name == "start" else PORTS[self.name][service]

    def secrets(self) -> dict[str, str]:
        """Generated passwords, in a file that only its owner can read."""
        path = self.folder / "secrets.json"
        if not path.exists():
            self.folder.mkdir(parents=True, exist_ok=True)
            made = {n: secrets.token_urlsafe(24) for n in ("root", "database", "redis", "django")}
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as file:
                json.dump(made, file)
        found: dict[str, str] = json.loads(path.read_text())
        return found

    def environment(self) -> dict[str, str]:
        """What Django and the workers are told."""
        s = self.secrets()
        return {
            **os.environ,
            "DJANGO_SETTINGS_MODULE": "studio.settings",
            "ZINC_DATA": str(self.folder),
            "ZINC_SECRET_KEY": s["django"],
            "ZINC_DATABASE_PORT": str(self.port("database")),
            "ZINC_DATABASE_PASSWORD": s["database"],
            "ZINC_REDIS_URL": f"redis://:{s['redis']}@127.0.0.1:{self.port('redis')}/0",
            "NUMBA_THREADING_LAYER": "tbb",
            "PYTHONPATH": str(ROOT),
        }


def port_free(port: int) -> bool:
    """Whether nothing listens on a loopback port."""
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) != 0


def need_port(port: int, what: str, variable: str) -> None:
    """SetupError if a port is taken."""
    if not port_free(port):
        raise SetupError(f"Port {port} for the {what} is in use by another program; set {variable} to a free one.")


def alive(pid: int) -> bool:
    """Whether a process runs."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def end(process: subprocess.Popen[bytes], seconds: float = 20) -> None:
    """Ask a process of ours, which heads a session of its own, to end, then insist.

    What it has begun and left behind ends with it: a worker that is killed leaves the process that was at a run.
    """
    if process.poll() is None:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(seconds)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
    with suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)


def start_database(profile: Profile) -> subprocess.Popen[bytes]:
    """MariaDB with its own data folder; made and given passwords at the first start."""
    need_port(profile.port("database"), "database", "ZINC_DATABASE_PORT")
    folder = profile.folder / "mariadb"
    data, sock = folder / "data", _socket(folder, profile)
    user = pwd.getpwuid(os.getuid()).pw_name
    fresh = not (data / "ready").exists()
    folder.mkdir(parents=True, exist_ok=True)
    if fresh:
        made = subprocess.run(
            [
                *("mariadb-install-db", "--no-defaults", f"--user={user}", f"--datadir={data}"),
                *("--auth-root-authentication-method=normal", "--skip-test-db"),
            ],
            capture_output=True,
            text=True,
        )
        if made.returncode:
            raise SetupError(f"MariaDB could not be set up: {made.stderr.strip()[-300:]}")
    process = subprocess.Popen(
        [
            *("/usr/sbin/mariadbd", "--no-defaults", f"--user={user}", f"--datadir={data}", "--bind-address=127.0.0.1"),
            *(f"--port={profile.port('database')}", f"--socket={sock}", f"--pid-file={folder / 'pid'}"),
            *(f"--log-error={folder / 'log'}", "--character-set-server=utf8mb4"),
            *("--collation-server=utf8mb4_unicode_ci", "--innodb-buffer-pool-size=256M", "--skip-log-bin"),
            "--default-time-zone=+00:00",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    _wait(lambda: not port_free(profile.port("database")), process, f"MariaDB (see {folder / 'log'})")
    if fresh:
        s = profile.secrets()
        grants = "".join(
            f"CREATE USER 'zinc'@'{host}' IDENTIFIED BY '{s['database']}';"
            f"GRANT ALL ON zinc.* TO 'zinc'@'{host}'; GRANT ALL ON `test\\_%`.* TO 'zinc'@'{host}';"
            for host in ("localhost", "127.0.0.1")
        )
        statements = (
            f"CREATE DATABASE zinc; {grants} ALTER USER 'root'@'localhost' IDENTIFIED BY '{s['root']}'; "
            "DELETE FROM mysql.global_priv WHERE User='' OR (User='root' AND Host<>'localhost'); FLUSH PRIVILEGES;"
        )
        done = subprocess.run(
            ["mariadb", "--no-defaults", f"--socket={sock}", "-u", "root"],
            input=statements,
            text=True,
            capture_output=True,
        )
        if done.returncode:
            end(process)
            raise SetupError(f"MariaDB's users could not be made: {done.stderr.strip()[-300:]}")
        (data / "ready").touch()
    return process


def _socket(folder: Path, profile: Profile) -> Path:
    """Where the database's socket lies: in a folder that only its owner can enter; names of sockets are short."""
    if len(str(folder)) < 80:
        return folder / "sock"
    apart = Path("/tmp") / f"zinc-{os.getuid()}-{profile.port('database')}"
    apart.mkdir(mode=0o700, exist_ok=True)
    if apart.stat().st_uid != os.getuid():
        raise SetupError(f"{apart} belongs to somebody else; set ZINC_VAR to a folder with a shorter name.")
    apart.chmod(0o700)
    return apart / "sock"


def start_redis(profile: Profile) -> subprocess.Popen[bytes]:
    """Redis with a password, nothing kept on disk."""
    need_port(profile.port("redis"), "message broker", "ZINC_REDIS_PORT")
    folder = profile.folder / "redis"
    folder.mkdir(parents=True, exist_ok=True)
    config = folder / "redis.conf"
    descriptor = os.open(config, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        file.write(f'bind 127.0.0.1\nport {profile.port("redis")}\ndir {folder}\nsave ""\nappendonly no\n')
        file.write(f"requirepass {profile.secrets()['redis']}\n")
    process = subprocess.Popen(
        ["redis-server", str(config)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    _wait(lambda: not port_free(profile.port("redis")), process, "Redis")
    return process


def _wait(ready: object, process: subprocess.Popen[bytes], what: str, seconds: float = 40) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if process.poll() is not None:
            raise SetupError(f"{what} ended at once (exit {process.returncode}).")
        if ready():  # type: ignore[operator]
            return
        time.sleep(0.05)
    end(process)
    raise SetupError(f"{what} did not come up within {seconds:.0f} s.")
