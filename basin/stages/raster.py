"""A mesh seen from straight above, onto pixels."""

from __future__ import annotations

import numpy as np

from basin.kernels import kernel

NONE = -1e30


@kernel
def _seen(position, triangle, flow, low_x, low_z, pixel, top, bottom, found):
    for t in range(triangle.shape[0]):
        a, b, c = triangle[t, 0], triangle[t, 1], triangle[t, 2]
        ax, az = (position[a, 0] - low_x) / pixel - 0.5, (position[a, 2] - low_z) / pixel - 0.5
        bx, bz = (position[b, 0] - low_x) / pixel - 0.5, (position[b, 2] - low_z) / pixel - 0.5
        cx, cz = (position[c, 0] - low_x) / pixel - 0.5, (position[c, 2] - low_z) / pixel - 0.5
        area = (bx - ax) * (cz - az) - (cx - ax) * (bz - az)
        if abs(area) < 1e-12:
            continue
        for i in range(max(int(np.ceil(min(az, bz, cz))), 0), min(int(max(az, bz, cz)) + 1, top.shape[0])):
            for j in range(max(int(np.ceil(min(ax, bx, cx))), 0), min(int(max(ax, bx, cx)) + 1, top.shape[1])):
                u = ((j - ax) * (cz - az) - (cx - ax) * (i - az)) / area
                v = ((bx - ax) * (i - az) - (j - ax) * (bz - az)) / area
                if u < -1e-9 or v < -1e-9 or u + v > 1.0 + 1e-9:
                    continue
                w = 1.0 - u - v
                y = w * position[a, 1] + u * position[b, 1] + v * position[c, 1]
                bottom[i, j] = min(bottom[i, j], y)
                if y > top[i, j]:
                    top[i, j] = y
                    for d in range(3):
                        found[i, j, d] = w * flow[a, d] + u * flow[b, d] + v * flow[c, d]


def heights(
    position: np.ndarray, triangle: np.ndarray, flow: np.ndarray, low: np.ndarray, pixel: float, shape: tuple[int, ...]
) -> dict[str, np.ndarray]:
    """The topmost point of a mesh above each pixel.

    Parameters
    ----------
    position, triangle, flow : (n, 3) metres, (m, 3), and a vector (n, 3) at each vertex
    low : corner (3,) of the first pixel, of which x and z count; rows go along z, columns along x
    pixel : m; shape : rows and columns

    Returns
    -------
    float32 of that shape: `height` of the top above y = 0; `depth` from there to the lowest point; `velocity.X`, `.Y`,
    `.Z`; and `A`, 1 where there is anything. All are 0 where there is nothing.
    """
    top, bottom = np.full(shape, NONE), np.full(shape, -NONE)
    found = np.zeros((*shape, 3))
    place = np.ascontiguousarray(position, np.float64)
    _seen(place, triangle, np.ascontiguousarray(flow, np.float64), low[0], low[2], pixel, top, bottom, found)
    there = top > NONE
    images = {
        "height": np.where(there, top, 0.0),
        "depth": np.where(there, top - bottom, 0.0),
        "A": there.astype(float),
        **{f"velocity.{'XYZ'[d]}": found[..., d] for d in range(3)},
    }
    return {name: image.astype(np.float32) for name, image in images.items()}
