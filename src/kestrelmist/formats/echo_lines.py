"""What the lines of a scan that is read in one go say: along which axis, which way, and how far apart in time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import Found
from .sidecar import facts_of, number_of

LONGEST, SHORTEST = 0.3, 5e-4
"""s that it may take to read all lines of a slice."""


@dataclass(frozen=True)
class Lines:
    """How lines were read.

    Parameters
    ----------
    axis : int
        0 for i, 1 for j, 2 for k.
    sign : int
        1 or −1: which way along the axis what is above resonance is shifted.
    spacing : s
        Effective: between neighbouring lines of the image.
    count : int
        Lines of the image.
    source : str
        Where the spacing comes from, in words.
    """

    axis: int
    sign: int
    spacing: float
    count: int
    source: str

    @property
    def voxels_a_hz(self) -> float:
        """By how many voxels along the axis what is 1 Hz off resonance is shifted."""
        return self.sign * self.spacing * self.count

    @property
    def words(self) -> str:
        """The direction as BIDS writes it."""
        return "ijk"[self.axis] + ("-" if self.sign < 0 else "")


def lines_of(image: Image, spacing: float = 0.0, direction: str = "", acceleration: float = 1.0) -> Lines:
    """How the lines of an image were read: what is given, else what its sidecar says.

    The effective spacing is looked for as EffectiveEchoSpacing, as TotalReadoutTime over lines less one, and as the
    bandwidth of a pixel along the phase (BandwidthPerPixelPhaseEncode, Hz).

    Raises
    ------
    Trouble
        When direction or spacing are not known, or cannot be.
    """
    axis, sign = _direction(image, direction)
    count = image.space.shape[axis]
    if count < 2:
        raise Trouble(f"“{image.name}” has one voxel along {'ijk'[axis]}, so nothing is shifted", "check the direction")
    # lines of the scan: a part cut out of it has fewer, and is shifted just as far
    count = int(number_of(image, "ReconMatrixPE") or count)
    source = "given"
    if spacing <= 0:
        spacing, source = _spacing(image, count)
    else:
        spacing /= acceleration
    whole = spacing * count
    if whole > LONGEST:
        hint = ""
        if spacing <= LONGEST / 2:
            hint = f"; {spacing:g} s looks like the time to read all lines"
        elif whole / 1000 <= LONGEST:
            hint = f"; {spacing:g} looks like ms"
        raise Trouble(
            f"{count} lines {spacing:g} s apart would take {whole:.3g} s to read, which cannot be{hint}",
            "give the effective echo spacing in s, as in 0.0005",
        )
    if whole < SHORTEST:
        raise Trouble(
            f"{count} lines {spacing:g} s apart would take {1000 * whole:.3g} ms to read, which cannot be",
            "give the effective echo spacing in s, as in 0.0005",
        )
    return Lines(axis, sign, spacing, count, source)


def found_spacing(given: dict[str, Any]) -> Found:
    """The echo spacing that the sidecar of a series gives; see `core.left_out.LeftOut`."""
    image = given["image"]
    axis, _ = _direction(image, given.get("direction") or "")
    value, source = _spacing(image, int(number_of(image, "ReconMatrixPE") or image.space.shape[axis]))
    return Found(value, f"from the header ({source})" if source != "EffectiveEchoSpacing" else "from the header")


def found_direction(given: dict[str, Any]) -> Found:
    """The direction in which lines were read by the sidecar of a series."""
    axis, sign = _direction(given["image"], "")
    return Found("ijk"[axis] + ("-" if sign < 0 else ""), "from the header")


def _direction(image: Image, given: str) -> tuple[int, int]:
    text = given.strip().lower().replace("−", "-")
    source = "direction"
    if not text:
        text = str(facts_of(image).get("PhaseEncodingDirection", "")).strip().lower()
        source = "PhaseEncodingDirection of its sidecar"
    if not text:
        axis = str(facts_of(image).get("PhaseEncodingAxis", "")).strip().lower()
        along = f"; along {axis}, but not which way" if axis in ("i", "j", "k") else ""
        raise Trouble(
            f"Nothing says in which direction the lines of “{image.name}” were read{along}",
            f"give it, as in {axis if along else 'j'} or {axis if along else 'j'}-; when one makes it worse, the other"
            " is right",
        )
    text = {"x": "i", "y": "j", "z": "k"}.get(text[:1], text[:1]) + text[1:]
    if text[:1] not in ("i", "j", "k") or text[1:] not in ("", "+", "-"):
        raise Trouble(f"“{text}” is no direction ({source})", "give one of i, i-, j, j-, k, k-")
    return "ijk".index(text[0]), -1 if text.endswith("-") else 1


def _spacing(image: Image, count: int) -> tuple[float, str]:
    if (found := number_of(image, "EffectiveEchoSpacing")) is not None:
        return found, "EffectiveEchoSpacing"
    if (whole := number_of(image, "TotalReadoutTime")) is not None:
        return whole / max(count - 1, 1), "TotalReadoutTime over lines less one"
    if (band := number_of(image, "BandwidthPerPixelPhaseEncode")) is not None:
        return 1 / (band * count), "bandwidth of a pixel along the phase"
    raise Trouble(
        f"Nothing says how far the echoes of “{image.name}” are apart",
        "give the effective echo spacing in s: the spacing of the echoes, divided by the acceleration along the lines",
    )
