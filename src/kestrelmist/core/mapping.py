"""Mappings: what leads from positions in one world to positions in another."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from dataclasses import replace
from typing import Any, Self

import numpy as np

from .bend import Bend
from .world import World


class Mapping(ABC):
    """Leads from a world to another, and back.

    Every kind is frozen, and has `source` and `target` (worlds), `name` and `subject`. Positions are in mm, (3,) or
    (n, 3); where a mapping says nothing of a place it gives NaN.
    """

    source: World
    target: World
    name: str
    subject: str

    @abstractmethod
    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`."""

    @abstractmethod
    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`."""

    @abstractmethod
    def inverse(self) -> Mapping:
        """The way back, as a mapping."""

    @property
    def parts(self) -> tuple[Mapping, ...]:
        """What is done one after the other."""
        return (self,)

    @property
    @abstractmethod
    def words(self) -> str:
        """What kind it is, for a person."""

    @abstractmethod
    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """As plain values for JSON, and arrays that they name by their places in the list."""

    def prepared(self) -> Self:
        """The same, with all worked out that it needs to be asked for many places at once; may take a second."""
        return self

    @property
    def each_volume(self) -> bool:
        """Whether it is another one for every volume of a series."""
        return False

    def of_volume(self, volume: int) -> Mapping:
        """That of one volume, counted from 0; the same for all where it is one for all."""
        return self

    def bend(self) -> Bend | None:
        """The same as one bend between two affine transforms, where it is that."""
        return None

    def named(self, name: str, subject: str | None = None) -> Self:
        """The same under another name."""
        subject = self.subject if subject is None else subject
        return replace(self, name=name, subject=subject)  # type: ignore[type-var]

    def between(self, source: World, target: World) -> Self:
        """The same as leading from one world to another."""
        return replace(self, source=source, target=target)  # type: ignore[type-var]

    def content_hash(self) -> str:
        """SHA-256 of what it does and of its worlds."""
        facts, arrays = self.facts()
        digest = hashlib.sha256(repr(facts).encode())
        for array in arrays:
            digest.update(np.ascontiguousarray(array).data)
        return digest.hexdigest()


def worlds_of(mapping: Mapping) -> dict[str, Any]:
    """The worlds of a mapping, for JSON."""
    return {"source": mapping.source.as_dict(), "target": mapping.target.as_dict()}
