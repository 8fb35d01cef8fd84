"""Ready display ranges: windows for CT numbers, and shares of the values of any image."""

from __future__ import annotations

import numpy as np

from ..core.image import Image

CT_WINDOWS = (
    ("CT soft tissue", -160.0, 240.0),
    ("CT bone", -500.0, 1500.0),
    ("CT brain", 0.0, 80.0),
    ("CT lung", -1350.0, 150.0),
    ("CT fat and muscle", -200.0, 150.0),
)
"""Usual windows of CT reading; as centre and width 40/400, 500/2000, 40/80, −600/1500 and −25/350."""
SHARES = (
    ("1 to 99.5 %", 1.0, 99.5),
    ("0.1 to 99.9 %", 0.1, 99.9),
    ("5 to 95 %", 5.0, 95.0),
    ("All values", 0.0, 100.0),
)


def ready_looks(image: Image) -> list[tuple[str, float, float]]:
    """Names of ranges that make sense for an image, with their limits; those of shares are worked out when chosen
    (`range_of_share`) and stand here as NaN."""
    windows = list(CT_WINDOWS) if image.unit == "HU" else []
    return [*windows, *((name, float("nan"), float("nan")) for name, _, _ in SHARES)]


def range_of_share(values: np.ndarray, low: float, high: float) -> tuple[float, float]:
    """Percentiles `low` and `high` of the finite values; a range of some width around the value when there is one
    only."""
    values = np.asarray(values).ravel()
    values = values[np.isfinite(values)] if values.dtype.kind == "f" else values
    if not values.size:
        return 0.0, 1.0
    a, b = (float(v) for v in np.percentile(values, (low, high)))
    return (a, b) if b > a else (a, a + (abs(a) or 1.0))


def share_named(name: str) -> tuple[float, float] | None:
    """The percentiles of a ready range, None when it is no share."""
    return next(((low, high) for known, low, high in SHARES if known == name), None)
