"""Zinc Basin's computation: scenes in, frames out. No web, no database."""

from __future__ import annotations

import ctypes
import os
import sys
from pathlib import Path

os.environ.setdefault("NUMBA_THREADING_LAYER", "tbb")

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
