"""Worlds: the spaces in which positions mean something."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class World:
    """A space with an identity.

    Parameters
    ----------
    id : str
        Two things with one id share their positions; "" while nobody has said which world it is.
    name : str
        What a person calls it.
    sides_known : bool
        Whether +x is the subject's right, +y its front and +z up. Not so for pictures.
    """

    id: str = ""
    name: str = "scanner"
    sides_known: bool = True

    def __str__(self) -> str:
        """What a person reads: its identity, unless that is one of a machine's."""
        return self.name if not self.id or not self.id.strip("0123456789.") else self.id

    def is_one_with(self, other: World) -> bool:
        """Whether positions in both worlds mean the same place. A world without identity is one with none."""
        return bool(self.id) and self.id == other.id

    def as_dict(self) -> dict:
        """As plain values, for JSON."""
        return {"id": self.id, "name": self.name, "sides_known": self.sides_known}

    @classmethod
    def from_dict(cls, facts: dict | str) -> World:
        """Read back; a bare name is how older studies wrote it."""
        if isinstance(facts, str):
            return PICTURE if facts == PICTURE.name else World(name=facts)
        return cls(str(facts.get("id", "")), str(facts.get("name", "scanner")), bool(facts.get("sides_known", True)))


SCANNER = World()
"""A scanner's space of which nothing more is known."""
PICTURE = World(name="picture", sides_known=False)
"""The plane of a picture whose sides in the body are not known: a photograph, a section, a clip."""
