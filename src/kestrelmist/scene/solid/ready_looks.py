"""Ready looks of volumes, fitted to the values of an image."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ...core.image import Image
from ...core.registry import Registry
from .volume_look import VolumeLook, Way

SAMPLE = 60_000


@dataclass(frozen=True)
class Values:
    """What a look is fitted to.

    Parameters
    ----------
    low, high : values
        Nearly the lowest and highest.
    skin, bright : values
        Where what is no air begins, and what stands out of the rest.
    ct : bool
        Whether they are CT numbers.
    """

    low: float
    high: float
    skin: float
    bright: float
    ct: bool = False

    def between(self, a: float, b: float, share: float) -> float:
        """A value that lies at a share of the way from one to another."""
        return a + share * (b - a)


@dataclass(frozen=True)
class ReadyLook:
    """A look by its name; `fit(values)` gives it."""

    name: str
    fit: Callable[[Values], VolumeLook]
    order: int


READY: Registry[ReadyLook] = Registry("look", order=lambda one: one.order)


def values_of(image: Image) -> Values:
    """What looks of an image are fitted to: of CT numbers what they mean, of others the valleys of the histogram
    (N. Otsu, IEEE Trans. Syst. Man Cybern. 9, 1979; of three classes)."""
    sample = np.asarray(image.sample(SAMPLE), float).ravel()
    sample = sample[np.isfinite(sample)]
    if not sample.size:
        return Values(0.0, 1.0, 0.3, 0.6)
    low, high = (float(v) for v in np.percentile(sample, (0.5, 99.8)))
    if high <= low:
        return Values(low - 0.5, low + 0.5, low - 0.25, low + 0.25)
    if image.unit == "HU":
        return Values(low, high, -300.0, 350.0, True)
    skin, bright = _valleys(np.clip(sample, low, high))
    return Values(low, high, skin, bright)


def _valleys(sample: np.ndarray) -> tuple[float, float]:
    from skimage.filters import threshold_multiotsu

    try:
        first, second = threshold_multiotsu(sample, 3, nbins=128)
    except ValueError:  # fewer than three values
        first, second = sample.min() + np.ptp(sample) / 3, sample.min() + 2 * np.ptp(sample) / 3
    return float(first), float(second)


def fitted(name: str, image: Image) -> VolumeLook:
    """A ready look on an image. Raises Trouble when there is none of that name."""
    from ...core.errors import Trouble

    one = next((look for look in READY if look.name.casefold() == name.strip().casefold()), None)
    if one is None:
        raise Trouble(f"There is no look “{name}”", f"choose one of: {', '.join(look.name for look in READY)}")
    return one.fit(values_of(image))


def first_name(image: Image) -> str:
    """The ready look that suits an image at first."""
    return "Bone" if image.unit == "HU" else "Soft tissue"


def _add(name: str, order: int):
    def adding(fit: Callable[[Values], VolumeLook]) -> Callable[[Values], VolumeLook]:
        READY.add(name, ReadyLook(name, fit, order))
        return fit

    return adding


def _look(name: str, *points, way: Way = "shaded", lit: bool = True, glow: float = 0.35, edges: float = 0.0):
    return VolumeLook(tuple(points), way, lit, glow, edges, 0.0, name)


@_add("Skin", 1)
def skin(v: Values) -> VolumeLook:
    """The outside, as if of wax."""
    begin = -420.0 if v.ct else v.between(v.low, v.skin, 0.75)
    end = -150.0 if v.ct else v.between(v.skin, v.bright, 0.15)
    return _look("Skin", (begin, "#B98A6E", 0.0), (end, "#D6A98C", 0.55), (v.high, "#F0DAC6", 0.95))


@_add("Bone", 2)
def bone(v: Values) -> VolumeLook:
    """What is brightest, hard and pale."""
    begin = 260.0 if v.ct else v.between(v.skin, v.bright, 0.8)
    end = 620.0 if v.ct else v.between(v.bright, v.high, 0.15)
    top = max(v.high, end + 1e-9)
    return _look("Bone", (begin, "#9C7B57", 0.0), (end, "#DCC9A6", 0.5), (top, "#FBF6EA", 0.97))


@_add("Vessels", 3)
def vessels(v: Values) -> VolumeLook:
    """What is bright, red in a faint ground."""
    begin = 90.0 if v.ct else v.bright
    end = 260.0 if v.ct else v.between(v.bright, v.high, 0.4)
    ground = v.between(v.low, begin, 0.6)
    return _look(
        "Vessels", (ground, "#5C6E78", 0.0), (begin, "#8A5046", 0.012), (end, "#C2402F", 0.45), (v.high, "#F7B79E", 0.9)
    )


@_add("Soft tissue", 4)
def soft_tissue(v: Values) -> VolumeLook:
    """What lies between air and bone, layer in layer."""
    begin = -180.0 if v.ct else v.between(v.low, v.skin, 0.9)
    middle = 60.0 if v.ct else v.between(v.skin, v.bright, 0.5)
    return _look(
        "Soft tissue",
        (begin, "#5E4A46", 0.0),
        (middle, "#A96A5B", 0.05),
        (max(v.bright, middle), "#E0B49B", 0.22),
        (max(v.high, v.bright), "#FFF6E8", 0.6),
    )


@_add("Tracer uptake", 5)
def tracer(v: Values) -> VolumeLook:
    """What glows, the more the warmer."""
    low = v.between(v.low, v.high, 0.12)
    return _look(
        "Tracer uptake",
        (low, "#2A1622", 0.0),
        (v.between(v.low, v.high, 0.35), "#A44E28", 0.06),
        (v.between(v.low, v.high, 0.65), "#E0A24B", 0.3),
        (v.high, "#FFF7DF", 0.9),
        lit=False,
    )


@_add("Glass", 6)
def glass(v: Values) -> VolumeLook:
    """Edges alone, to look through."""
    begin = -500.0 if v.ct else v.between(v.low, v.skin, 0.6)
    return _look(
        "Glass", (begin, "#7FA6B5", 0.0), (v.skin, "#A9C9D3", 0.10), (v.high, "#FFFFFF", 0.22), glow=0.3, edges=0.97
    )


@_add("Air spaces", 7)
def air(v: Values) -> VolumeLook:
    """What is bordered by air, within and without."""
    low, high = (-850.0, -250.0) if v.ct else (v.between(v.low, v.skin, 0.35), v.between(v.low, v.skin, 1.15))
    middle = (low + high) / 2
    return _look("Air spaces", (low, "#2F6E86", 0.0), (middle, "#7FC0CF", 0.22), (high, "#CFE8EC", 0.0), edges=0.6)


@_add("Section stack", 8)
def sections(v: Values) -> VolumeLook:
    """What is dark on a bright ground, as in stained sections."""
    return _look(
        "Section stack",
        (v.low, "#3B1F3F", 0.75),
        (v.skin, "#8E4C72", 0.35),
        (v.between(v.skin, v.bright, 0.7), "#D9A9BE", 0.05),
        (v.bright, "#F4E6EC", 0.0),
        glow=0.5,
    )


@_add("Fluorescence", 9)
def fluorescence(v: Values) -> VolumeLook:
    """The brightest of what lies behind each point, in the colour of light."""
    return _look(
        "Fluorescence",
        (v.low, "#02140C", 0.0),
        (v.between(v.low, v.high, 0.15), "#0B4A2C", 0.5),
        (v.between(v.low, v.high, 0.6), "#4FC97A", 1.0),
        (v.high, "#F2FFE9", 1.0),
        way="highest",
        lit=False,
    )


@_add("Height map", 10)
def heights(v: Values) -> VolumeLook:
    """Values in bands from low to high, as land is coloured."""
    return _look(
        "Height map",
        (v.between(v.low, v.high, 0.08), "#1D4E66", 0.0),
        (v.between(v.low, v.high, 0.25), "#2F7F86", 0.25),
        (v.between(v.low, v.high, 0.5), "#8FA85A", 0.35),
        (v.between(v.low, v.high, 0.75), "#B98A4A", 0.5),
        (v.high, "#F5F1E6", 0.8),
    )
