"""Curves of the reference cases as small pictures under docs/figures/, by Matplotlib."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib import pyplot

FOLDER = Path(__file__).resolve().parent.parent / "docs" / "figures"


def curves(
    name: str, across: str, up: str, found: dict[str, tuple[Any, Any]], known: dict[str, tuple[Any, Any]]
) -> str:
    """Draw measured lines over known ones (black); returns the page's link to the picture.

    Parameters
    ----------
    across, up : what the axes show, with units
    found, known : label -> (x, y)
    """
    figure, axes = pyplot.subplots(figsize=(6.4, 3.2), dpi=90, layout="constrained")
    for mark, (label, (x, y)) in zip("os^", known.items(), strict=False):
        axes.plot(x, y, f"k{mark}" if 2 < len(x) < 12 else "k--", markersize=4, linewidth=1.6, label=label)
    for label, (x, y) in found.items():
        axes.plot(x, y, linewidth=1.1, label=label)
    axes.set_xlabel(across)
    axes.set_ylabel(up)
    axes.grid(alpha=0.3)
    axes.legend(fontsize=8, frameon=False)
    FOLDER.mkdir(exist_ok=True)
    figure.savefig(FOLDER / f"{name}.png", metadata={"Software": None})
    pyplot.close(figure)
    return f"[figure](figures/{name}.png)"
