"""What is doubtful about a thing: a code for programs, a sentence for people."""

from __future__ import annotations

from dataclasses import dataclass

NO_SCALE = "no-scale"
"""No length is known: the world is in pixels."""
SCALE_UNSURE = "scale-unsure"
"""A voxel size was assumed, or given by hand."""
SCALE_BY_HAND = "scale-by-hand"
"""The voxel size was set by a person."""
SCALE_DISAGREES = "scale-disagrees"
"""Two sources tell different voxel sizes."""
SIDES_UNKNOWN = "sides-unknown"
"""The file does not say which side is which, though the image lies in a body."""
SIDES_NOT_GIVEN = "sides-not-given"
"""A picture without sides."""
SLICES_MISSING = "slices-missing"
SLICES_DOUBLED = "slices-doubled"
"""Slices were missing, or stood at one place; taken in, the stack was mended."""
SLICES_UNEVEN = "slices-uneven"
SLICES_SIDEWAYS = "slices-sideways"
CUT_SHORT = "cut-short"
MIXED = "mixed"
"""A series holds several kinds of slices, each kept apart."""
SECOND_COPY = "second-copy"
AT_DETECTOR = "at-detector"
"""The scale is that at the detector of a projection, not in the body."""
VALUES_LOST = "values-lost"
"""Voxels have no value although what they were made from had one."""
SIDECAR_CONTRADICTS = "sidecar-contradicts"
"""What lies beside the file says something else than the file."""
FACTS_BY_HAND = "facts-by-hand"
"""How it was taken was said by a person."""
FIELD_DOUBTFUL = "field-doubtful"
"""A distortion was undone, and something speaks against how."""
TAKEN_OUT = "taken-out"
"""Courses were taken out of all others; says which."""
NOTED = "noted"
"""Worth knowing, and nothing that makes a number wrong."""


@dataclass(frozen=True)
class Caveat:
    """One doubt. `sentence` has no full stop."""

    code: str
    sentence: str

    def as_dict(self) -> dict:
        """As plain values, for JSON."""
        return {"code": self.code, "sentence": self.sentence}

    @classmethod
    def from_dict(cls, facts: dict) -> Caveat:
        """Read back from `as_dict`."""
        return cls(str(facts["code"]), str(facts["sentence"]))


def has_caveat(caveats, *codes: str) -> bool:
    """Whether one of some codes is among the caveats."""
    return any(c.code in codes for c in caveats)


def without_caveats(caveats, *codes: str) -> list[Caveat]:
    """The caveats whose codes are not among those given."""
    return [c for c in caveats if c.code not in codes]
