"""Ready ranges of CT numbers, as a start for thresholds.

Rounded from the tissue ranges in W. A. Kalender, Computed Tomography, 3rd ed., 2011. The finer a scan, the
closer a bone limit should be to half-way between bone and its surroundings.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..scene.showing import display_range
from .otsu import otsu_limits


@dataclass(frozen=True)
class ReadyRange:
    name: str
    low: float
    high: float


CT_RANGES = (
    ReadyRange("Bone", 300, 3000),
    ReadyRange("Thin bone", 150, 3000),
    ReadyRange("Dense bone and teeth", 700, 3000),
    ReadyRange("Soft tissue", 0, 150),
    ReadyRange("Fat", -150, -30),
    ReadyRange("Air", -1024, -600),
)


def ready_ranges(image: Image) -> tuple[ReadyRange, ...]:
    """Ranges that make sense for an image: tissue ranges for CT numbers, else shares of its values, and classes of two
    or three by N. Otsu (IEEE Trans. SMC 9, 1979)."""
    if image.unit == "HU":
        return CT_RANGES
    low, high = display_range(image)
    share = (high - low) / 4
    sample = image.sample()
    two, three = otsu_limits(sample), otsu_limits(sample, 3)
    most = float(high + 4 * share)
    found = [ReadyRange("Above Otsu’s limit", two[0], most)] if two else []
    if three:
        found += [ReadyRange("Bright of three", three[1], most), ReadyRange("Middle of three", *three)]
        found.append(ReadyRange("Dark of three", low, three[0]))
    return (
        ReadyRange("Top quarter", high - share, float(high + 4 * share)),
        ReadyRange("Upper half", high - 2 * share, float(high + 4 * share)),
        ReadyRange("Lower half", low, high - 2 * share),
        *found,
    )


def half_way_limit(image: Image, low: float) -> float:
    """The value half-way between two tissues, the fairest boundary under partial volume.

    The half-maximum rule (C. F. Spoor et al., Am. J. Phys. Anthropol. 91, 1993): midway between the most frequent value
    above `low` and the most frequent one below it, air (under −500 HU in CT) left out.

    Parameters
    ----------
    image : Image
    low : value
        A first guess that lies between the two tissues.

    Raises
    ------
    Trouble
        When no values lie on one side of `low`.
    """
    values = image.kji[::2, ::2, ::2].ravel()
    values = values[np.isfinite(values)]
    floor = -500.0 if image.unit == "HU" else float(np.percentile(values, 30)) if values.size else 0.0
    above, below = values[values >= low], values[(values < low) & (values > floor)]
    if above.size < 100 or below.size < 100:
        raise Trouble(
            f"Nearly all values of “{image.name}” lie on one side of {low:g}",
            "start from a limit between the two tissues",
        )
    return (_most_frequent(above) + _most_frequent(below)) / 2


def _most_frequent(values: np.ndarray) -> float:
    low, high = np.percentile(values, (0.5, 99.5))
    if high <= low:
        return float(low)
    counts, edges = np.histogram(values, 128, (low, high))
    counts = np.convolve(counts, np.ones(7) / 7, "same")
    # partial-volume voxels pile up at the limit itself, so the outermost bins cannot win
    peak = 8 + int(np.argmax(counts[8:-8]))
    return float(edges[peak] + edges[peak + 1]) / 2
