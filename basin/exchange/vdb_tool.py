"""Run by the system's Python, which alone has OpenVDB: write NPZ FILE, read FILE NPZ."""

import sys

try:
    import numpy as np
    import pyopenvdb as vdb
except ImportError:
    sys.exit(3)


def write(held, path):
    """Grids of an NPZ file as OpenVDB."""
    arrays = np.load(held)
    grids = []
    for n, (name, kind) in enumerate(zip(arrays["names"], arrays["kinds"])):  # noqa: B905 - any Python 3
        background = float(arrays[f"background{n}"])
        if kind == "velocity":
            grid = vdb.Vec3SGrid((background,) * 3)
            grid.gridClass = vdb.GridClass.UNKNOWN
            grid.vectorType = "contravariant relative"
        else:
            grid = vdb.FloatGrid(background)
            grid.gridClass = vdb.GridClass.LEVEL_SET if kind == "level set" else vdb.GridClass.FOG_VOLUME
        grid.name = str(name)
        grid.transform = vdb.createLinearTransform(arrays[f"matrix{n}"].T.tolist())
        for tile, values in zip(arrays[f"tile{n}"], arrays[f"values{n}"]):  # noqa: B905
            grid.copyFromArray(values, ijk=tuple(int(8 * t) for t in tile))
        grids.append(grid)
    vdb.write(path, grids=grids)


def read(path, held):
    """An OpenVDB file's grids as NPZ."""
    grids, _ = vdb.readAll(path)
    arrays = {"names": np.array([g.name for g in grids])}
    for n, grid in enumerate(grids):
        low, high = grid.evalActiveVoxelBoundingBox()
        if grid.activeVoxelCount() == 0:
            low, high = (0, 0, 0), (-1, -1, -1)
        shape = tuple(b - a + 1 for a, b in zip(low, high))  # noqa: B905
        vector = isinstance(grid, vdb.Vec3SGrid)
        values = np.zeros((*shape, 3) if vector else shape, np.float32)
        if values.size:
            grid.copyToArray(values, ijk=low)
        corner = [grid.transform.indexToWorld(p) for p in ((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1))]
        matrix = np.eye(4)
        matrix[:3, 3] = corner[0]
        matrix[:3, :3] = (np.array(corner[1:]) - corner[0]).T
        arrays[f"kind{n}"] = np.array(str(grid.gridClass))
        arrays[f"active{n}"] = np.array(grid.activeVoxelCount())
        arrays[f"low{n}"], arrays[f"values{n}"], arrays[f"matrix{n}"] = np.array(low), values, matrix
    np.savez(held, **arrays)


if __name__ == "__main__":
    {"write": write, "read": read}[sys.argv[1]](sys.argv[2], sys.argv[3])
