"""Mappings of every kind from what they told of themselves."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .chain import Chain, PerVolume
from .displacement import DisplacementField
from .errors import Trouble
from .mapping import Mapping
from .registry import Registry
from .thin_plate import ThinPlate
from .transform import Transform
from .turned_round import TurnedRound
from .warp import Warp


def _turned(facts: dict, arrays: list[np.ndarray]) -> Mapping:
    return TurnedRound(mapping_from(facts["of"], arrays))


def _chain(facts: dict, arrays: list[np.ndarray]) -> Mapping:
    steps = [mapping_from(one["facts"], [arrays[n] for n in one["arrays"]]) for one in facts["steps"]]
    return Chain(tuple(steps))


Reader = Callable[[dict, list[np.ndarray]], Mapping]
MAPPINGS: Registry[Reader] = Registry("kind of mapping")
"""What reads each kind of mapping back from what it told of itself, under the "kind" that its facts name."""
for kind, reader in (
    ("affine", Transform.from_facts),
    ("displacement field", DisplacementField.from_facts),
    ("turned round", _turned),
    ("chain", _chain),
    ("per volume", PerVolume.from_facts),
    ("warp", Warp.from_facts),
    ("thin plate", ThinPlate.from_facts),
):
    MAPPINGS.add(kind, reader)


def mapping_from(facts: dict, arrays: list[np.ndarray], name: str = "", subject: str = "") -> Mapping:
    """A mapping from what `Mapping.facts` gave. Raises Trouble when it is of a kind this version does not know."""
    read = MAPPINGS.get(str(facts.get("kind", "affine")))
    if read is None:
        raise Trouble(f"This version does not know transforms of the kind “{facts.get('kind')}”", "use a newer one")
    return read(facts, arrays).named(name, subject)
