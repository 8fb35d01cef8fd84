"""Put the slices of a series in order: along the stack, and volume by volume when there are several at each place."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np

from ...core.axis import Axis
from ...core.caveat import (
    CUT_SHORT,
    NOTED,
    SIDES_UNKNOWN,
    SLICES_DOUBLED,
    SLICES_MISSING,
    SLICES_UNEVEN,
    without_caveats,
)
from ..series import Series
from .header import Slice
from .sideways import SIDEWAYS, note_sideways
from .times import Clock, volume_time


def arrange(series: Series) -> None:
    """Fill in the order, the axes, the step and the problems of a series whose slices are of one kind."""
    slices = series.slices
    if cut := [s for s in slices if s.cut_short]:
        names = ", ".join(s.path.name for s in cut[:3])
        series.doubt(CUT_SHORT, f"{_count(len(cut), 'file is', 'files are')} cut short: {names}")
    if slices[0].orientation is None:
        _without_positions(series)
        return
    normal = np.cross(*slices[0].orientation)
    slices.sort(key=lambda s: (float(s.position @ normal), str(s.path), s.frame))
    stacks: list[list[Slice]] = []
    at = -np.inf
    for s in slices:
        along = float(s.position @ normal)
        if along - at > max(1e-3 * _pixel(s), 1e-4):
            stacks.append([])
            at = along
        stacks[-1].append(s)
    _drop_copies(series, stacks)
    columns = _split_places(series, stacks) or _volumes(series, stacks)
    places = np.array([float(c[0].position @ normal) for c in stacks])
    series.step = _step(series, places)
    index = _whole_places(series, places)
    depth = int(index[-1]) + 1
    series.grid = [[None] * depth for _ in range(max(1, len(columns[0])))]
    for place, column in zip(index, columns):
        for t, one in enumerate(column):
            series.grid[t][int(place)] = one
    series.slices = [s for volume in series.grid for s in volume if s is not None]
    series.missing = [k for k in range(depth) if any(volume[k] is None for volume in series.grid)]
    if series.missing:
        at_places = ", ".join(str(n + 1) for n in series.missing[:5]) + (" …" if len(series.missing) > 5 else "")
        several = f" in some of the {len(series.grid)} volumes" if len(series.grid) > 1 else ""
        count = _count(len(series.missing), "slice is", "slices are")
        series.doubt(SLICES_MISSING, f"{count} missing in the stack{several}, at place {at_places} of {depth}")
    note_sideways(series)
    volume = [s for s in series.grid[0] if s is not None and SIDEWAYS not in s.header]
    shift: np.ndarray = volume[-1].position - volume[0].position if len(volume) > 1 else np.zeros(3)
    if (
        np.linalg.norm(shift - (shift @ normal) * normal) > 0.02 * max(float(np.linalg.norm(shift)), 1e-9)
        and np.linalg.norm(shift) > 0
    ):
        series.doubt(NOTED, "The stack leans (tilted gantry); the volume keeps the lean in its position matrix")
    for t, later in enumerate(series.grid):
        own = [s for s in later if s is not None]
        there = series.grid[0][later.index(own[0])] if t and own else None
        if there is not None and np.linalg.norm(own[0].position - there.position) > 0.5 * _pixel(own[0]):
            series.doubt(NOTED, f"Volume {t + 1} of the series lies sideways of the first")
            break


def _drop_copies(series: Series, stacks: list[list[Slice]]) -> None:
    """Leave out files that are copies of another one: the same object at the same place."""
    for column in stacks:
        seen = {}
        for s in list(column):
            key = (str(s.get("SOPInstanceUID")), s.frame, s.tile)
            if key[0] and key in seen:
                column.remove(s)
                series.doubled.append(s)
            seen[key] = s
    if series.doubled:
        _say_doubled(series)


def _say_doubled(series: Series) -> None:
    n = len(series.doubled)
    series.doubt(
        SLICES_DOUBLED,
        f"{_count(n, 'slice stands', 'slices stand')} at the same place as another: "
        + ", ".join(s.path.name for s in series.doubled[:3])
        + (" …" if n > 3 else ""),
    )


def _split_places(series: Series, stacks: list[list[Slice]]) -> list[list[Slice | None]] | None:
    """Volumes along axes that the frames themselves name (detector, time slot …)."""
    names = sorted({name for column in stacks for s in column for name in s.places})
    if not names:
        return None
    axes, wanted = _axes_of([s for column in stacks for s in column], names)
    if not axes:
        return None
    columns = []
    for column in stacks:
        at = {tuple(s.places.get(name) for name in names): s for s in column}
        columns.append([at.get(place) for place in wanted])
    series.axes = axes
    return columns


def _axes_of(slices: list[Slice], names: list[str]) -> tuple[list[Axis], list[tuple]]:
    """Axes for the named places of frames, and every combination of them, the first axis running fastest."""
    kept, values = [], []
    for name in names:
        found: list = sorted({s.places.get(name) for s in slices})
        values.append(found)
        if len(found) > 1:
            kept.append((name, found))
    axes = []
    for name, found in kept:
        if name == "time":
            axes.append(Axis("time", len(found), "s", tuple(float(v) for v in found)))
        elif name == "detector":
            words: dict = {}
            for s in slices:
                words |= s.header.get("Detectors", {})
            labels = tuple(words.get(int(v)) or f"detector {int(v)}" for v in found)
            axes.append(Axis("detector", len(found), labels=labels))
        else:
            axes.append(Axis(name, len(found), labels=tuple(f"{v:g}" for v in found)))
    wanted: list[tuple] = [()]
    for found in reversed(values):
        wanted = [(v, *rest) for rest in wanted for v in found]
    return axes, wanted


def _volumes(series: Series, stacks: list[list[Slice]]) -> list[list[Slice | None]]:
    """Slices at one place that differ in time, in b-value or the like become volumes; true doubles are left out."""
    most = max(len(column) for column in stacks)
    if most == 1:
        return [list(column) for column in stacks]
    usual = Counter(len(column) for column in stacks).most_common(1)[0][0]
    if usual > 1 or len(stacks) == 1:
        for name, unit, value in DISTINCTIONS:
            columns = _by_value(stacks, value)
            if columns:
                series.axes = [_axis(series, name, unit, columns, value)]
                return columns
        crossed = _crossed(series, stacks)
        if crossed is not None:
            return crossed
        clock = Clock(s for column in stacks for s in column)
        # what at least orders them at each place
        for name, value in (("time", clock.acquired), ("time", clock.content), ("volume", _number("InstanceNumber"))):
            if all(len(column) == most for column in stacks):
                keys = [[value(s) for s in column] for column in stacks]
                if all(None not in k and len(set(k)) == most for k in keys):
                    order: Any = value
                    columns = [sorted(column, key=order) for column in stacks]
                    _say_over_midnight(series, clock)
                    series.axes = [_axis(series, name, "s" if name == "time" else "", columns, value)]
                    return columns
    for column in stacks:
        series.doubled += column[1:]
        del column[1:]
    series.caveats = without_caveats(series.caveats, SLICES_DOUBLED)
    _say_doubled(series)
    return [list(column) for column in stacks]


def _crossed(series: Series, stacks) -> list[list[Slice | None]] | None:
    """Slices of each place that two things tell apart together, such as several echoes at several times: every
    combination has to be there. None when there are none."""
    for first, *others in (DISTINCTIONS[n:] for n in range(len(DISTINCTIONS) - 1)):
        for second in others:
            if first[0] == second[0]:
                continue
            columns: Any = _by_value(stacks, lambda s, a=first[2], b=second[2]: _both(b(s), a(s)))
            if not columns or None in columns[0]:
                continue
            fast = len({first[2](s) for s in columns[0]})
            if fast < 2 or len(columns[0]) % fast or fast == len(columns[0]):
                continue
            places = [[first[2](s) for s in columns[0][n : n + fast]] for n in range(0, len(columns[0]), fast)]
            if any(one != places[0] for one in places):
                continue
            series.axes = [
                _axis(series, first[0], first[1], [column[:fast] for column in columns], first[2]),
                _axis(series, second[0], second[1], [column[::fast] for column in columns], second[2]),
            ]
            return columns
    return None


def _both(slow, fast):
    return None if slow is None or fast is None else (slow, fast)


def _by_value(stacks, value) -> list[list[Slice | None]] | None:
    """Slices of each place by the value they have, None where a place lacks one; None when the values do not tell them
    apart."""
    union = sorted({v for column in stacks for v in map(value, column) if v is not None})
    if len(union) < 2 or len(union) > 2 * max(len(c) for c in stacks):
        return None
    columns = []
    for column in stacks:
        at = {value(s): s for s in column}
        if None in at or len(at) != len(column):
            return None
        columns.append([at.get(v) for v in union])
    return columns


def _number(name: str):
    return lambda s: None if s.header.get(name) in (None, "", []) else s.number(name)


def _gradient(s: Slice):
    b = s.header.get("DiffusionBValue")
    if b is None:
        return None
    direction = s.header.get("DiffusionGradientOrientation")
    direction = tuple(np.round(direction, 4)) if isinstance(direction, list) else ()
    return (s.number("AcquisitionNumber"), float(b), direction)  # in the order they were taken in, where that is said


DISTINCTIONS = (
    ("time", "s", _number("TemporalPositionIdentifier")),
    ("direction", "", _gradient),
    ("phase", "ms", _number("TriggerTime")),
    ("echo", "ms", _number("EchoTime")),
    ("segment", "", _number("SegmentNumber")),
    ("time", "s", _number("AcquisitionNumber")),
)
"""What tells volumes apart: the same few values at every place."""


def _say_over_midnight(series: Series, clock: Clock) -> None:
    said = "Its times go over midnight without dates; later ones count for the next day"
    if clock.over_midnight and said not in [c.sentence for c in series.caveats]:
        series.doubt(NOTED, said)


def _axis(series: Series, name: str, unit: str, columns, value) -> Axis:
    size = len(columns[0])
    one = next((c for c in columns if None not in c), None)
    if one is None:
        return Axis(name, size)
    if name == "time":
        clock = Clock(s for column in columns for s in column if s is not None)
        times = [clock.acquired(s) for s in one]
        known = [t for t in times if t is not None]
        if len(known) == len(times) and len(set(times)) == size:
            _say_over_midnight(series, clock)
            return Axis("time", size, "s", tuple(round((t - known[0]) * 1e-6, 6) for t in known))
        step = volume_time(one[0])
        if step is None and one[0].number("RepetitionTime") > 0:
            said = f"The repetition time of {one[0].number('RepetitionTime'):g} ms is not that of a volume"
            series.doubt(NOTED, f"{said}, so the time from volume to volume is not known")
        return Axis.even("time", size, step, "s")
    if name == "direction":
        return Axis(name, size, labels=tuple(f"b {s.number('DiffusionBValue'):g}" for s in one))
    values = tuple(float(value(s)) for s in one)
    return Axis(name, size, unit, values if unit else (), () if unit else tuple(f"{v:g}" for v in values))


def _step(series: Series, places: np.ndarray) -> float:
    gaps = np.diff(places)
    if gaps.size:
        return float(np.median(gaps))
    first = series.first
    return first.number("SpacingBetweenSlices") or first.number("SliceThickness") or 1.0


def _whole_places(series: Series, places: np.ndarray) -> np.ndarray:
    """Places along the stack as whole steps from the first; a problem is noted when they are not whole."""
    gaps = np.diff(places)
    if not gaps.size:
        return np.zeros(1, int)
    steps = gaps / series.step
    if np.any(np.abs(steps - np.round(steps)) > 0.02) or np.round(steps).sum() > 50 * len(places):
        series.doubt(
            SLICES_UNEVEN, f"The slices are unevenly spaced, from {gaps.min():.4g} to {gaps.max():.4g} mm apart"
        )
        return np.arange(len(places))
    return np.concatenate(([0], np.cumsum(np.round(steps)))).astype(int)


def _without_positions(series: Series) -> None:
    """Pictures that do not say where they lie: frames along their own axes, or files one after another."""
    slices = series.slices
    slices.sort(key=lambda s: (s.number("InstanceNumber"), str(s.path), s.frame))
    series.step = slices[0].number("SliceThickness") or 1.0
    names = sorted({name for s in slices for name in s.places})
    if names:
        series.axes, wanted = _axes_of(slices, names)
        at = {tuple(s.places.get(name) for name in names): s for s in slices}
        if len(at) < len(slices):
            series.doubt(
                NOTED,
                "Several frames claim the same place along the file's own axes; they are kept in the order of the file",
            )
            series.axes, series.grid = [Axis("frame", len(slices))], [[s] for s in slices]
            return
        series.grid = [[at.get(place)] for place in wanted]
        if any(volume[0] is None for volume in series.grid):
            series.missing = [0]
            series.doubt(SLICES_MISSING, "Some frames are missing along the file's own axes")
        series.slices = [v[0] for v in series.grid if v[0] is not None]
        return
    if len(slices) > 1 and len({s.path for s in slices}) == 1:
        series.axes, series.grid = [Axis("frame", len(slices))], [[s] for s in slices]
        said = "The file does not say where its frames lie, so they are pictures one after another, without sides"
        series.doubt(SIDES_UNKNOWN, said)
    elif len(slices) > 1:
        slices.sort(key=lambda s: str(s.path))
        series.grid = [list(slices)]
        series.doubt(SIDES_UNKNOWN, "The files do not say where their slices lie, so position and sides are unknown")
    else:
        series.grid = [list(slices)]
        if series.modality in ("CT", "MR", "PT"):
            series.doubt(
                SIDES_UNKNOWN, "The files do not say where their slices lie, so position and sides are unknown"
            )


def _pixel(s: Slice) -> float:
    spacing = s.get("PixelSpacing", None)
    return min(float(v) for v in spacing) if isinstance(spacing, list) and spacing and min(spacing) > 0 else 1.0


def _count(n: int, one: str, many: str) -> str:
    return f"1 {one}" if n == 1 else f"{n} {many}"
