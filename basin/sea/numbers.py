"""What a sea is by the numbers: heights and periods asked for and held, what its patches leave out, when it folds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.sea import spectra
from basin.sea.field import STRETCHES, Patch, Sea, Spectrum
from basin.sea.foam import usual_share
from basin.sea.folding import NEVER, folds_from, jacobian
from basin.sea.horizon import SOFT, Laid, repetition
from basin.sea.settings import SeaSettings

TABLE = 3000
LONG_ENOUGH = 4.0  # a patch's size over its longest wave's length
FINE_ENOUGH = 0.98  # of the energy that a sea's patches should hold
LOOKS = 8  # moments of the shot at which the surface is looked at
CELLS = 160  # along the square of horizon in which repetition is looked for
AGAINST_NOISE = 10  # patches across that square, at least
# significant heights (m) from and to, of WMO's code table 3700, with its words
STATES = (
    (0.0, 0.0, "glassy"),
    (0.0, 0.1, "rippled"),
    (0.1, 0.5, "smooth"),
    (0.5, 1.25, "slight"),
    (1.25, 2.5, "moderate"),
    (2.5, 4.0, "rough"),
    (4.0, 6.0, "very rough"),
    (6.0, 9.0, "high"),
    (9.0, 14.0, "very high"),
    (14.0, np.inf, "phenomenal"),
)
# Beaufort force: probable mean height of the highest third far from land, m, and words (WMO No. 306, from memory)
BEAUFORT = (
    (0, 0.0, "calm"),
    (1, 0.1, "light air"),
    (2, 0.2, "light breeze"),
    (3, 0.6, "gentle breeze"),
    (4, 1.0, "moderate breeze"),
    (5, 2.0, "fresh breeze"),
    (6, 3.0, "strong breeze"),
    (7, 4.0, "near gale"),
    (8, 5.5, "gale"),
    (9, 7.0, "strong gale"),
    (10, 9.0, "storm"),
    (11, 11.5, "violent storm"),
    (12, 14.0, "hurricane"),
)


def state_of(height: float) -> str:
    """WMO's word for a significant height, m."""
    return next(word for low, high, word in STATES if height <= high)


@dataclass(frozen=True)
class Held:
    """What a patch holds.

    Attributes
    ----------
    low, high : wave numbers, rad/m; share : of the sea's energy; steps : waves of the longest that fit on it
    folds_from : choppiness from which it folds by itself
    """

    size: float
    count: int
    low: float
    high: float
    share: float
    steps: float
    folds_from: float


@dataclass(frozen=True)
class Numbers:
    """Of a sea.

    Attributes
    ----------
    asked : moments of its spectrum; held : significant height of what its patches hold
    measured : significant height, m, of the field over the shot; crest, trough : its highest and lowest
    too_long, too_short : share of the energy that is longer, shorter than what the patches hold
    size : of the first patch that would hold the longest waves well, m
    folds_from : choppiness (times each patch's own) from which it folds as it is; least : its smallest Jacobian
    repeats : correlation with itself where it would repeat, in a square of horizon
    usual : share of the sea that whitecaps cover in such a wind
    bent : by how much looping bends frequencies, in the mean by energy
    waves : how many waves there are to one as high as the hero's crest; 0 without a hero
    """

    asked: spectra.Moments
    held: float
    measured: float
    crest: float
    trough: float
    state: str
    longest: float
    patches: list[Held]
    too_long: float
    too_short: float
    size: float
    folds_from: float
    least: float
    repeats: float
    usual: float
    bent: float
    waves: float


def curve(spectrum: Spectrum) -> tuple[np.ndarray, np.ndarray]:
    """Wave numbers (n,) and F(k) (n,), m3, over all that matters."""
    middle = 2 * np.pi / spectrum.longest()
    k = np.geomspace(middle / 30.0, 400.0 * middle if not spectrum.settings.ripples else 2000.0, TABLE)
    return k, spectrum.all_waves(k)


def numbers(sea: Sea, first: int, last: int) -> Numbers:
    """Of a sea between two frames."""
    middle = (first + last) // 2
    spectrum = sea.spectrum(middle)
    k, density = curve(spectrum)
    omega = sea.water.omega(k)
    asked = spectra.moments(omega, density / sea.water.group(k), k)
    total = max(asked.height**2 / 16.0, 1e-30)

    def between(low: float, high: float) -> float:
        some = (k >= low) & (k < high)
        return float(np.trapezoid(np.where(some, density, 0.0), k)) / total

    stretches: list[list[np.ndarray]] = [[] for _ in sea.patches]
    variance, crest, trough, least = [], -np.inf, np.inf, np.inf
    all_folds = NEVER
    for frame in np.unique(np.linspace(first, last, LOOKS).round().astype(int)):
        fields = sea.fields(int(frame))
        variance.append(sum(float(one[0].astype(float).var()) for one in fields))
        crest = max(crest, float(fields[0][0].max()))
        trough = min(trough, float(fields[0][0].min()))
        for kept, one in zip(stretches, fields, strict=True):
            kept.append(one[STRETCHES])
        together = combined(sea, fields)
        all_folds = min(all_folds, folds_from([together]))
        least = min(least, float(jacobian(together, 1.0).min()))
    patches = [
        Held(
            patch.size,
            patch.count,
            max(patch.hold.low, patch.step),
            min(patch.hold.high, np.pi * patch.count / patch.size),
            between(max(patch.hold.low, patch.step), min(patch.hold.high, np.pi * patch.count / patch.size)),
            patch.size / spectrum.longest(),
            folds_from(kept),
        )
        for patch, kept in zip(sea.patches, stretches, strict=True)
    ]
    hero = sea.settings.hero
    return Numbers(
        asked,
        4.0 * held_variance(sea, spectrum) ** 0.5,
        4.0 * float(np.mean(variance)) ** 0.5,
        crest,
        trough,
        state_of(asked.height),
        spectrum.longest(),
        patches,
        between(0.0, patches[0].low),
        max(1.0 - between(0.0, patches[-1].high), 0.0),
        float(2 ** np.ceil(np.log2(LONG_ENOUGH * spectrum.longest()))),
        all_folds,
        least,
        repeats(sea, middle) if asked.height > 0 else 0.0,
        usual_share(spectrum.blow.speed),
        bent(sea, spectrum),
        float(np.exp(min(hero.height**2 / (2 * total), 700.0))) if hero is not None else 0.0,
    )


def held_variance(sea: Sea, spectrum: Spectrum) -> float:
    """Variance, m2, of all waves on all patches."""
    total = 0.0
    for patch in sea.patches:
        there, back = patch.spread(spectrum)
        total += 0.5 * float(there.sum() + back[:, 1:].sum())
    return total


def combined(sea: Sea, fields: list[np.ndarray]) -> np.ndarray:
    """Stretches (3, n, n), each times its choppiness, of all patches at the points of the first one."""
    n = fields[0].shape[-1]
    total: np.ndarray = fields[0][STRETCHES] * np.float32(sea.patches[0].set.choppiness)
    place = np.arange(n) * sea.patches[0].size / n
    for patch, one in zip(sea.patches[1:], fields[1:], strict=True):
        at = np.rint(place / patch.size * patch.count).astype(int) % patch.count
        total = total + one[STRETCHES][:, at[:, None], at[None, :]] * np.float32(patch.set.choppiness)
    return np.asarray(total)


def laid(settings: SeaSettings) -> Laid:
    """How a sea's patches are laid to the horizon."""
    hero = settings.hero
    middle = np.zeros(2) if hero is None else np.array([hero.place[0], hero.place[2]])
    return Laid(middle, settings.unlike, settings.seed)


def repeats(sea: Sea, frame: int) -> float:
    """How alike the sea is to itself a patch farther, over a square of horizon."""
    patches = [(patch.size, one[:1]) for patch, one in zip(sea.patches, sea.fields(frame), strict=True)]
    how, size = laid(sea.settings), sea.patches[0].size
    # the square lies where the patch is laid anew; cells divide the patch so that a lag is a whole number of them
    per = int(np.clip(size / (sea.spectrum(frame).longest() / 5.0), 24, CELLS))
    n = AGAINST_NOISE * per
    line = np.arange(n) * size / per
    aside = how.middle + (1.0 + SOFT) * how.from_
    point = np.stack(np.meshgrid(line, line, indexing="ij"), axis=-1).reshape(-1, 2) + aside
    heights = how.over(point, patches)[:, 0].reshape(n, n)
    return repetition(heights, size / per, [size])


def bent(sea: Sea, spectrum: Spectrum) -> float:
    """Mean share, by energy, by which looping changes frequencies."""
    patch: Patch = sea.patches[0]
    if patch.loop_seconds is None:
        return 0.0
    there, _ = patch.spread(spectrum)
    free = sea.water.omega(np.hypot(patch.kx[:, None], patch.kz[None, :]))
    off = np.abs(patch.omega / np.maximum(free, 1e-12) - 1.0)
    return float((off * there).sum() / max(float(there.sum()), 1e-30))
