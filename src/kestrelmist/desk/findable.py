"""What the Finder can find in a window: tools, stages, settings, saved stacks, and the images of the study."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..core.operation import OPERATIONS
from ..study.items import ImageRecord
from .command import COMMANDS
from .desk_model import STAGES
from .finder import Entry
from .tool import TOOLS

if TYPE_CHECKING:
    from .window import Window

NOT_FOUND = {f"stage-{stage.lower()}" for stage in STAGES} | {"finder"}
"""Commands that are listed elsewhere, or that open the Finder."""
MANY = 300
"""Images that are all listed; of more, those that fit what is typed."""
WAYS = "image of lay over: show beside: · layer on the table overlay side by side compare"
"""Words that may be typed of any image."""


class Findable:
    """Makes entries for the Finder of a window."""

    def __init__(self, window: Window):
        self.window = window
        self._texts: tuple[object, list[tuple[str, ImageRecord]]] = None, []

    def fixed(self) -> list[Entry]:
        """All but images."""
        window = self.window
        viewing, layers = window.viewing, window.desk.layers
        found = [Entry("tool", t.title, t.hint, lambda t=t: window._take_tool(t)) for t in TOOLS]
        titles = {t.title for t in TOOLS}
        found += [
            Entry("tool", o.title, f"{o.stage} {o.keywords} {o.summary}", lambda o=o: window.bench.open_operation(o))
            for o in OPERATIONS
            if o.title not in titles
        ]
        found += [Entry("stage", s, "", lambda s=s: viewing.set_stage(s)) for s in STAGES]
        found += [
            Entry("stack", f"Lay out: {words}", "layers saved view", lambda key=key: layers.lay_out(key))
            for words, key in window.on_table.stacks()
        ]
        found += [
            Entry("setting", one.title, f"{one.more} {' '.join(one.keys)}", lambda one=one: window._do(one))
            for one in COMMANDS
            if one.name not in NOT_FOUND
        ]
        return found

    def images(self, typed: str = "") -> list[Entry]:
        """Images to be shown, laid over the one that leads, or shown beside it."""
        window = self.window
        layers, beside, show = window.desk.layers, window.desk.beside, window.viewing.show_image
        records = self._meant(typed.casefold().split())
        over, laid = window.on_table.there(), window.on_table.there(whole=True)
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
        records = self.window.desk.study.records()
        if len(records) <= MANY:
            return records
        everything = self.window.desk.study.items.everything()
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
