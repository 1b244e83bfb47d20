"""Texture coordinates that travel with the liquid: where each particle was when they were last renewed.

A particle carries two rest positions, renewed in turn every `clock` frames, the second half a clock after the first.
A rest position stretches as the liquid deforms, so a texture looked up by one alone would smear or jump; blended with
a weight that is 0 where it is renewed and 1 half a clock later, the two never show either (Max & Becker 1995; Neyret
2003, "Advected textures").
"""

from __future__ import annotations

NAMES = ("rest_a", "rest_b")  # of the two, in metres


def renewed(since_first: int, clock: int) -> list[int]:
    """Which of the two rest positions are renewed at a frame, counted from the shot's first one: both there."""
    if since_first == 0:
        return [0, 1]
    return [which for which in (0, 1) if (since_first + which * clock // 2) % clock == 0]


def second_share(since_first: int, clock: int) -> float:
    """Weight of the second rest position at a frame; the first one has the rest of it."""
    phase = since_first % clock / clock
    return abs(2.0 * phase - 1.0)
