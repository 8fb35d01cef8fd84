"""The distortion of a series by a field that is off resonance, undone."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ..core.caveat import FIELD_DOUBTFUL, Caveat
from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.overlap import require_one_world
from ..core.parameter import Between, Unit
from ..core.progress import Progress, silent
from ..core.resampling import resampled
from ..core.rigid import moved_by
from ..core.table import Column, Table
from ..formats.sidecar import number_of, with_facts
from .echo_lines import Lines, lines_of
from .field_map import RADIANS, TURN
from .line_shift import shifted, shifted_back
from .mean_volume import mean_volume
from .rigid_search import found_movement
from .smooth_field import head_mask

ROUNDS = 2
"""How often the field map is lined up; each time it is distorted by what was found before."""
FAR_SHIFT, FAR_TURN = 0.25, 20.0
"""Share of the image's extent, and degrees: a movement beyond these is a mistake."""
COVERED = 0.9
"""Share of the head that the map has to cover."""
BETTER = 0.02
"""By how much the similarity has to grow before it tells something."""


class Undistorted(NamedTuple):
    """The series, how far its voxels had been shifted, the signal that the field leaves, and what was found."""

    image: Image
    shift: Image
    signal: Image
    report: Table


@operation(
    "prepare",
    "Undistort",
    name="undistort",
    keywords="field map epi distortion unwarp susceptibility echo planar shift b0 geometric",
    takes="series",
    group="Field maps",
    reach=math.inf,
)
def undistort(
    image: Image,
    field: Image,
    magnitude: Image | None = None,
    *,
    echo_spacing: Annotated[float, Unit("s"), Between(0, 1e6)] = 0.0,
    direction: str = "",
    acceleration: Annotated[float, Between(1, 64)] = 1.0,
    signal: bool = True,
    line_up: bool = True,
    how: Literal["linear", "cubic"] = "cubic",
    progress: Progress = silent(),
) -> Undistorted:
    """Undo what a field off resonance does to a series whose lines are read in one go: every voxel is shifted along
    them in proportion to the field (P. Jezzard and R. S. Balaban, Magn. Reson. Med. 34, 1995).

    What lies at f Hz is shifted by f times the echo spacing times the number of lines, in voxels, towards `direction`.

    Parameters
    ----------
    field : image
        In rad/s or Hz, from “Field map”. Any grid in the same world.
    magnitude : image
        Of the field map: it is distorted as the series is and lined up with it, and the map goes with it; it also tells
        whether the result lies better.
    echo_spacing : s
        Between the echoes of neighbouring lines. What counts is the effective one: with parallel acceleration the
        echoes' own spacing divided by the factor. From the sidecar when 0: EffectiveEchoSpacing, TotalReadoutTime, or
        the bandwidth of a pixel.
    direction : text
        Axis of the image along which lines were read, with a sign: i, i-, j, j-, k, k-. From the sidecar when empty.
    acceleration : number
        The echo spacing given is divided by it.
    signal : bool
        Whether signal that was piled up or drawn out is set right too.
    line_up : bool
        Whether the map is lined up with the series first, by its magnitude.
    how : text
        Along the lines.

    Returns
    -------
    image : Image
        float32; what had been shifted out of the image has no value.
    shift : Image
        By how many voxels each place had been shifted along the lines.
    signal : Image
        Share of the signal that the field leaves at the echo time, from how it changes across a voxel (J. R.
        Reichenbach et al., J. Magn. Reson. Imaging 7, 1997).
    report : Table
        Echo spacing and where it comes from, largest shift in voxels and mm, how the map was moved, and how much the
        result resembles the magnitude, before, after, and with the other sign.

    Raises
    ------
    Trouble
        When echo spacing or direction are not known or cannot be, the field has another unit, or map and series do not
        lie together.
    """
    if len(image.axes) > 1:
        raise Trouble(f"“{image.name}” has more than one axis besides space", "keep one place along it first")
    if field.axes or (magnitude is not None and magnitude.axes and magnitude.axes[0].name not in ("echo", "time")):
        raise Trouble(f"“{field.name}” is a series, and one volume is wanted", "choose one, as in name@1")
    hertz = _hertz(field)
    lines = lines_of(image, echo_spacing, direction, acceleration)
    for other in (field, magnitude):
        if other is not None:
            require_one_world(image, other)
    mean = _mean(image, progress.part(0.0, 0.2))
    seen = None if magnitude is None else _mean(magnitude, progress.part(0.2, 0.22))
    if magnitude is not None and not magnitude.space.same_grid(field.space):
        raise Trouble(f"“{magnitude.name}” lies on another grid than “{field.name}”", "choose the one of the field map")
    fit = _Fit(mean, image, hertz, seen, field)
    moved = np.eye(4)
    if seen is not None and line_up:
        for n in range(ROUNDS):
            moved = fit.lined_up(lines, moved, progress.part(0.22 + 0.3 * n, 0.52 + 0.3 * n))
    rows, doubts = [("echo spacing", 1000 * lines.spacing, "ms"), ("taken from", lines.source, "")], []
    rows += [("direction", lines.words, ""), ("all lines", 1000 * lines.spacing * lines.count, "ms")]
    found, covered = fit.field_at(moved)
    if covered < COVERED:
        doubts.append(f"The field map covers {100 * covered:.0f} % of what is seen in the series")
    shift = found * np.float32(lines.voxels_a_hz)
    far, size = float(np.abs(shift[fit.head]).max()) if fit.head.any() else 0.0, image.space.spacing[lines.axis]
    rows += [("largest shift", far, "voxels"), ("largest shift", far * size, "mm")]
    if far > image.space.shape[lines.axis] / 2:
        raise Trouble(f"Voxels would be shifted by up to {far:.3g}", "check the unit of the field and the echo spacing")
    if seen is not None:
        six = moved_by(moved, image.space.centre)
        rows += [(f"map moved along {a}", float(v), "mm") for a, v in zip("xyz", six[:3])]
        rows += [(f"map turned about {a}", float(np.degrees(v)), "°") for a, v in zip("xyz", six[3:])]
        before, after, turned = fit.resemblance(lines, moved)
        rows += [("resemblance before", before, ""), ("after", after, ""), ("with the other sign", turned, "")]
        if turned > after + BETTER * max(after, 0.1):
            doubts.append("The other direction makes the series resemble the magnitude more: its sign may be wrong")
        elif after < before - BETTER * max(before, 0.1):
            doubts.append("The series resembles the magnitude less than before: check direction and echo spacing")
    caveats = [*image.caveats, *(Caveat(FIELD_DOUBTFUL, d) for d in doubts)]
    rows += [("doubt", d, "") for d in doubts]
    facts = with_facts(
        image,
        PhaseEncodingDirection=None,
        PhaseEncodingAxis=None,
        EffectiveEchoSpacing=None,
        TotalReadoutTime=None,
        BandwidthPerPixelPhaseEncode=None,
    )

    def straight(values: np.ndarray, progress: Progress) -> np.ndarray:
        progress.at(0.5, "Undistorting")
        return shifted_back(values, shift, lines.axis, signal, how)

    name = f"{image.name}, undistorted"
    if image.axes:
        made = image.like(
            lambda index, progress: straight(image.frame(index).fetch(progress).T, progress).T,
            name=name,
            facts=facts,
            caveats=caveats,
        )
    else:
        made = image.like(straight(image.kji, progress.part(0.9, 1.0)).T, name=name, facts=facts, caveats=caveats)
    echo = number_of(image, "EchoTime") or 0.0
    kept = signal_left(found, image.space.spacing, echo)
    rows.append(("echo time", 1000 * echo if echo else None, "ms"))
    plain: dict = {"axes": (), "facts": {}}
    columns = [Column("what"), Column("value", digits=3), Column("unit")]
    return Undistorted(
        made,
        image.like(shift.T, name=f"{image.name}, shift", unit="voxels", **plain),
        image.like(kept.T, name=f"{image.name}, signal left", unit="", **plain),
        Table(f"Undistortion of {image.name}", columns, rows),
    )


@dataclass
class _Fit:
    """A series (its mean), a field and its magnitude, and how well they go together."""

    mean: np.ndarray
    series: Image
    hertz: np.ndarray
    seen: np.ndarray | None
    field: Image

    def __post_init__(self):
        self.head = head_mask(self.mean)

    def brought(self, values: np.ndarray, moved: np.ndarray, outside: float = np.nan) -> np.ndarray:
        """Something on the map's grid, on that of the series."""
        space = self.series.space
        return resampled(values, (self.field.space.inverse @ moved @ space.affine)[:3], space.shape, "linear", outside)

    def field_at(self, moved: np.ndarray) -> tuple[np.ndarray, float]:
        """The field at the voxels of the series, carried on where the map ends, and the share of what is seen there
        that it covers."""
        from scipy import ndimage

        found = self.brought(self.hertz, moved)
        there = np.isfinite(found)
        covered = float(there[self.head].mean()) if self.head.any() else float(there.mean())
        if not there.any() or covered < 0.05:
            raise Trouble(
                f"“{self.field.name}” does not lie where “{self.series.name}” does", "place it first, or choose another"
            )
        if not there.all():
            near = ndimage.distance_transform_edt(
                ~there, sampling=self.series.space.spacing[::-1], return_distances=False, return_indices=True
            )
            found = found[tuple(near)]
        return found, covered

    def lined_up(self, lines: Lines, moved: np.ndarray, progress: Progress) -> np.ndarray:
        """The movement of the map's magnitude, distorted as the series is, onto the series; as it was when what is
        found is too far to be true."""
        from scipy import ndimage

        assert self.seen is not None
        space = self.series.space
        if min(space.shape) < 4:
            return moved
        shift = self.field_at(moved)[0] * np.float32(lines.voxels_a_hz)
        bent = shifted(self.brought(self.seen, moved, 0.0), shift, lines.axis)
        inside = ndimage.binary_dilation(self.head, iterations=2)
        step = found_movement(self.mean, space, bent, space, inside, progress)
        six = moved_by(step, space.centre)
        extent = max(s * n for s, n in zip(space.spacing, space.shape))
        if np.abs(six[:3]).max() > FAR_SHIFT * extent or np.degrees(np.abs(six[3:])).max() > FAR_TURN:
            return moved
        return moved @ step

    def resemblance(self, lines: Lines, moved: np.ndarray) -> tuple[float, float, float]:
        """Mutual information of magnitude and series: as it is, undistorted, and undistorted with the other sign."""
        assert self.seen is not None
        found, _ = self.field_at(moved)
        magnitude = self.brought(self.seen, moved)
        inside = head_mask(np.nan_to_num(magnitude)) & np.isfinite(magnitude)
        results = []
        for sign in (0, 1, -1):
            shift = found * np.float32(sign * lines.voxels_a_hz)
            values = shifted_back(self.mean, shift, lines.axis, sign != 0) if sign else self.mean
            here = inside & np.isfinite(values)
            results.append(mutual_information(values[here], magnitude[here]))
        return results[0], results[1], results[2]


def mutual_information(one: np.ndarray, other: np.ndarray, bins: int = 32) -> float:
    """Of the values of two images at the same places, over the mean of both entropies: 0 to 1 (C. Studholme et al.,
    Pattern Recognit. 32, 1999)."""
    if one.size < bins:
        return 0.0
    joint, _, _ = np.histogram2d(_ranked(one, bins), _ranked(other, bins), bins=bins)
    joint /= joint.sum()
    a, b = joint.sum(1), joint.sum(0)

    def entropy(p: np.ndarray) -> float:
        p = p[p > 0]
        return float(-(p * np.log(p)).sum())

    both = entropy(a) + entropy(b)
    return 2 * (both - entropy(joint.ravel())) / both if both > 0 else 0.0


def _ranked(values: np.ndarray, bins: int) -> np.ndarray:
    """Values in steps between their 1st and 99th percentile, so that a few bright ones do not take all steps."""
    low, high = np.percentile(values, (1, 99))
    return np.clip((values - low) / max(high - low, 1e-30), 0, 1)


def signal_left(hertz: np.ndarray, spacing, echo: float) -> np.ndarray:
    """Share of the signal that is left at the echo when the field changes evenly across each voxel: a sinc of the turns
    between its faces, along each axis; 1 without an echo time. float32 [k, j, i]."""
    left = np.ones(hertz.shape, np.float32)
    for axis, n in enumerate(hertz.shape):
        if n > 1 and echo > 0:
            left *= np.abs(np.sinc(np.gradient(hertz, axis=axis) * echo)).astype(np.float32)
    return left


def _hertz(field: Image) -> np.ndarray:
    plain = field.unit.replace(" ", "").lower()
    if plain not in (RADIANS, "hz"):
        raise Trouble(
            f"“{field.name}” is in {field.unit or 'no unit'}, and a field in rad/s or Hz is wanted",
            "make it with “Field map”, which also takes a map whose unit is given",
        )
    values = field.kji.astype(np.float32)
    if not np.isfinite(values).any():
        raise Trouble(f"“{field.name}” has no values", "choose another")
    return values / np.float32(TURN) if plain == RADIANS else values


def _mean(image: Image, progress: Progress) -> np.ndarray:
    total = mean_volume(image, progress)
    if total.min() == total.max():
        raise Trouble(f"“{image.name}” holds one value only", "choose another image")
    return total
