"""Mappings that bend as little as they can through given pairs of places."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .errors import Trouble
from .mapping import Mapping, worlds_of
from .turned_round import TurnedRound
from .world import SCANNER, World

ROUNDS, CLOSE = 60, 1e-6
"""Steps on the way back at most, and how near (in shares of the spread of the places) ends it."""


@dataclass(frozen=True, eq=False)
class ThinPlate(Mapping):
    """The thin-plate spline through pairs of places: exactly through each, smooth between them (F. L. Bookstein, IEEE
    Trans. Pattern Anal. Mach. Intell. 11, 1989).

    Parameters
    ----------
    places, goals : arrays (n, 3)
        Where it starts from and where that lies in `target`, mm. Places that all lie in one plane across z give a
        spline of that plane.

    Raises
    ------
    Trouble
        When there are too few places, two are the same, or all lie on one line, or in one slanting plane.
    """

    places: np.ndarray = field(repr=False)
    goals: np.ndarray = field(repr=False)
    source: World = SCANNER
    target: World = SCANNER
    name: str = ""
    subject: str = ""
    flat: bool = field(default=False, init=False)
    weights: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)), init=False, repr=False)

    def __post_init__(self):
        places, goals = (np.array(points, float).reshape(-1, 3) for points in (self.places, self.goals))
        if len(places) != len(goals) or not (np.isfinite(places).all() and np.isfinite(goals).all()):
            raise Trouble("A thin-plate spline goes through pairs of places", "give as many of one as of the other")
        flat = bool(np.ptp(places[:, 2]) < 1e-9 * max(float(np.ptp(places, 0).max()), 1e-30))
        least = 3 if flat else 4
        if len(places) < least:
            raise Trouble(f"A thin-plate spline needs {least} pairs, and there are {len(places)}", "set more of them")
        object.__setattr__(self, "places", places)
        object.__setattr__(self, "goals", goals)
        object.__setattr__(self, "flat", flat)
        axes = 2 if flat else 3
        linear = np.hstack((np.ones((len(places), 1)), places[:, :axes]))
        spread = places[:, :axes] - places[:, :axes].mean(0)
        if np.linalg.matrix_rank(spread, tol=1e-6 * max(float(np.abs(spread).max()), 1e-30)) < axes:
            raise Trouble("These places lie on one line, or in one plane", "set one more beside it")
        whole = np.zeros((len(places) + axes + 1,) * 2)
        whole[: len(places), : len(places)] = self._bending(places)
        whole[: len(places), len(places) :] = linear
        whole[len(places) :, : len(places)] = linear.T
        wanted = np.vstack((goals - places, np.zeros((axes + 1, 3))))
        try:
            object.__setattr__(self, "weights", np.linalg.solve(whole, wanted))
        except np.linalg.LinAlgError as error:
            raise Trouble("Two of these places are the same", "leave one of them out") from error

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return f"thin-plate spline through {len(self.places)} pairs"

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        points = np.asarray(points, float)
        at = points.reshape(-1, 3)
        out = np.empty_like(at)
        weights, count = self.weights, len(self.places)
        axes = 2 if self.flat else 3
        for n in range(0, len(at), 1 << 14):
            block = at[n : n + (1 << 14)]
            bent = self._bending(block) @ weights[:count] + weights[count] + block[:, :axes] @ weights[count + 1 :]
            out[n : n + (1 << 14)] = block + bent
        return out.reshape(points.shape)

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`, by Newton's method with the slope of the linear part; NaN
        where it folds and no such place is found."""
        points = np.asarray(points, float)
        wanted = points.reshape(-1, 3)
        weights, count = self.weights, len(self.places)
        axes = 2 if self.flat else 3
        slope = np.eye(3)
        slope[:, :axes] += weights[count + 1 :].T
        turn = np.linalg.pinv(slope)
        at = (wanted - weights[count]) @ turn.T
        near = CLOSE * float(np.ptp(self.places, 0).max())
        for n in range(ROUNDS):
            left = wanted - self.to(at)
            if float(np.abs(left).max()) < near:
                break
            at = at + (1.0 if n < ROUNDS // 2 else 0.5) * left @ turn.T
        far = np.linalg.norm(wanted - self.to(at), axis=1) > 1e3 * near
        at[far] = np.nan
        return at.reshape(points.shape)

    def inverse(self) -> Mapping:
        """The way back."""
        return TurnedRound(self, self.name, self.subject)

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        facts = {"kind": "thin plate", "places": self.places.tolist(), "goals": self.goals.tolist()}
        return {**facts, **worlds_of(self)}, []

    @classmethod
    def from_facts(cls, facts: dict, arrays: list[np.ndarray]) -> ThinPlate:
        """Read back from `facts`."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        return cls(np.array(facts["places"]), np.array(facts["goals"]), source, target)

    def _bending(self, points: np.ndarray) -> np.ndarray:
        """How much each place bends each point: the distance in space, r² log r in a plane."""
        away = points[:, None, :] - self.places[None]
        if not self.flat:
            return np.sqrt((away**2).sum(-1))
        squared = (away[..., :2] ** 2).sum(-1)
        return 0.5 * squared * np.log(np.where(squared > 0, squared, 1.0))
