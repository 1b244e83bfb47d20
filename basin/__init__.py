"""Zinc Basin's computation: scenes in, frames out. No web, no database.

Numba's compiled kernels are cached under ``var/numba/<hash of these sources>``: Numba does not
notice by itself that a kernel imported by a cached one has changed.
"""

from __future__ import annotations

import ctypes
import hashlib
import os
import sys
from pathlib import Path

_HERE = Path(__file__).resolve().parent


def source_hash() -> str:
    """Hex digest (16 characters) of every source file of this package."""
    digest = hashlib.sha256()
    for path in sorted(_HERE.rglob("*.py")):
        digest.update(path.relative_to(_HERE).as_posix().encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


os.environ.setdefault("NUMBA_THREADING_LAYER", "tbb")
os.environ.setdefault("NUMBA_CACHE_DIR", str(_HERE.parent / "var" / "numba" / source_hash()))

# The wheel puts TBB into the environment's lib folder, where the loader does not look by itself.
for _library in sorted(Path(sys.prefix, "lib").glob("libtbb.so.*")):
    ctypes.CDLL(str(_library), mode=ctypes.RTLD_GLOBAL)


def keep_memory() -> None:
    """Let this process keep the memory it has freed, for runs: substeps ask for the same again and again.

    Fresh pages have to be handed out and cleared each time. Only glibc is told.
    """
    try:
        tune = ctypes.CDLL("libc.so.6").mallopt
    except OSError:
        return
    tune(-4, 0)  # M_MMAP_MAX: no blocks of their own
    tune(-1, 2**31 - 1)  # M_TRIM_THRESHOLD: nothing goes back before the end
