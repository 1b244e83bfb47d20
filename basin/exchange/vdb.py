"""OpenVDB, through Debian's python3-openvdb, which the system's own Python loads: level set, density, velocity.

Tiles of 8^3 voxels become leaves of the same size; what is not in a tile is outside.
"""

from __future__ import annotations

import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

PYTHON = "/usr/bin/python3"
TOOL = Path(__file__).with_name("vdb_tool.py")


class NoVdb(RuntimeError):
    """The package that writes OpenVDB is not there."""


@dataclass(frozen=True)
class Grid:
    """A grid of tiles.

    Attributes
    ----------
    name, kind : what it is called; "level set", "fog" or "velocity"
    tile : int (t, 3), first voxel of each tile divided by 8
    values : float32 (t, 8, 8, 8) or (t, 8, 8, 8, 3)
    background : value outside of the tiles
    matrix : (4, 4), from the index of a voxel to its middle in the world
    """

    name: str
    kind: str
    tile: np.ndarray
    values: np.ndarray
    background: float
    matrix: np.ndarray


def write_vdb(path: Path, grids: list[Grid]) -> None:
    """Write grids into a file; NoVdb if the package is missing."""
    arrays: dict[str, np.ndarray] = {
        "names": np.array([g.name for g in grids]),
        "kinds": np.array([g.kind for g in grids]),
    }
    for n, grid in enumerate(grids):
        arrays |= {f"tile{n}": grid.tile.astype(np.int32), f"values{n}": grid.values.astype(np.float32)}
        arrays |= {f"matrix{n}": np.asarray(grid.matrix, np.float64), f"background{n}": np.array(grid.background)}
    with tempfile.TemporaryDirectory() as folder:
        held = Path(folder) / "grids.npz"
        np.savez(held, **arrays)  # type: ignore[arg-type]
        _checked(_run("write", held, path))


def read_vdb(path: Path) -> dict[str, np.ndarray]:
    """What a file holds by the package's own reader: `names`, and of the n-th grid `kind`n, `active`n (voxels), and
    `low`n, `values`n: the first active voxel and a dense array of the box of all of them, and `matrix`n."""
    with tempfile.TemporaryDirectory() as folder:
        held = Path(folder) / "grids.npz"
        _checked(_run("read", path, held))
        with np.load(held) as arrays:
            return {name: arrays[name] for name in arrays.files}


def _run(action: str, first: Path, second: Path) -> subprocess.CompletedProcess[str]:
    command = [PYTHON, "-I", str(TOOL), action, str(first), str(second)]
    return subprocess.run(command, capture_output=True, text=True, check=False)


def _checked(done: subprocess.CompletedProcess[str]) -> None:
    if done.returncode == 3:
        raise NoVdb("OpenVDB files need Debian's package python3-openvdb, which is not installed here")
    if done.returncode:
        raise OSError((done.stderr.strip().splitlines() or ["OpenVDB failed"])[-1])
