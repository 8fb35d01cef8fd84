"""Scenes of the demo: each is one file that makes a scan or a picture of the animal and registers itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.registry import Registry
from ..core.space import Space

if TYPE_CHECKING:
    from .animal import Animal
    from .functional_run import FunctionalRun


@dataclass
class Station:
    """What scenes are made with: the animal, the scan that two of them need, and folders for files and truth.

    Parameters
    ----------
    folder : path
        Where everything goes; what a person gathers lies in `incoming` below it.
    animal : Animal
    other : Animal
        A second one, of which there is less; scenes of it need it.
    """

    folder: Path
    animal: Animal
    other: Animal | None = None
    truth: dict[str, Any] = field(default_factory=lambda: {"volumes_mm3": {}})
    """What is known of the animal and its pictures, kept beside them."""

    @property
    def incoming(self) -> Path:
        return self.folder / "scans from the field station"

    @cached_property
    def ct_space(self) -> Space:
        from .scans import head_ct_space

        return head_ct_space()

    @cached_property
    def mr_space(self) -> Space:
        from .scans import head_mr_space

        return head_mr_space()

    @cached_property
    def run(self) -> FunctionalRun:
        from .functional_run import FunctionalRun

        return FunctionalRun(self.animal)

    @cached_property
    def head_ct(self) -> np.ndarray:
        """CT numbers of the head, int16 [i, j, k] on `ct_space`."""
        from .scans import scan_ct

        return scan_ct(self.animal, self.ct_space)


@dataclass(frozen=True)
class Scene:
    """One scan or picture.

    Parameters
    ----------
    name : str
        What is said while it is made.
    order : int
        When it is made; the low ones first.
    make : callable
        `make(station)` writes the files.
    """

    name: str
    order: int
    make: Callable[[Station], None]


SCENES: Registry[Scene] = Registry("scene", f"{__package__}.scenes", order=lambda s: (s.order, s.name))


def scene(name: str, order: int = 100):
    """Register a function that makes a scene."""

    def register(make: Callable[[Station], None]) -> Callable[[Station], None]:
        SCENES.add(name, Scene(name, order, make))
        return make

    return register
