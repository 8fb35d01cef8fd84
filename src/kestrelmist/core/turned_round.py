"""The way back of a mapping that has none of its own kind."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from .mapping import Mapping, worlds_of
from .world import World


@dataclass(frozen=True, eq=False)
class TurnedRound(Mapping):
    """The way back of a mapping that has none of its own kind."""

    of: Mapping
    name: str = ""
    subject: str = ""

    @property
    def source(self) -> World:  # type: ignore[override]
        """Where it starts."""
        return self.of.target

    @property
    def target(self) -> World:  # type: ignore[override]
        """Where it leads."""
        return self.of.source

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return f"{self.of.words}, turned round"

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        return self.of.back(points)

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`; see `Mapping`."""
        return self.of.to(points)

    def inverse(self) -> Mapping:
        """The way back."""
        return self.of

    def prepared(self) -> TurnedRound:
        """See `Mapping`."""
        self.of.prepared()
        return self

    def between(self, source: World, target: World) -> TurnedRound:
        """The same between two worlds."""
        return replace(self, of=self.of.between(target, source))

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        facts, arrays = self.of.facts()
        return {"kind": "turned round", "of": facts, **worlds_of(self)}, arrays
