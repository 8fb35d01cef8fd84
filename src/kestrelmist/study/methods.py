"""Sentences for the methods of a paper, and their sources, from steps of the logbook."""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import Any

from ..core.errors import Trouble
from ..core.operation import Operation, operation_called
from ..core.sources import cited
from .journal.logbook import Step
from .used import shown

PLACE = re.compile(r"\{(\w+)\}")
NOT_SAID = "as the program chooses"


def sentences_of(
    steps: list[Step], subject: str = "", standard: Collection[str] = ()
) -> tuple[list[tuple[str, list[int]]], list[str]]:
    """Sentences in the order of the first such step, each with the numbers of its sources; and the sources. What is of
    a `standard` space is of no subject."""
    whose: dict[str, list[set[str]]] = {}
    keys: dict[str, tuple[str, ...]] = {}
    counts: dict[str, int] = {}
    for step in steps:
        about = operation_called(step.operation)
        if step.undone or about is None or not about.methods or (subject and step.subject != subject):
            continue
        text = sentence_of(about, step)
        whose.setdefault(text, [set()])[0].add("" if step.subject in standard else step.subject)
        keys[text], counts[text] = about.cites, counts.get(text, 0) + 1
    subjects = {step.subject for step in steps if step.subject and not step.undone} - set(standard)
    sources: list[str] = []
    told = []
    for text, (those,) in whose.items():
        numbers = []
        for key in keys[text]:
            full = cited(key)
            if full not in sources:
                sources.append(full)
            numbers.append(sources.index(full) + 1)
        few = not subject and 0 < len(those - {""}) < len(subjects)
        of = f" (in {len(those)} of {len(subjects)} subjects)" if few else ""
        told.append((f"{text}{of}.", numbers))
    return told, sources


def sentence_of(about: Operation, step: Step) -> str:
    """The sentence of a step, with its settings as they were used."""
    known = {p.name: p for p in about.settings}

    def put(match: re.Match) -> str:
        name = match.group(1)
        value: Any = step.settings.get(name)
        p = known.get(name)
        if p is not None and p.or_thing is not None and step.inputs.get(p.or_thing.input):
            return "a separate image"
        if value in (None, "") and name in step.found:
            value = step.found[name][0]
        if value in (None, "") or name not in known:
            left = known[name].left_out if name in known else None
            return NOT_SAID if left is None else left.words
        try:
            return shown(known[name].checked(value), known[name])
        except Trouble:  # a setting of an older version
            return str(value)

    return PLACE.sub(put, about.methods)


def as_text(told: list[tuple[str, list[int]]], sources: list[str]) -> str:
    """The whole as text."""
    from .. import VERSION

    body = " ".join(f"{text[:-1]}{f' [{_numbers(numbers)}]' if numbers else ''}." for text, numbers in told)
    listed = "\n".join(f"[{n}] {source}." for n, source in enumerate(sources, 1))
    return f"{body}\n\nDone with Kestrelmist {VERSION}.\n{f'{chr(10)}{listed}{chr(10)}' if listed else ''}"


def _numbers(numbers: list[int]) -> str:
    return ", ".join(map(str, numbers))
