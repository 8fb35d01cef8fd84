"""What was measured of how an image was taken: numbers and directions that say nothing of a person.

Names and descriptions, which somebody has typed, go only where they are seen: into a sidecar, never into words within a
file or into an image without identity.
"""

from __future__ import annotations

from typing import Any

from ..core.image import Image
from .sidecar import facts_of, sensible_facts

MEASURED = {
    "RepetitionTime": 1e3, "EchoTime": 10.0, "EchoTimes": 10.0, "EchoTime1": 10.0, "EchoTime2": 10.0,
    "InversionTime": 100.0, "FlipAngle": 360.0, "MagneticFieldStrength": 100.0, "SliceTiming": 1e3,
    "EffectiveEchoSpacing": 1.0, "TotalReadoutTime": 10.0, "bValues": 1e5, "bVectors": 1.001,
}  # fmt: skip
"""Numbers of how an image was taken that say nothing of a person, and the largest that each can be: what is larger may
be a date or an identifier."""
DIRECTIONS = ("PhaseEncodingDirection", "PhaseEncodingAxis", "SliceEncodingDirection")


def measured_facts(image: Image) -> dict[str, Any]:
    """What without which a series is of no use: its times, its gradients, its lines."""
    facts = sensible_facts(facts_of(image))
    kept = {name: facts[name] for name, most in MEASURED.items() if name in facts and _within(facts[name], most)}
    return kept | {name: facts[name] for name in DIRECTIONS if name in facts}


def _within(value: Any, most: float) -> bool:
    if isinstance(value, list):
        return all(_within(v, most) for v in value)
    return isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) <= most
