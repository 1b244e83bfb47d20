"""A sea: whether its patches hold its waves, whether its water bears them, whether its numbers are of this world."""

from __future__ import annotations

import numpy as np

from basin.scene import Advice, Remedy
from basin.sea.dispersion import TENSION, Water
from basin.sea.field import Spectrum, blow_at, holds
from basin.sea.numbers import LONG_ENOUGH, curve
from basin.stages.advice.look import Look
from basin.stages.sea_stage import pull_of

LEFT_OUT = 0.02  # of the energy that patches may leave out
STORM = 45.0  # m/s: more than a hurricane's mean wind at sea
BREAKS = 0.6  # significant height over depth from which waves break (common practice, no source)
STEEPEST = 0.142  # height over length, Michell 1893
LIKELY = 1e4  # waves, of which one at least should be as high: some hours of any sea
TEN_CELLS = 10


def _seen(look: Look) -> Spectrum | None:
    """What waves the sea has at the shot's first frame; None if there is no sea."""
    settings = look.scene.sea
    if not settings.made:
        return None
    water = Water(pull_of(look.scene), settings.depth, TENSION if settings.ripples else 0.0)
    return Spectrum(settings, water, blow_at(settings, 0.0))


def no_waves(look: Look) -> list[Advice]:
    """A sea without wind or swell."""
    seen = _seen(look)
    if seen is None or seen.blows or any(one.height > 0 for one in look.scene.sea.swells):
        return []
    remedy = Remedy("Let 8 m/s blow", ("sea", "wind"), 8.0) if look.scene.sea.by == "wind" else None
    return [Advice("no wind blows and there is no swell", "sea.wind", "", "the sea is still", remedy)]


def waves_left_out(look: Look) -> list[Advice]:
    """Waves that are longer than the patch, or shorter than its cells."""
    seen = _seen(look)
    if seen is None:
        return []
    k, density = curve(seen)
    sets = look.scene.sea.sets
    total = float(np.trapezoid(density, k))
    if total <= 0:
        return []
    first, last = sets[0], sets[-1]
    long = float(np.trapezoid(np.where(k < 2 * np.pi / first.size, density, 0.0), k)) / total
    short = float(np.trapezoid(np.where(k >= holds(sets)[-1].high, density, 0.0), k)) / total
    longest = seen.longest()
    found = []
    if long > LEFT_OUT or first.size < 2 * longest:
        better = float(2 ** np.ceil(np.log2(LONG_ENOUGH * longest)))
        found.append(
            Advice(
                f"the patch is {first.size:.4g} m and the longest waves are {longest:.3g} m",
                "sea.sets[0].size",
                "",
                f"{max(long, 0.0):.0%} of their energy does not fit on it, and the rest goes in few directions",
                Remedy(f"Make it {better:g} m", ("sea", "sets", 0, "size"), better),
            )
        )
    cell = last.size / last.resolution
    if short > LEFT_OUT or cell > longest / TEN_CELLS:
        count = int(2 ** np.ceil(np.log2(TEN_CELLS * last.size / longest * 2)))
        remedy = None
        if last.resolution < count <= 4096:
            nth = len(sets) - 1
            remedy = Remedy(f"Use {count} points", ("sea", "sets", nth, "resolution"), count)
        found.append(
            Advice(
                f"the smallest patch has points {cell:.3g} m apart and the longest waves are {longest:.3g} m",
                f"sea.sets[{len(sets) - 1}].resolution",
                "",
                f"{short:.0%} of the energy is in waves that are too short for it; if metres were meant to be "
                "centimetres, everything is a hundred times too large",
                remedy,
            )
        )
    return found


def too_shallow(look: Look) -> list[Advice]:
    """Waves that would break on the bottom."""
    seen = _seen(look)
    if seen is None or look.scene.sea.depth is None:
        return []
    k, density = curve(seen)
    height = 4 * float(np.trapezoid(density, k)) ** 0.5
    if height < BREAKS * look.scene.sea.depth:
        return []
    return [
        Advice(
            f"waves are {height:.2g} m high in water {look.scene.sea.depth:.2g} m deep",
            "sea.depth",
            "",
            "they would break there; the sea shows them as if they did not. The spectrum TMA leaves them out",
            Remedy("Use TMA", ("sea", "spectrum"), "tma") if look.scene.sea.spectrum == "jonswap" else None,
        )
    ]


def unearthly_wind(look: Look) -> list[Advice]:
    """A wind that is likely given in another unit."""
    seen = _seen(look)
    if seen is None or look.scene.sea.by != "wind" or seen.blow.speed <= STORM:
        return []
    speed = seen.blow.speed
    return [
        Advice(
            f"a wind of {speed:.3g} m/s is more than a hurricane's",
            "sea.wind",
            "",
            "if it was meant in kilometres an hour or knots, waves are far too high",
            Remedy("Take it as km/h", ("sea", "wind"), round(speed / 3.6, 3)),
        )
    ]


def unlikely_hero(look: Look) -> list[Advice]:
    """A hero wave that such a sea hardly ever has, or that no sea can have."""
    seen = _seen(look)
    hero = look.scene.sea.hero
    if seen is None or hero is None:
        return []
    k, density = curve(seen)
    variance = float(np.trapezoid(density, k))
    if variance <= 0:
        return [Advice("there is a hero wave and no other wave", "sea.hero", "", "nothing can be raised to it")]
    found = []
    if hero.height**2 / (2 * variance) > np.log(LIKELY):
        most = (2 * variance * np.log(LIKELY)) ** 0.5
        found.append(
            Advice(
                f"a crest of {hero.height:.3g} m is one in {np.exp(min(hero.height**2 / (2 * variance), 60.0)):.1e} "
                "waves of this sea",
                "sea.hero.height",
                "",
                "it will look as if it came from elsewhere",
                Remedy(f"Make it {most:.2g} m", ("sea", "hero", "height"), round(most, 2)),
            )
        )
    if 2 * hero.height / seen.longest() > STEEPEST:
        found.append(
            Advice(
                f"a crest of {hero.height:.3g} m is too steep for waves of {seen.longest():.3g} m",
                "sea.hero.height",
                "",
                "such waves break before they are so high",
            )
        )
    return found
