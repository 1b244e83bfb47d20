"""The decorator of compiled functions, and where their machine code is kept.

Numba keeps compiled code by source file and does not notice that a function imported from another file has changed.
Here each kernel is known by a digest of its own bytecode, its flags, and, recursively, all that it names: other
kernels, plain functions, constants. An edit compiles what it can change and nothing else; comments, line numbers and
folders cost nothing; several versions lie side by side, so one folder serves several checkouts. Installed packages
count by the versions of NumPy and Numba alone.

A kernel may only name what stands above it, so that its digest is known when it is defined.
"""

from __future__ import annotations

import ast
import builtins
import copy
import dis
import hashlib
import inspect
import os
import sysconfig
import tempfile
import textwrap
import time as clock
import types
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, ClassVar

import numba
import numpy as np
from numba.core import event
from numba.core.registry import CPUDispatcher
from numba.extending import _Intrinsic

from basin.threads import share

PLACE = "ZINC_KERNELS"  # of the folder, in the environment
INSTALLED = tuple({sysconfig.get_path(name) for name in ("stdlib", "purelib", "platlib")})


def folder() -> Path:
    """Where compiled kernels are kept, for all checkouts of this user."""
    home = os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache"
    versions = f"numba-{numba.__version__}-numpy-{np.__version__}"
    return Path(os.environ.get(PLACE) or Path(home) / "zinc-basin" / "kernels") / versions


class Unknowable(TypeError):
    """A kernel names something whose value cannot be told from another."""


def kernel(function: Callable[..., Any] | None = None, **flags: Any) -> Any:
    """`numba.njit` with a cache; `flags` are njit's. Registers the kernel under its module and name."""
    if function is None:
        return lambda f: kernel(f, **flags)
    function.__kernel_flags__ = flags  # type: ignore[attr-defined]
    found = numba.njit(cache=True, **flags)(function)
    found._cache.load_overload = _or_none(found._cache.load_overload)
    KERNELS[f"{function.__module__}.{function.__qualname__}"] = found
    return found


def _or_none(load: Callable[..., Any]) -> Callable[..., Any]:
    """What loads kept code, or nothing where that names a module that is not there any more: it is compiled anew."""

    def loaded(*given: Any) -> Any:
        try:
            return load(*given)
        except ModuleNotFoundError:
            return None

    return loaded


def shared(function: Callable[..., Any] | None = None, **flags: Any) -> Any:
    """A kernel whose last statement is a loop over `prange`, whose turns may go to several threads.

    It is compiled as a plain loop from a first turn to a last one, which takes a third of the time that Numba's own
    parallel loops take, and called for pieces of the loop by `basin.threads`. What stands before the loop is done for
    each piece. It can be called from Python alone.
    """
    if function is None:
        return lambda f: shared(f, **flags)
    piece, bounds = _split(function)
    # as in the bodies of parallel loops, a division by zero is no error
    return Shared(kernel(piece, nogil=True, error_model="numpy", **flags), bounds)


class Shared:
    """What `shared` makes.

    Attributes
    ----------
    piece : the kernel, which takes the first turn and the one after the last before its own arguments
    bounds : tells both for the whole loop, from its arguments
    """

    def __init__(self, piece: Any, bounds: Callable[..., tuple[int, int]]) -> None:
        self.piece, self.bounds = piece, bounds

    @property
    def py_func(self) -> Any:
        """What was compiled."""
        return self.piece.py_func

    def __call__(self, *given: Any) -> None:
        begin, end = self.bounds(*given)
        share(self.piece, int(begin), int(end), given)


def _split(function: Callable[..., Any]) -> tuple[Any, Any]:
    """The loop of a function over some of its turns, and what tells the first turn and the one after the last."""
    file, line = function.__code__.co_filename, function.__code__.co_firstlineno
    whole = ast.parse(textwrap.dedent(inspect.getsource(function)))
    ast.increment_lineno(whole, line - 1)
    (made,) = whole.body
    assert isinstance(made, ast.FunctionDef)
    *before, loop = made.body
    if not (isinstance(loop, ast.For) and isinstance(loop.iter, ast.Call) and ast.unparse(loop.iter.func) == "prange"):
        raise TypeError(f"{function.__qualname__}: its last statement must be a loop over prange")
    if any(isinstance(n, ast.Name) and n.id == "prange" for s in (*before, *loop.body) for n in ast.walk(s)):
        raise TypeError(f"{function.__qualname__}: has another loop over prange")
    first, after = [ast.Constant(0), *loop.iter.args][-2:]
    made.decorator_list = []
    bounds = copy.deepcopy(made)
    bounds.name, bounds.body = "bounds", [*before, ast.Return(ast.Tuple([first, after], ast.Load()))]
    made.args.args[:0] = [ast.arg("_first"), ast.arg("_after")]
    loop.iter = ast.parse("range(_first, _after)", mode="eval").body
    space: dict[str, Any] = {}
    exec(compile(ast.fix_missing_locations(ast.Module([made, bounds], [])), file, "exec"), function.__globals__, space)
    piece = space[made.name]
    piece.__module__, piece.__qualname__ = function.__module__, function.__qualname__
    return piece, space["bounds"]


KERNELS: dict[str, Any] = {}


def digest(function: Any) -> str:
    """What tells a kernel or plain function from every other version of it, 16 hexadecimal digits."""
    plain = getattr(function, "py_func", function)
    if plain not in _known:
        _known[plain] = hashlib.sha256(repr(_parts(plain)).encode()).hexdigest()[:16]
    return _known[plain]


_known: dict[Any, str] = {}


def depth(function: Any) -> int:
    """How deep the kernels lie that a kernel or plain function names: 0 for one that names none."""
    plain = getattr(function, "py_func", function)
    inner = [value for _, value in _named(plain) if isinstance(value, CPUDispatcher | types.FunctionType)]
    own = [one for one in inner if not _installed(getattr(one, "py_func", one).__code__.co_filename)]
    return 1 + max(map(depth, own)) if own else 0


def _parts(function: types.FunctionType) -> tuple[Any, ...]:
    flags = getattr(function, "__kernel_flags__", {})
    code = _code(function.__code__, function.__doc__)
    named = [(name, value if isinstance(value, str) else _value(value)) for name, value in _named(function)]
    held = [_value(cell.cell_contents) for cell in function.__closure__ or ()]
    return _value(flags), code, _value(function.__defaults__), _value(function.__kwdefaults__), named, held


def _code(code: types.CodeType, doc: str | None = None) -> tuple[Any, ...]:
    """Bytecode and what it holds, without names of files, lines and sentences."""
    constants = tuple(_code(c) if isinstance(c, types.CodeType) else _value(c) for c in code.co_consts if c != doc)
    names = code.co_names, code.co_varnames, code.co_freevars, code.co_cellvars
    return code.co_code, constants, names, code.co_argcount, code.co_kwonlyargcount, code.co_flags


def _named(function: types.FunctionType) -> Iterator[tuple[str, Any]]:
    """Names of globals that a function looks up, nested functions included, with their values."""
    seen = set()
    for name, attribute in _looked_up(function.__code__):
        if (name, attribute) in seen or name == function.__name__:
            continue
        seen.add((name, attribute))
        if name in function.__globals__:
            value = function.__globals__[name]
        elif hasattr(builtins, name):
            yield name, f"builtin {name}"
            continue
        else:
            raise Unknowable(f"{function.__module__}.{function.__qualname__} names {name} before it is defined")
        if isinstance(value, types.ModuleType) and not _installed(getattr(value, "__file__", None)):
            yield f"{name}.{attribute}", getattr(value, attribute or "", f"module {value.__name__}")
        else:
            yield name, value


def _looked_up(code: types.CodeType) -> Iterator[tuple[str, str | None]]:
    """Global names, each with the attribute that is taken of it at once."""
    instructions = list(dis.get_instructions(code))
    for one, following in zip(instructions, [*instructions[1:], None], strict=True):
        if one.opname == "LOAD_GLOBAL":
            taken = following is not None and following.opname in ("LOAD_ATTR", "LOAD_METHOD")
            yield one.argval, following.argval if taken and following is not None else None
    for constant in code.co_consts:
        if isinstance(constant, types.CodeType):
            yield from _looked_up(constant)


def _installed(file: str | None) -> bool:
    """Whether code is of an installed package, Python's own, or built in."""
    return file is None or file.startswith(INSTALLED)


def _value(value: Any) -> Any:
    """Something whose `repr` is the same for the same value in every process, and differs for another one."""
    if isinstance(value, CPUDispatcher):
        return "kernel", value.py_func.__qualname__, digest(value.py_func)
    if isinstance(value, _Intrinsic):
        return "intrinsic", digest(value._defn)
    if isinstance(value, types.FunctionType) and not _installed(value.__code__.co_filename):
        return "function", value.__qualname__, digest(value)
    if isinstance(value, types.ModuleType):
        return "module", value.__name__
    if isinstance(value, type) or (callable(value) and hasattr(value, "__qualname__")):
        return "named", getattr(value, "__module__", ""), value.__qualname__
    if isinstance(value, np.ndarray):
        return "array", value.dtype.str, value.shape, hashlib.sha256(np.ascontiguousarray(value).tobytes()).hexdigest()
    if isinstance(value, dict):
        return "dict", sorted((str(k), _value(v)) for k, v in value.items())
    if isinstance(value, set | frozenset):
        return "set", sorted(repr(_value(v)) for v in value)
    if isinstance(value, tuple | list):
        return type(value).__name__, tuple(_value(v) for v in value)
    text = repr(value)
    if " at 0x" in text:
        raise Unknowable(f"{text} has no value that could be told")
    return type(value).__module__, type(value).__qualname__, text


class Locator:
    """Tells Numba where a kernel's code is kept (its `NUMBA_CACHE_LOCATOR_CLASSES`)."""

    def __init__(self, function: Any, file: str) -> None:
        self._py_file = file  # Numba asks for it when it warns
        self._digest = digest(function)
        self._path = folder() / function.__module__

    @classmethod
    def from_function(cls, function: Any, file: str) -> Locator | None:
        """A locator, or None if nothing can be written there."""
        found = cls(function, file)
        try:
            found.ensure_cache_path()
        except OSError:
            return None
        return found

    _sound: ClassVar[set[Path]] = set()

    def ensure_cache_path(self) -> None:
        """Make the folder; OSError if it cannot be written to."""
        if self._path not in self._sound:
            self._path.mkdir(parents=True, exist_ok=True)
            tempfile.TemporaryFile(dir=self._path).close()
            self._sound.add(self._path)

    def get_cache_path(self) -> str:
        """The folder."""
        return str(self._path)

    def get_source_stamp(self) -> str:
        """What the code in a file is of."""
        return self._digest

    def get_disambiguator(self) -> str:
        """Part of the file's name, so that versions lie side by side."""
        return self._digest


os.environ["NUMBA_CACHE_LOCATOR_CLASSES"] = numba.config.CACHE_LOCATOR_CLASSES = f"{__name__}.Locator"


class Compiled(event.Listener):  # type: ignore[misc]
    """What is compiled while it listens: (kernel, types of its arguments, seconds without kernels compiled inside)."""

    def __init__(self) -> None:
        self.rows: list[tuple[str, str, float]] = []
        self._open: list[list[float]] = []

    def on_start(self, begun: Any) -> None:
        """A kernel's compiling begins."""
        self._open.append([clock.perf_counter(), 0.0])

    def on_end(self, ended: Any) -> None:
        """It ends."""
        begin, within = self._open.pop()
        whole = clock.perf_counter() - begin
        function = ended.data["dispatcher"].py_func
        name = f"{function.__module__}.{function.__qualname__}"
        self.rows.append((name, repr(tuple(ended.data["args"])), whole - within))
        if self._open:
            self._open[-1][1] += whole


def compiled(action: Callable[[], Any]) -> list[tuple[str, str, float]]:
    """What calling something makes compile."""
    listener = Compiled()
    with event.install_listener("numba:compile", listener):
        action()
    return listener.rows


def signature(text: str) -> tuple[Any, ...]:
    """Argument types from what `Compiled` wrote of them."""
    found: tuple[Any, ...] = eval(text, {"__builtins__": {}}, {**vars(numba.core.types), "True": True, "False": False})
    return found
