"""What the Finder can find in a window: tools, stages, settings, saved stacks, and the images of the study."""

from __future__ import annotations

from collections.abc import Callable

from ..core.operation import OPERATIONS, Operation
from ..study.items import ImageRecord
from .command import COMMANDS, Command
from .desk_model import STAGES, Desk
from .finder import Entry
from .on_table import OnTable
from .tool import TOOLS, Tool

NOT_FOUND = {f"stage-{stage.lower()}" for stage in STAGES} | {"finder"}
"""Commands that are listed elsewhere, or that open the Finder."""
MANY = 300
"""Images that are all listed; of more, those that fit what is typed."""
WAYS = "image of lay over: show beside: · layer on the table overlay side by side compare"
"""Words that may be typed of any image."""


class Findable:
    """Makes entries for the Finder of a window.

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
    ):
        self.desk, self.on_table = desk, on_table
        self.take_tool, self.open_operation, self.do = take_tool, open_operation, do
        self._texts: tuple[object, list[tuple[str, ImageRecord]]] = None, []

    def fixed(self) -> list[Entry]:
        """All but images."""
        layers = self.desk.layers
        found = [Entry("tool", t.title, t.hint, lambda t=t: self.take_tool(t)) for t in TOOLS]
        titles = {t.title for t in TOOLS}
        found += [
            Entry("tool", o.title, f"{o.stage} {o.keywords} {o.summary}", lambda o=o: self.open_operation(o))
            for o in OPERATIONS
            if o.title not in titles
        ]
        found += [Entry("stage", s, "", lambda s=s: self.desk.viewing.set_stage(s)) for s in STAGES]
        found += [
            Entry("stack", f"Lay out: {words}", "layers saved view", lambda key=key: layers.lay_out(key))
            for words, key in self.on_table.stacks()
        ]
        found += [
            Entry("setting", one.title, f"{one.more} {' '.join(one.keys)}", lambda one=one: self.do(one))
            for one in COMMANDS
            if one.name not in NOT_FOUND
        ]
        return found

    def images(self, typed: str = "") -> list[Entry]:
        """Images to be shown, laid over the one that leads, or shown beside it."""
        layers, beside, show = self.desk.layers, self.desk.beside, self.desk.viewing.show_image
        records = self._meant(typed.casefold().split())
        over, laid = self.on_table.there(), self.on_table.there(whole=True)
        found = [Entry("image", f"{r.name} of {r.subject}", r.short_facts, lambda r=r: show(r.id)) for r in records]
        found += [
            Entry(
                "layer", f"Lay over: {r.subject} · {r.name}", "on the table overlay", lambda r=r: layers.lay_over(r.id)
            )
            for r in records
            if r.id not in over
        ]
        found += [
            Entry("layer", f"Show beside: {r.subject} · {r.name}", "side by side compare", lambda r=r: beside.add(r.id))
            for r in records
            if r.id not in laid
        ]
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
