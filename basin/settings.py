"""What a setting is: default, hard limits, slider range, unit, group and one sentence of meaning.

Every part of the scene declares its numbers once, with :func:`setting`. Validation, the JSON
schema, the TypeScript types, the settings panel and the manual's tables all come from that.
"""

from __future__ import annotations

import re
from functools import cached_property
from itertools import pairwise
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationInfo, field_validator, model_validator
from scipy.interpolate import PchipInterpolator

Vec3 = Annotated[tuple[float, float, float], Field(json_schema_extra={"zinc_vector": True})]


# the largest magnitude of a number by its unit, beyond which it is no liquid of this planet; and of others
LARGEST = {
    **{"m": 1e5, "mm": 1e8, "m/s": 1e4, "m/s2": 1e5, "s": 1e6, "1/s": 1e6, "deg": 1e6, "Pa s": 1e6, "kg/m3": 1e5},
    **{"l": 1e12, "l/s": 1e12, "pt": 1e4, "particles": 1e10},
}
LARGE, MOST = 1e6, 10_000  # of numbers without any of these units, of things in a list
LEAST = {"m": 1e-6, "mm": 1e-3, "s": 1e-6}  # of what must be above nothing; 1e-9 of others
LONGEST = 1000  # characters
NO_TEXT = re.compile("[\x00-\x1f\x7f\ud800-\udfff]")  # control characters, and halves of characters


class Part(BaseModel):
    """A group of settings. Unknown keys are refused, numbers are finite and possible, text can be written."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_default=True)

    @field_validator("*", mode="after")
    @classmethod
    def _possible_value(cls, value: Any, info: ValidationInfo) -> Any:
        field = cls.model_fields[info.field_name or ""]
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        told: Any = extra.get("zinc") or {}
        positive = any(getattr(limit, "gt", None) == 0 for limit in field.metadata)
        _check_possible(value, told.get("unit", ""), positive)
        return value


def _check_possible(value: Any, unit: str, positive: bool) -> None:
    """ValueError for a number, or numbers, beyond what is possible in a unit, and for text that cannot be written."""
    if isinstance(value, str):
        if len(value) > LONGEST or NO_TEXT.search(value):
            raise ValueError(f"text is at most {LONGEST} characters, and none of those that steer a terminal")
    elif isinstance(value, Curve):
        for key in value.keys:
            _check_possible(key.value, unit, positive)
    elif isinstance(value, tuple | list):
        if len(value) > MOST:
            raise ValueError(f"{len(value):,} of them; at most {MOST:,}")
        for one in value:
            _check_possible(one, unit, positive)
    elif isinstance(value, float | int) and not isinstance(value, bool):
        most = LARGEST.get(unit, LARGE)
        if abs(value) > most:
            raise ValueError(f"{value:.3g} {unit} is beyond what is possible; at most {most:g}".replace("  ", " "))
        if positive and value < LEAST.get(unit, 1e-9):
            raise ValueError(f"{value:.3g} {unit} is too little; at least {LEAST.get(unit, 1e-9):g}".replace("  ", " "))


def setting(
    default: Any = ...,
    *,
    meaning: str,
    unit: str = "",
    group: str = "",
    ge: float | None = None,
    gt: float | None = None,
    le: float | None = None,
    slider: tuple[float, float] | None = None,
    scale: Literal["linear", "log"] = "linear",
    keyed: bool = False,
    control: str | None = None,
    label: str | None = None,
    factory: Any = None,
    when: dict[str, list[str]] | None = None,
    cost: str = "",
) -> Any:
    """Declare one setting; the arguments are what the panel and the manual show.

    `cost` says what it costs in time, memory or disk; nothing for what costs nothing. `when` names settings beside it
    and the choices under which this one has an effect.
    """
    extra: dict[str, Any] = {"unit": unit, "group": group, "scale": scale}
    if slider is not None:
        extra["slider"] = list(slider)
    if keyed:
        extra["keyed"] = True
    if control:
        extra["control"] = control
    if when:
        extra["when"] = when
    if cost:
        extra["cost"] = cost
    limits: dict[str, Any] = {"ge": ge, "gt": gt, "le": le}
    values: dict[str, Any] = {"description": meaning, "json_schema_extra": {"zinc": extra}}
    if label:
        values["title"] = label
    values |= {k: v for k, v in limits.items() if v is not None}
    if factory is not None:
        return Field(default_factory=factory, **values)
    return Field(default, **values)


class Key(Part):
    """One key of a curve."""

    time: float = setting(..., unit="s", meaning="Shot seconds from the first frame.")
    value: float | Vec3
    segment: Literal["cubic", "linear", "step"] = Field(
        "cubic", description="How the curve goes on from this key to the next."
    )
    slope: float | Vec3 | None = Field(
        None, description="Change in a second at this key, beside its cubic segments; none is found so as not to swing."
    )

    @model_validator(mode="after")
    def _alike(self) -> Key:
        if self.slope is not None and isinstance(self.slope, tuple) != isinstance(self.value, tuple):
            raise ValueError("slope and value of a key must be both numbers or both vectors")
        return self


class Curve(Part):
    """A keyframed value: piecewise monotone cubic, linear or held, over shot seconds."""

    keys: list[Key] = Field(min_length=1)

    @model_validator(mode="after")
    def _ordered(self) -> Curve:
        times = [key.time for key in self.keys]
        if any(b <= a for a, b in pairwise(times)):
            raise ValueError("keys must be in the order of their times, each time once")
        if any(b - a < LEAST["s"] for a, b in pairwise(times)):
            raise ValueError(f"keys must be {LEAST['s']:g} s apart at least")
        if len({isinstance(key.value, tuple) for key in self.keys}) > 1:
            raise ValueError("keys must be all numbers or all vectors")
        return self

    @cached_property
    def segments(self) -> tuple[np.ndarray, np.ndarray]:
        """Break times (k,) and polynomial coefficients (k - 1, 4, d), highest power first."""
        times = np.array([key.time for key in self.keys])
        values = np.array([np.atleast_1d(key.value) for key in self.keys], dtype=float)
        if len(times) == 1:
            return times, np.zeros((0, 4, values.shape[1]))
        with np.errstate(over="ignore"):  # of slopes next to nothing, whose inverses are taken
            coefficients = np.moveaxis(PchipInterpolator(times, values, axis=0).c, 1, 0).copy()
        if any(key.slope is not None for key in self.keys):
            coefficients = _hermite(times, values, self._slopes(coefficients, times))
        for i, key in enumerate(self.keys[:-1]):
            if key.segment == "cubic":
                continue
            coefficients[i] = 0.0
            coefficients[i, 3] = values[i]
            if key.segment == "linear":
                coefficients[i, 2] = (values[i + 1] - values[i]) / (times[i + 1] - times[i])
        return times, coefficients

    def _slopes(self, found: np.ndarray, times: np.ndarray) -> np.ndarray:
        """Slopes (k, d) at the keys: those given, else those of the cubics that were found."""
        c3, c2, c1, _ = found[-1]
        step = times[-1] - times[-2]
        slopes = np.concatenate([found[:, 2], [(3 * c3 * step + 2 * c2) * step + c1]])
        for i, key in enumerate(self.keys):
            if key.slope is not None:
                slopes[i] = key.slope
        return np.asarray(slopes)

    def at(self, time: float) -> np.ndarray:
        """Value (d,) at a shot time; held before the first and after the last key."""
        times, coefficients = self.segments
        if time >= times[-1]:
            return np.atleast_1d(np.array(self.keys[-1].value, dtype=float))
        if time <= times[0]:
            return np.atleast_1d(np.array(self.keys[0].value, dtype=float))
        i = int(np.searchsorted(times, time, side="right") - 1)
        s = time - times[i]
        c3, c2, c1, c0 = coefficients[i]
        return np.asarray(((c3 * s + c2) * s + c1) * s + c0)

    def rate(self, time: float) -> np.ndarray:
        """Change (d,) of the value per shot second: at a key the mean of both sides, at an end that of its one side."""
        times, coefficients = self.segments
        if len(times) == 1 or not times[0] <= time <= times[-1]:
            return np.zeros(len(np.atleast_1d(self.keys[0].value)))
        after = min(int(np.searchsorted(times, time, side="right") - 1), len(coefficients) - 1)
        before = max(int(np.searchsorted(times, time, side="left") - 1), 0)
        found = []
        for i in (before, after):
            s = time - times[i]
            c3, c2, c1, _ = coefficients[i]
            found.append((3 * c3 * s + 2 * c2) * s + c1)
        return np.asarray(0.5 * (found[0] + found[1]))

    def over(self, start: float, end: float) -> list[Any]:
        """What the curve does on [start, end], for hashing: breaks and coefficients touched."""
        times, coefficients = self.segments
        touched: list[Any] = []
        for i in range(len(coefficients)):
            if times[i] < end and times[i + 1] > start and np.any(coefficients[i][:3]):
                touched.append([float(times[i]), coefficients[i].round(12).tolist()])
        return [touched, self.at(start).round(12).tolist(), self.at(end).round(12).tolist()]


def _hermite(times: np.ndarray, values: np.ndarray, slopes: np.ndarray) -> np.ndarray:
    """Coefficients (k - 1, 4, d), highest power first, of cubics with values and slopes (k, d) at their ends."""
    step = np.diff(times)[:, None]
    chord = np.diff(values, axis=0) / step
    return np.stack(
        [
            (slopes[:-1] + slopes[1:] - 2 * chord) / step**2,
            (3 * chord - 2 * slopes[:-1] - slopes[1:]) / step,
            slopes[:-1],
            values[:-1],
        ],
        axis=1,
    )


def value_at(value: float | tuple[float, ...] | Curve, time: float) -> np.ndarray:
    """A plain value or a curve, evaluated at a shot time; always an array (d,)."""
    if isinstance(value, Curve):
        return value.at(time)
    return np.atleast_1d(np.array(value, dtype=float))


def rate_at(value: float | tuple[float, ...] | Curve, time: float) -> np.ndarray:
    """Change per shot second of a plain value or a curve; always an array (d,)."""
    if isinstance(value, Curve):
        return value.rate(time)
    return np.zeros(len(np.atleast_1d(value)))


def on_spans(value: float | Curve) -> list[tuple[float, float]]:
    """Shot seconds from and until which a switch is at 0.5 or more, in order; infinite where it stays so."""
    if not isinstance(value, Curve):
        return [(-np.inf, np.inf)] if value >= 0.5 else []
    times, coefficients = value.segments
    breaks = [float(t) for t in times]
    for time, cubic in zip(times[:-1], coefficients, strict=True):
        span = times[np.searchsorted(times, time, side="right")] - time
        roots = np.roots(cubic[:, 0] - np.array([0, 0, 0, 0.5]))
        breaks += [float(time + r.real) for r in roots if abs(r.imag) < 1e-9 and 0 < r.real < span]
    edges = [-np.inf, *sorted(set(breaks)), np.inf]
    spans: list[tuple[float, float]] = []
    for a, b in pairwise(edges):
        middle = b - 1.0 if np.isinf(a) else (a + 1.0 if np.isinf(b) else 0.5 * (a + b))
        if value.at(middle)[0] < 0.5:
            continue
        if spans and spans[-1][1] == a:
            spans[-1] = (spans[-1][0], b)
        else:
            spans.append((a, b))
    return spans


def value_over(value: float | tuple[float, ...] | Curve, start: float, end: float) -> Any:
    """The part of a value that frames over [start, end] depend on, ready for hashing."""
    if isinstance(value, Curve):
        return value.over(start, end)
    constant = np.atleast_1d(np.array(value, dtype=float)).round(12).tolist()
    return [[], constant, constant]
