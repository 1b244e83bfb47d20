"""Functions that read what nobody vouches for, each called in a process of its own that may die without harm.

A helper process, begun once, forks for every call: the child has limits of memory, time and processor, reads nothing
but the folders it is given and the system's libraries, writes nothing and reaches no network (Landlock, where the
kernel has it). It answers with numbers, words and arrays in a plain form; nothing of it is ever unpickled.
"""

from __future__ import annotations

import contextlib
import ctypes
import importlib
import json
import os
import resource
import signal
import socket
import struct
import subprocess
import sys
import threading
import time as clock
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from typing import Any

import numpy as np

MEMORY = 4 * 10**9  # bytes above what a child begins with
PROCESSOR = 60  # seconds
PATIENCE = 75.0  # seconds by the clock, waiting for its turn apart
AT_ONCE = 2
DTYPES = ("<f8", "<f4", "<i8", "<i4", "<u4", "|u1", "<u2")
LONGEST = 2**26  # bytes of an answer's words
ROOT = Path(__file__).resolve().parent.parent

Answer = tuple[Any, list[np.ndarray]]

# set by who serves a request, so that a call ends when its client has gone
nobody_waits: ContextVar[Callable[[], bool]] = ContextVar("nobody_waits", default=lambda: False)


class Told(ValueError):
    """What a function that is called apart says of its input; the message is a sentence for the artist."""


class Ended(RuntimeError):
    """A call that did not come to its end; the message says what the input did, without naming it."""


def call(function: str, *given: Any, reach: list[Path], seconds: int = PROCESSOR) -> Answer:
    """Call a function apart.

    Parameters
    ----------
    function : "module:name" of one that returns plain data and a list of arrays
    given : plain data
    reach : folders that it may read
    seconds : of a processor that it may take

    Raises
    ------
    Told, Ended
    """
    with _turns:
        return _helper().call(
            {"function": function, "given": given, "reach": list(map(str, reach)), "seconds": seconds}
        )


class _Helper:
    """The helper process, and calls of it."""

    def __init__(self) -> None:
        self.owner = os.getpid()
        self._wire, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        lone = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"), "1")
        self._process = subprocess.Popen(
            [sys.executable, "-m", "basin.apart", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            env={**os.environ, **lone},
            cwd=ROOT,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
        )
        theirs.close()
        self._sending = threading.Lock()
        self._count = 0

    def alive(self) -> bool:
        """Whether it can be asked by this process."""
        return self.owner == os.getpid() and self._process.poll() is None

    def call(self, asked: dict[str, Any]) -> Answer:
        ours, theirs = socket.socketpair()
        with ours:
            with theirs, self._sending:
                self._count += 1
                number = self._count
                try:
                    socket.send_fds(self._wire, [json.dumps({**asked, "call": number}).encode()], [theirs.fileno()])
                except OSError:
                    raise Ended("could not be read: its reader has ended; try again") from None
            began = clock.monotonic()
            try:
                return _answer(ours)
            except (EOFError, ConnectionError):
                late = clock.monotonic() - began > asked["seconds"] - 0.5
                why = (
                    f"takes longer than {asked['seconds']} s to be read" if late else "ended its reader; it is damaged"
                )
                raise Ended(why) from None
            finally:
                self._end(number)

    def _end(self, number: int) -> None:
        with self._sending, contextlib.suppress(OSError):
            self._wire.send(json.dumps({"end": number}).encode())


def _answer(end: socket.socket) -> Answer:
    """What a call answers; ConnectionError for anything that is no answer."""
    until = clock.monotonic() + PATIENCE
    (length,) = struct.unpack("<Q", _received(end, 8, until))
    if length > LONGEST:
        raise ConnectionError
    try:
        said = json.loads(bytes(_received(end, length, until)))
        shapes = [(str(dtype), [int(n) for n in shape]) for dtype, shape in said.get("arrays", [])]
    except (ValueError, TypeError, AttributeError, RecursionError):
        raise ConnectionError from None
    if "ended" in said:
        raise Ended(str(said["ended"]))
    if "told" in said:
        raise Told(str(said["told"]))
    arrays = []
    total = 0.0
    for dtype, shape in shapes:
        if dtype not in DTYPES or min(shape, default=0) < 0:
            raise ConnectionError
        total += float(np.prod([float(n) for n in shape])) * np.dtype(dtype).itemsize
        if total > MEMORY:
            raise ConnectionError
        array = np.empty(shape, dtype)
        if array.nbytes:
            _received_into(end, array.reshape(-1).view(np.uint8).data, until)
        arrays.append(array)
    return said.get("facts"), arrays


def _received(end: socket.socket, length: int, until: float) -> bytearray:
    held = bytearray(length)
    _received_into(end, memoryview(held), until)
    return held


def _received_into(end: socket.socket, view: memoryview, until: float) -> None:
    """Fill a view from a connection; EOFError if it ends before, is late, or nobody waits any more."""
    end.settimeout(0.25)
    while view:
        try:
            count = end.recv_into(view)
        except TimeoutError:
            if clock.monotonic() > until or nobody_waits.get()():
                raise EOFError from None
            continue
        if count == 0:
            raise EOFError
        view = view[count:]


_turns = threading.BoundedSemaphore(AT_ONCE)
_starting = threading.Lock()
_one: list[_Helper] = []


def _helper() -> _Helper:
    with _starting:
        if not _one or not _one[0].alive():
            _one[:] = [_Helper()]
        return _one[0]


def main() -> None:
    """Fork for every call until nobody asks any more."""
    wire = socket.socket(fileno=int(sys.argv[1]))
    children: dict[int, int] = {}
    while True:
        message, connections, _, _ = socket.recv_fds(wire, 2**20, 1)
        if not message:
            return
        asked = json.loads(message)
        if "end" in asked:
            _reap(children, asked["end"])
            continue
        module, _, name = asked["function"].partition(":")
        importlib.import_module(module)  # before the fork, so that the next one has it
        child = os.fork()
        if child == 0:
            wire.close()
            _serve(connections[0], module, name, asked)
        children[asked["call"]] = child
        os.close(connections[0])


def _reap(children: dict[int, int], number: int) -> None:
    """End a call's process, if it has not ended, and forget it."""
    child = children.pop(number, None)
    if child is not None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _serve(connection: int, module: str, name: str, asked: dict[str, Any]) -> None:
    """Call the function and answer; never returns."""
    try:
        _limit(asked["seconds"])
        _confine([*asked["reach"], *_libraries()])
        said: dict[str, Any]
        arrays: list[np.ndarray] = []
        try:
            facts, arrays = getattr(sys.modules[module], name)(*asked["given"])
            arrays = [np.ascontiguousarray(a) for a in arrays]
            said = {"facts": facts, "arrays": [[a.dtype.str, list(a.shape)] for a in arrays]}
        except Told as error:
            said = {"told": str(error)}
        except MemoryError:
            said = {"ended": f"needs more than {MEMORY / 1e9:.0f} GB to be read; thin it out first"}
        head = json.dumps(said).encode()
        with socket.socket(fileno=connection) as end:
            end.sendall(struct.pack("<Q", len(head)) + head)
            for array in arrays:
                if array.nbytes:
                    end.sendall(array.reshape(-1).view(np.uint8).data)
    finally:
        os._exit(0)


def _limit(seconds: int) -> None:
    held = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (held + MEMORY, held + MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    ctypes.CDLL(None).prctl(1, signal.SIGKILL, 0, 0, 0)  # PR_SET_PDEATHSIG: it ends with its helper
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    signal.setitimer(signal.ITIMER_REAL, PATIENCE)
    quiet = os.open(os.devnull, os.O_WRONLY)  # libraries write what they think of damaged files
    os.dup2(quiet, 1)
    os.dup2(quiet, 2)


def _libraries() -> list[str]:
    """Folders of what may still have to be loaded."""
    own = [sys.prefix, sys.base_prefix, str(ROOT / "basin")]
    return [*own, *(folder for folder in ("/usr", "/lib", "/lib64", "/etc", "/dev") if os.path.isdir(folder))]


def _confine(folders: list[str]) -> None:
    """Let this process read some folders, and nothing else (Landlock; a kernel without it does nothing)."""
    libc = ctypes.CDLL(None, use_errno=True)
    abi = libc.syscall(444, None, 0, 1)  # landlock_create_ruleset: which version it is
    if abi < 1:
        return
    read = 1 << 0 | 1 << 2 | 1 << 3  # execute, read files, read folders
    whole = (1 << 13) - 1
    for since, right in ((2, 1 << 13), (3, 1 << 14), (5, 1 << 15)):
        whole |= right if abi >= since else 0
    ruleset = struct.pack("<QQ", whole, 3) if abi >= 4 else struct.pack("<Q", whole)  # 3: bind and connect
    made = libc.syscall(444, ruleset, len(ruleset), 0)
    if made < 0:
        return
    for folder in folders:
        with contextlib.suppress(OSError):
            opened = os.open(folder, os.O_PATH | os.O_CLOEXEC)
            libc.syscall(445, made, 1, struct.pack("<Qi", read, opened), 0)  # landlock_add_rule: beneath a path
            os.close(opened)
    libc.prctl(38, 1, 0, 0, 0)  # PR_SET_NO_NEW_PRIVS
    libc.syscall(446, made, 0)  # landlock_restrict_self
    os.close(made)


if __name__ == "__main__":
    importlib.import_module("basin.apart").main()  # whose classes are those that functions raise
