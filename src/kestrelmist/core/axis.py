"""Named axes beyond space: time, channel, detector, echo."""

from __future__ import annotations

from dataclasses import asdict, dataclass

import numpy as np


@dataclass(frozen=True)
class Axis:
    """One axis of a series of volumes.

    Parameters
    ----------
    name : str
        "time", "channel", "detector", "echo", "phase" …
    size : int
    unit : str
        Unit of `values`.
    values : floats, optional
        Where each volume stands along the axis.
    labels : texts, optional
        What each volume is called ("front", "back").
    """

    name: str
    size: int
    unit: str = ""
    values: tuple[float, ...] = ()
    labels: tuple[str, ...] = ()

    def words(self, n: int) -> str:
        """How a person calls place `n` along the axis."""
        if n < len(self.labels):
            return self.labels[n]
        if n < len(self.values):
            return f"{self.values[n]:.5g} {self.unit}".strip()
        return f"{n + 1}"

    @property
    def plural(self) -> str:
        """What several places along the axis are called: "times", "echoes", "detectors"."""
        return self.name + ("es" if self.name.endswith(("s", "x", "ch", "o")) else "s")

    @property
    def step(self) -> float | None:
        """Distance between neighbours when it is the same everywhere (to a thousandth), else None."""
        if len(self.values) < 2:
            return None
        gaps = np.diff(self.values)
        return float(gaps.mean()) if np.ptp(gaps) <= 1e-3 * abs(gaps.mean()) else None

    def as_dict(self) -> dict:
        """As plain values, for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, facts: dict) -> Axis:
        """Read back from `as_dict`."""
        return cls(facts["name"], facts["size"], facts["unit"], tuple(facts["values"]), tuple(facts["labels"]))

    @classmethod
    def even(cls, name: str, size: int, step: float | None, unit: str = "") -> Axis:
        """An axis of equal steps from 0; without values when the step is unknown or zero."""
        values = tuple(float(step * n) for n in range(size)) if step else ()
        return cls(name, size, unit if values else "", values)


def shape_of(axes) -> tuple[int, ...]:
    """Sizes of several axes."""
    return tuple(a.size for a in axes)
