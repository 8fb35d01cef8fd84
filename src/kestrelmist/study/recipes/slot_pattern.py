"""The name by which a recipe finds a thing within any subject."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Sequence

from ...formats.bids_names import BidsName, parsed, parsed_rest
from ..items import Record

OWN = "{subject}"
"""Stands in a pattern for the subject's own part of a name."""
ANY, STAR = "*", "[*]"
"""Stand in a pattern for anything, and for a star of the name, as in T2*."""
OR, BAR = "|", "[|]"
"""Between patterns of which the first that anything fits counts, and a bar of the name."""
NOT_THE_ROLE = ("sub", "ses", "run")
"""Parts of a BIDS name that tell whose and which it is, and not what for."""


def pattern_of(name: str, subject: str) -> str:
    """A name with the subject's own part taken out, as it stands alone or in a BIDS name.

    >>> pattern_of("sub-HM07_task-odour_bold", "HM-07"), pattern_of("HM-07 head", "HM-07"), pattern_of("T2*", "HM-07")
    ('sub-{subject}_task-odour_bold', '{subject} head', 'T2[*]')
    """
    name = name.replace(ANY, STAR).replace(OR, BAR)
    for own in _ways_to_write(subject):
        # without its marks it may be any word, as T1: only BIDS writes it so
        before = "(?<![^\\W_])" if own == subject else "(?<=sub-)"
        alone = re.compile(rf"{before}{re.escape(own)}(?![^\W_])", re.I)
        if len(own) > 1 and alone.search(name):
            return alone.sub(OWN, name)
    return name


def _ways_to_write(subject: str) -> list[str]:
    plain = "".join(c for c in subject if c.isalnum())
    return [own for own in dict.fromkeys((subject, plain)) if own]


def fitting(pattern: str, records: Sequence[Record]) -> list[Record]:
    """Of things of one kind those that a pattern means: by their name, in which `*` stands for anything, with their own
    subject's part in its place; else, of BIDS names, by what they are for (task, contrast, kind), whichever session and
    run they are of. Of several with `|` between the first that fits anything counts."""
    several = (one.strip() for one in re.split(r"(?<!\[)\|", pattern))
    return next((fits for one in several if (fits := _fitting(one, records))), [])


def _fitting(pattern: str, records: Sequence[Record]) -> list[Record]:
    exact = [r for r in records if any(r.name.casefold() == shown(one) for one in _filled(pattern, r.subject))]
    if exact:
        return exact
    if ANY in pattern.replace(STAR, ""):
        like = [r for r in records if any(_alike(one, r.name.casefold()) for one in _filled(pattern, r.subject))]
        if like:
            return like
    role = _role(pattern.replace(OWN, "x"))
    return [] if role is None else [r for r in records if _role(r.name) == role]


def shown(pattern: str) -> str:
    """A pattern as a person reads it."""
    return pattern.replace(STAR, ANY).replace(BAR, OR)


def _alike(pattern: str, name: str) -> bool:
    """By `fnmatch`, of whose signs only the star counts."""
    pattern = pattern.replace(BAR, OR)
    parts = [part.replace("[", "[[]").replace("?", "[?]") for part in pattern.split(STAR)]
    return fnmatch.fnmatchcase(name, STAR.join(parts))


def _filled(pattern: str, subject: str) -> list[str]:
    return [pattern.replace(OWN, own).casefold() for own in _ways_to_write(subject) or [subject]]


def _role(name: str) -> tuple[str, frozenset[tuple[str, str]]] | None:
    """What a BIDS name says an image is for; None of other names."""
    found: BidsName | None = parsed(name) or parsed_rest(name)
    if found is None:
        return None
    return found.suffix, frozenset((k, v) for k, v in found.entities.items() if k not in NOT_THE_ROLE)
