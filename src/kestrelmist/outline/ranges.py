"""Ready ranges of CT numbers, as a start for thresholds.

Rounded from the tissue ranges in W. A. Kalender, Computed Tomography, 3rd ed., 2011. The finer a scan, the
closer a bone limit should be to half-way between bone and its surroundings.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..core.image import Image


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
    """Ranges that make sense for an image: tissue ranges for CT numbers, else shares of its values."""
    if image.unit == "HU":
        return CT_RANGES
    low, high = image.display_range()
    share = (high - low) / 4
    return (ReadyRange("Brightest quarter", high - share, float(high + 4 * share)),
            ReadyRange("Bright half", high - 2 * share, float(high + 4 * share)),
            ReadyRange("Dark half", low, high - 2 * share))
