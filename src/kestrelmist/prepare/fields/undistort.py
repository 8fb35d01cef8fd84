"""The distortion of a series by a field that is off resonance, undone."""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.caveat import FIELD_DOUBTFUL, Caveat
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut, Suits
from ...core.mean_volume import mean_volume
from ...core.off_resonance import hertz_of, is_field
from ...core.operation import operation
from ...core.overlap import require_one_world
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.rigid import moved_by
from ...core.table import Column, Table
from ...formats.echo_lines import Lines, found_direction, found_spacing, lines_of
from ...formats.sidecar import number_of, with_facts
from .field_fit import FieldFit
from .line_shift import shifted_back

ROUNDS = 2
"""How often the field map is lined up; each time it is distorted by what was found before."""
COVERED = 0.9
"""Share of the head that the map has to cover."""
BETTER = 0.02
"""By how much the similarity has to grow before it tells something."""
ELSEWHERE = 1.0
"""Voxels by which the map may lie elsewhere along the lines before its constant is doubted; heads move, too."""
UNSEEN = 2.0
"""Voxels that the constant may shift by before it is doubted where no magnitude tells of it."""


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
    version=2,
    keywords="distortion correction field map epi distortion unwarp susceptibility echo planar shift b0 geometric",
    takes="series",
    group="Field maps",
    reach=math.inf,
    called={
        "field": "Field map",
        "direction": "Read along",
        "signal": "Set signal right",
        "line_up": "Line map up",
        "constant": "Constant part",
        "how": "Interpolation",
    },
    rare="acceleration signal constant how",
    made_by={"field": "field-map"},
    methods="Distortion by the field off resonance was undone by shifting voxels along the phase-encoding direction",
    cites=(
        "Jezzard 1995",
        "Reichenbach 1997",
    ),
)
def undistort(
    image: Image,
    field: Annotated[Image, Suits("a field map in Hz or rad/s", is_field)],
    magnitude: Image | None = None,
    *,
    echo_spacing: Annotated[
        float | None, Unit("s"), Between(0, 1e6), LeftOut("from the sidecar", found_spacing, 0.0)
    ] = (None),
    direction: Annotated[str | None, LeftOut("from the sidecar", found_direction, "")] = None,
    acceleration: Annotated[float, Between(1, 64)] = 1.0,
    signal: bool = True,
    line_up: bool = True,
    constant: Literal["keep", "find"] = "keep",
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
        echoes' own spacing divided by the factor. From the sidecar when left out: EffectiveEchoSpacing,
        TotalReadoutTime, or the bandwidth of a pixel.
    direction : text
        Axis of the image along which lines were read, with a sign: i, i-, j, j-, k, k-. From the sidecar when left out.
    acceleration : number
        The echo spacing given is divided by it.
    signal : bool
        Whether signal that was piled up or drawn out is set right too.
    line_up : bool
        Whether the map is lined up with the series first, by its magnitude.
    constant : text
        What the field has everywhere alike shifts all by as much, and depends on the frequency that the scanner was
        set to for each scan: as the map has it (keep), or so that series and magnitude lie at one place along the
        lines (find), when the head did not move between the two.
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
        Echo spacing and where it comes from, largest shift in voxels and mm, the field's constant, how the map was
        moved, and how much the series resembles the magnitude as it is, distorted by the field, and distorted with
        the other sign.

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
    hertz = hertz_of(field)
    lines = lines_of(image, echo_spacing or 0.0, direction or "", acceleration)
    for other in (field, magnitude):
        if other is not None:
            require_one_world(image, other)
    mean = _mean(image, progress.part(0.0, 0.2))
    seen = None if magnitude is None else _mean(magnitude, progress.part(0.2, 0.22))
    if magnitude is not None and not magnitude.space.same_grid(field.space):
        raise Trouble(f"“{magnitude.name}” lies on another grid than “{field.name}”", "choose the one of the field map")
    if constant == "find" and (seen is None or not line_up):
        raise Trouble("Its magnitude tells the field's constant", "choose that, and let it be lined up")
    fit = FieldFit(mean, image, hertz, seen, field)
    moved, taken = np.eye(4), 0.0
    if seen is not None and line_up:
        for n in range(ROUNDS):
            moved = fit.lined_up(lines, moved, progress.part(0.22 + 0.2 * n, 0.42 + 0.2 * n))
            if constant == "find":
                more = fit.excess(lines, moved) / lines.voxels_a_hz
                moved, taken, fit.hertz = fit.without(lines, moved), taken + more, fit.hertz - np.float32(more)
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
    of_constant = fit.constant(found)
    rows += [("constant of the field", of_constant, "Hz"), ("which shifts by", _mm(of_constant, lines, image), "mm")]
    if seen is not None:
        if constant == "find":
            rows += [("constant taken off", taken, "Hz"), ("which shifted by", _mm(taken, lines, image), "mm")]
        six = moved_by(moved, image.space.centre)
        rows += [(f"map moved along {a}", float(v), "mm") for a, v in zip("xyz", six[:3])]
        rows += [(f"map turned about {a}", float(np.degrees(v)), "°") for a, v in zip("xyz", six[3:])]
        as_it_is = fit.lined_up(lines, np.eye(4), progress.part(0.62, 0.82), 0) if line_up else moved
        before, after, turned = fit.resemblance(lines, moved, as_it_is)
        rows += [("resemblance of the magnitude as it is", before, ""), ("distorted by the field", after, "")]
        rows.append(("with the other sign", turned, ""))
        doubts += _doubts_of(before, after, turned)
        doubts += _elsewhere(fit.excess(lines, moved), lines, image)
    elif abs(of_constant * lines.voxels_a_hz) > UNSEEN:
        doubts.append(
            f"The field is {of_constant:.3g} Hz in the middle, which shifts all by "
            f"{_mm(of_constant, lines, image):.3g} mm: give its magnitude, which tells whether that is so"
        )
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


def _mm(hertz: float, lines: Lines, image: Image) -> float:
    """How far a constant of the field shifts everything along the lines."""
    return hertz * lines.voxels_a_hz * _size(lines, image)


def _doubts_of(before: float, after: float, turned: float) -> list[str]:
    """What resemblances say against the field."""
    if turned > after + BETTER * max(after, 0.1):
        return ["The other direction makes the series resemble the magnitude more: its sign may be wrong"]
    if after < before - BETTER * max(before, 0.1):
        return ["Distorted by the field, the magnitude resembles the series less: check direction and echo spacing"]
    return []


def _elsewhere(excess: float, lines: Lines, image: Image) -> list[str]:
    """What it says against the field's constant that the map lies elsewhere along the lines."""
    if abs(excess) <= ELSEWHERE:
        return []
    hertz, far = excess / lines.voxels_a_hz, abs(excess) * _size(lines, image)
    return [
        f"Series and map lie as if the field were {abs(hertz):.3g} Hz {'less' if hertz > 0 else 'more'} everywhere, "
        f"{far:.3g} mm along {'ijk'[lines.axis]}: unless the head moved so far between them, let the constant be found"
    ]


def _size(lines: Lines, image: Image) -> float:
    return image.space.spacing[lines.axis]


def signal_left(hertz: np.ndarray, spacing, echo: float) -> np.ndarray:
    """Share of the signal that is left at the echo when the field changes evenly across each voxel: a sinc of the turns
    between its faces, along each axis; 1 without an echo time. float32 [k, j, i]."""
    left = np.ones(hertz.shape, np.float32)
    for axis, n in enumerate(hertz.shape):
        if n > 1 and echo > 0:
            left *= np.abs(np.sinc(np.gradient(hertz, axis=axis) * echo)).astype(np.float32)
    return left


def _mean(image: Image, progress: Progress) -> np.ndarray:
    total = mean_volume(image, progress)
    if total.min() == total.max():
        raise Trouble(f"“{image.name}” holds one value only", "choose another image")
    return total
