"""Which of the things of an image is worked on: its label map, its marks. A choice that the study remembers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.errors import Trouble
from .items import Record
from .open_study import OpenStudy

CHOICES = 20
"""How many choices are remembered for each image."""


class InHand:
    """Things of one kind, each of an image, of which one an image is in hand.

    `listeners` are called with an image that has another one in hand, once that is so, in the thread that chose it.
    """

    kind: str
    remembered: str
    """Key under which the study remembers which were chosen of each image."""

    def __init__(self, study: OpenStudy):
        self.study, self.items, self.catalogue = study, study.items, study.catalogue
        self.listeners: list[Callable[[int], None]] = []
        self._choices: dict[int, list[int]] | None = None

    def of(self, image: int) -> list[Record]:
        """Those of an image, the oldest first."""
        return self.items.on(image, self.kind)

    def in_hand(self, image: int) -> int | None:
        """The one of an image that is worked on: of those that are there the one chosen last, else the newest; None
        when it has none."""
        keys = [r.id for r in self.of(image)]
        chosen = next((key for key in self._chosen(image) if key in keys), None)
        return chosen if chosen is not None else keys[-1] if keys else None

    def take_in_hand(self, key: int) -> None:
        """Choose the one that is worked on; a gesture under way is ended first. In a study that can only be read the
        choice holds as long as it is open."""
        record = self.items.get(key)
        if record is None or record.of is None or record.kind != self.kind:
            raise Trouble(f"This is no {self.kind} of an image", "choose one that is")
        if record.removed:
            raise Trouble(f"“{record.name}” is off the Shelf", "put it back first")
        self.study.history.end_gesture()
        self.choose(record.of, key)
        for listener in list(self.listeners):
            listener(record.of)

    def choose(self, image: int, key: int) -> None:
        """Note a choice, as part of a larger change whose listeners follow."""
        self._chosen(image)
        assert self._choices is not None
        before = self._choices.get(image, [])
        self._choices[image] = [key, *(k for k in before if k != key)][:CHOICES]
        if not self.study.read_only:
            self.catalogue.remember(self.remembered, self._choices)

    def choices_again(self) -> None:
        """Read the choices again when they are next asked for."""
        self._choices = None

    def _chosen(self, image: int) -> list[int]:
        if self._choices is None:
            self._choices = _choices_from(self.catalogue.recall(self.remembered, {}))
        return self._choices.get(image, [])


def _choices_from(kept: Any) -> dict[int, list[int]]:
    """The choices as the study remembers them, in this form or the older one of one thing an image; what is damaged is
    as if it were not there."""
    found: dict[int, list[int]] = {}
    for image, keys in kept.items() if isinstance(kept, dict) else ():
        several = keys if isinstance(keys, list) else [keys]
        if image.isdigit():
            found[int(image)] = [key for key in several if isinstance(key, int)]
    return found
