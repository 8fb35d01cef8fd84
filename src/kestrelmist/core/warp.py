"""Warps: mappings that bend space without folding it, from a velocity that stands still."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from .bend import Bend
from .displacement import DisplacementField
from .errors import Trouble
from .flows import exponential
from .mapping import Mapping, worlds_of
from .space import Space
from .world import SCANNER, World

STEP = 0.1
"""Voxels; see `flows.exponential`."""
FEW, STEPS = 2000, 24
"""Places that are followed one by one, and steps on their way."""


@dataclass(frozen=True, eq=False)
class Warp(Mapping):
    """An affine transform, then a flow along a velocity for unit time, then another affine transform.

    The way back is the flow against the velocity, so that it is known as well as the way there (V. Arsigny,
    O. Commowick, X. Pennec and N. Ayache, MICCAI 2006).

    Parameters
    ----------
    velocity : float32 array [k, j, i, xyz]
        In voxels of the grid along its i, j, k; none beyond its outer voxels.
    space : Space
        The grid, in the world between both affine transforms.
    before, after : arrays (4, 4)
    source, target : World
    name, subject : str

    Raises
    ------
    Trouble
        When the velocity is of another shape than its grid, or some of it is no number.
    """

    velocity: np.ndarray = field(repr=False)
    space: Space = field(repr=False)
    before: np.ndarray = field(default_factory=lambda: np.eye(4), repr=False)
    after: np.ndarray = field(default_factory=lambda: np.eye(4), repr=False)
    source: World = SCANNER
    target: World = SCANNER
    name: str = ""
    subject: str = ""

    def __post_init__(self):
        if self.velocity.shape != (*self.space.shape[::-1], 3):
            raise Trouble("The velocity of this warp does not fit its grid", "write it anew")
        if not np.isfinite(self.velocity).all():
            raise Trouble("Some of the velocity of this warp is no number (NaN)", "write it without them")

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return "warp"

    @cached_property
    def _flow(self) -> DisplacementField:
        return self._field(exponential(self.velocity, STEP))

    @cached_property
    def _flow_back(self) -> DisplacementField:
        return self._field(exponential(-self.velocity, STEP))

    @cached_property
    def _speed(self) -> DisplacementField:
        return self._field(self.velocity)

    def _field(self, shift: np.ndarray) -> DisplacementField:
        world = shift @ self.space.affine[:3, :3].T.astype(np.float32)
        return DisplacementField(np.ascontiguousarray(world.transpose(2, 1, 0, 3)), self.space)

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        return _moved(self.after, self._along(_moved(self.before, points), 1.0))

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`; see `Mapping`."""
        inverse = np.linalg.inv
        return _moved(inverse(self.before), self._along(_moved(inverse(self.after), points), -1.0))

    def bend(self) -> Bend:
        """See `Mapping`."""
        return Bend(self.before, self._flow.shifts, self.space, self.after)

    def prepared(self) -> Warp:
        """See `Mapping`."""
        assert self._flow is not None
        return self

    def _along(self, points: np.ndarray, sign: float) -> np.ndarray:
        """Where places flow to, or have come from. A few are followed one by one, by steps of C. Runge and W. Kutta,
        so that nobody waits for the flow of all to be worked out."""
        known = "_flow" if sign > 0 else "_flow_back"
        if known in self.__dict__ or points.size > 3 * FEW:
            return (self._flow if sign > 0 else self._flow_back).to(points)
        speed = self._speed
        at, step = points.reshape(-1, 3), sign / STEPS
        for _ in range(STEPS):
            one = speed.to(at) - at
            two = speed.to(at + step / 2 * one) - (at + step / 2 * one)
            three = speed.to(at + step / 2 * two) - (at + step / 2 * two)
            four = speed.to(at + step * three) - (at + step * three)
            at = at + step / 6 * (one + 2 * two + 2 * three + four)
        return at.reshape(points.shape)

    def inverse(self) -> Warp:
        """The way back."""
        before, after = np.linalg.inv(self.after), np.linalg.inv(self.before)
        turned = replace(self, velocity=-self.velocity, before=before, after=after)
        return turned.between(self.target, self.source)

    def as_field(self) -> DisplacementField:
        """A displacement field that does the same on the grid of the velocity, what is affine in it too, as files hold
        it. Raises Trouble when it begins with an affine transform that shears."""
        space = self.space.moved(np.linalg.inv(self.before))
        steps = space.affine[:3, :3] / np.array(space.spacing)
        if np.abs(steps.T @ steps - np.eye(3)).max() > 1e-4:
            raise Trouble(
                f"“{self.name}” begins with an affine transform that shears, and no file holds a field on such a grid",
                "make a field of it on the grid of an image (“Field of a transform”), or write the way back",
            )
        shifts = np.empty((*space.shape, 3), np.float32)
        i, j = np.meshgrid(np.arange(space.shape[0]), np.arange(space.shape[1]), indexing="ij")
        for k in range(space.shape[2]):
            here = space.to_world(np.stack([i, j, np.full_like(i, k)], axis=-1).reshape(-1, 3))
            shifts[:, :, k] = (self.to(here) - here).reshape(*i.shape, 3)
        return DisplacementField(shifts, space, self.source, self.target, self.name, self.subject)

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        facts = {"kind": "warp", "space": self.space.as_dict(), "velocity": 0}
        facts |= {"before": self.before.tolist(), "after": self.after.tolist(), **worlds_of(self)}
        return facts, [np.asarray(self.velocity)]

    @classmethod
    def from_facts(cls, facts: dict, arrays: list[np.ndarray]) -> Warp:
        """Read back from `facts`."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        before, after = (np.array(facts[key], float) for key in ("before", "after"))
        velocity = np.ascontiguousarray(arrays[facts["velocity"]], np.float32)
        return cls(velocity, Space.from_dict(facts["space"]), before, after, source, target)


def _moved(matrix: np.ndarray, points) -> np.ndarray:
    return np.asarray(points, float) @ matrix[:3, :3].T + matrix[:3, 3]
