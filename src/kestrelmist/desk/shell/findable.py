"""What the Finder can find in a window: tools, stages, settings, saved stacks, and the images of the study."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ...core.finding import Line
from ...core.operation import Operation
from ...core.person import recent_studies
from ...study.items import ImageRecord
from ..command import Command
from ..models.desk_model import Desk
from ..shelf.on_table import OnTable
from ..tool import Tool
from .lines import Target, fixed_lines

MANY = 300
"""Images that are all listed; of more, those that fit what is typed."""
WAYS = "image of lay over: show beside: · layer on the table overlay side by side compare"
"""Words that may be typed of any image."""
Do = Callable[[], object]


class Findable:
    """Makes lines for the Finder of a window, each with what it does.

    Parameters
    ----------
    take_tool, open_operation, do : callables
        What becomes of a tool, an operation and a command that is chosen.
    """

    def __init__(
        self,
        desk: Desk,
        on_table: OnTable,
        take_tool: Callable[[Tool], object],
        open_operation: Callable[[Operation], object],
        do: Callable[[Command], object],
        open_study: Callable[[Path], object],
    ):
        self.desk, self.on_table = desk, on_table
        self.take_tool, self.open_operation, self.do, self.open_study = take_tool, open_operation, do, open_study
        self._texts: tuple[object, list[tuple[str, ImageRecord]]] = None, []

    def fixed(self) -> list[tuple[Line, Do]]:
        """All but images."""
        layers = self.desk.layers
        found: list[tuple[Line, Do]] = [
            (line, lambda target=target: self._go(target)) for line, target in fixed_lines()
        ]
        found += [
            (Line("stack", f"Lay out: {words}", "A stack that was saved", "layers view"),
             lambda key=key: layers.lay_out(key))
            for words, key in self.on_table.stacks()
        ]  # fmt: skip
        here = self.desk.study.folder.resolve()
        found += [
            (Line("study", f"Open: {place.name}", f"A study that was opened lately, in {place.parent}", "recent last"),
             lambda place=place: self.open_study(place))
            for place in recent_studies() if place != here
        ]  # fmt: skip
        return found

    def _go(self, target: Target) -> None:
        if isinstance(target, Tool):
            self.take_tool(target)
        elif isinstance(target, Operation):
            self.open_operation(target)
        elif isinstance(target, Command):
            self.do(target)
        else:
            self.desk.viewing.set_stage(target)

    def images(self, typed: str = "") -> list[tuple[Line, Do]]:
        """Images to be shown, laid over the one that leads, or shown beside it."""
        layers, beside, show = self.desk.layers, self.desk.beside, self.desk.viewing.show_image
        records = self._meant(typed.casefold().split())
        over, laid = self.on_table.there(), self.on_table.there(whole=True)
        found: list[tuple[Line, Do]] = [
            (Line("image", f"{r.name} of {r.subject}", r.short_facts), lambda r=r: show(r.id)) for r in records
        ]
        for r in records:
            named = f"{r.subject} · {r.name}"
            if r.id not in over:
                line = Line("layer", f"Lay over: {named}", "Over the image that leads", "on the table overlay")
                found.append((line, lambda r=r: layers.lay_over(r.id)))
        for r in records:
            if r.id not in laid:
                line = Line("layer", f"Show beside: {r.subject} · {r.name}", "Side by side", "compare")
                found.append((line, lambda r=r: beside.add(r.id)))
        return found

    def _meant(self, parts: list[str]) -> list[ImageRecord]:
        """All images, or of many those that may be meant: first those whose name or subject holds all that is typed,
        then those that hold what can be of no other word."""
        records = self.desk.study.records()
        if len(records) <= MANY:
            return records
        everything = self.desk.study.items.everything()
        if self._texts[0] is not everything:
            self._texts = everything, [(f"{r.name} {r.subject}".casefold(), r) for r in records]
        texts = self._texts[1]
        held = [r for text, r in texts if all(p in text for p in parts)][:MANY]
        must = [p for p in parts if p not in WAYS]
        if len(held) < MANY and len(must) < len(parts):
            there = {r.id for r in held}
            more = [r for text, r in texts if all(p in text for p in must) and r.id not in there]
            held += more[: MANY - len(held)]
        return held
