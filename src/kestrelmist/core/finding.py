"""Finding what is meant by a few words: in any order, in singular or plural, with an ending more or less, British or
American, in one word or two, with a letter wrong."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Generic, TypeVar

T = TypeVar("T")

WORD = re.compile(r"[^\W_]+(?:[&+][^\W_]+)*")
SMALL = frozenset("a an and as at by do for from how i in into is it my of off on or the to with".split())
"""Words that say nothing."""
COMMON = frozenset(
    "correction correct removal remove tool filter analysis apply make create add get show image images file data set"
    " value values using new method operation measurement measure".split()
)
"""Words that tell things apart, but need not be found beside others: "distortion correction" is "Undistort"."""
ALIKE = (("ae", "e"), ("our", "or"), ("grey", "gray"), ("centre", "center"), ("metre", "meter"), ("yse", "yze"),
         ("isation", "ization"), ("ising", "izing"), ("ise", "ize"))  # fmt: skip
"""Spellings of one word."""
ENDINGS = sorted(
    "izations ization ations ation ings ing ments ment ness ions ion ers er ors or izing ized izes ize ed es al e s"
    "".split(),
    key=len,
    reverse=True,
)
LEAST = 4
"""Letters that are left of a word without its ending."""
NAME, WORDS, SAYS, KIND = 1.0, 0.85, 0.3, 0.3
"""How much a word counts by where it stands."""
LATER = 0.003
"""How much less a word counts than the one before it: what is said first is meant most."""
REMEMBERED = 500
"""Words that were typed, of which it is remembered what they may mean."""
ENOUGH = 0.14
"""How well each word has to be found."""


@dataclass(frozen=True)
class Line:
    """Something that can be found.

    Parameters
    ----------
    kind : str
        "tool", "setting", "image", …
    name : str
    says : str
        What it does, in a few words.
    words : str
        More words for it, those of the trade.
    also : str
        Words that it has to do with, such as those of its settings.
    command : str
        What it is called on the command line.
    """

    kind: str
    name: str
    says: str = ""
    words: str = ""
    also: str = ""
    command: str = ""


def parts_of(text: str) -> list[str]:
    """The words of a text, in one spelling."""
    return [_spelt(word) for word in WORD.findall(text.casefold().replace("’", "'"))]


@lru_cache(maxsize=20_000)
def _spelt(word: str) -> str:
    for one, other in ALIKE:
        word = word.replace(one, other)
    return word


@lru_cache(maxsize=20_000)
def stem(word: str) -> str:
    """A word without its ending.

    >>> stem("segmentation"), stem("segments"), stem("smoothing"), stem("noise"), stem("bones")
    ('segment', 'segment', 'smooth', 'nois', 'bone')
    """
    for ending in ENDINGS:
        if word.endswith(ending) and len(word) - len(ending) >= LEAST:
            return word[: -len(ending)]
    return word


def likeness(typed: str, word: str) -> float:
    """How surely a word is meant by what was typed, 0 to 1; what is typed may be its beginning, and have a letter
    wrong, two of a long word.

    >>> likeness("smooth", "smooth"), likeness("smoothed", "smoothing"), likeness("bone", "cranium")
    (1.0, 0.95, 0.0)
    """
    return _likeness(typed, stem(typed), word, stem(word), _distance())


@lru_cache(maxsize=1)
def _distance() -> Callable[..., int]:
    """Letters to be changed, left out, put in or exchanged with the next one; the library is loaded when somebody
    looks for something."""
    from rapidfuzz.distance import OSA

    return OSA.distance


def _likeness(typed: str, typed_stem: str, word: str, word_stem: str, distance: Callable[..., int]) -> float:
    if typed_stem == word_stem:
        return 1.0 if typed == word else 0.95
    long, other = len(typed), len(word)
    if long >= 2 and word.startswith(typed):
        return 0.75 + 0.15 * long / other
    if other >= LEAST and typed.startswith(word_stem):
        return 0.7
    if long >= 3 and typed in word:
        return 0.45
    if long < LEAST:
        return 0.0
    wrong = 2 if long >= 8 else 1
    if -wrong <= other - long <= wrong:
        away = distance(typed, word, score_cutoff=wrong)
        if away <= wrong:
            return 0.8 - 0.1 * away
    if other > long >= 5 and distance(typed, word[:long], score_cutoff=1) <= 1:
        return 0.5
    return 0.0


class Finding(Generic[T]):
    """Lines that are looked through again and again.

    Parameters
    ----------
    lines : sequence of (Line, anything)
        In the order in which they stand where nothing tells them apart.
    """

    def __init__(self, lines: Sequence[tuple[Line, T]]):
        self.lines = lines
        self._known = [_Known(line) for line, _ in lines]
        self._often: dict[str, int] = {}
        self._vocabulary = {word: stem(word) for known in self._known for word in (*known.weights, *known.both)}
        self._alikes: dict[str, dict[str, float]] = {}
        for known in self._known:
            for word in {stem(w) for w in (*known.name, *known.words)}:
                self._often[word] = self._often.get(word, 0) + 1

    def found(self, typed: str, lately: Iterable[str] = ()) -> list[T]:
        """What is meant by some words, the likeliest first; everything where there are none. `lately` are names of what
        was used, the last one first."""
        return [found for _, found in self.scored(typed, lately)]

    def scored(self, typed: str, lately: Iterable[str] = ()) -> list[tuple[float, T]]:
        """The same, with how surely each is meant."""
        used = {name: n for n, name in enumerate(lately)}
        parts = parts_of(typed)
        if not parts:
            order = sorted(range(len(self.lines)), key=lambda n: (used.get(self.lines[n][0].name, len(used) + 1), n))
            return [(1.0 if self.lines[n][0].name in used else 0.0, self.lines[n][1]) for n in order]
        joined = ["".join(parts)] if len(parts) > 1 else []
        like = {part: self._alike(part) for part in (*parts, *joined)}
        scored = []
        for n, known in enumerate(self._known):
            score = self._score(known, parts, like)
            if score > 0:
                scored.append((-score - (0.06 if known.line.name in used else 0.0), n))
        return [(-score, self.lines[n][1]) for score, n in sorted(scored)]

    def _alike(self, part: str) -> dict[str, float]:
        """The words of all lines that a part may mean, and how surely."""
        known = self._alikes.get(part)
        if known is None:
            if len(self._alikes) >= REMEMBERED:
                self._alikes.clear()
            end, distance = stem(part), _distance()
            every = ((word, _likeness(part, end, word, its, distance)) for word, its in self._vocabulary.items())
            known = self._alikes[part] = {word: sure for word, sure in every if sure}
        return known

    def _score(self, known: _Known, parts: list[str], like: dict[str, dict[str, float]]) -> float:
        total = weights = 0.0
        asked = [p for p in parts if p not in SMALL] or parts
        joined = "".join(parts) if len(parts) > 1 else ""
        whole = max((like[joined].get(w, 0.0) for w in known.both), default=0.0) if joined else 0.0
        if whole < 0.95:  # written in two words here and in one there
            whole = 0.0
        found = 0
        for part in asked:
            best, word = known.best(like[part])
            if best < ENOUGH and not whole:
                if len(asked) == 1 or part not in COMMON:
                    return 0.0
                best = 0.0
            found += part not in COMMON
            weight = 1 / (1 + math.log(1 + self._often.get(stem(word), 1)))
            total += weight * max(best, NAME * whole if whole else 0.0)
            weights += weight
        if not found and len(asked) > 1 and not total:
            return 0.0
        score = total / weights
        stems = [stem(p) for p in asked]
        score += 1.0 if 1 < len(parts) and known.name[: len(parts) - 1] == parts[:-1] and _begun(known, parts) else 0.0
        if _in_a_row(stems, known.name_stems):
            score += 1.0 if len(stems) == len(known.name_stems) else 0.3
            score += 0.1 if known.name_stems[: len(stems)] == stems else 0.0
        elif len(stems) > 1 and _in_a_row(stems, known.word_stems):
            score += 0.35
        elif whole:
            score += 0.3
        if parts == known.command:
            score += 0.6
        return score + BY_KIND.get(known.line.kind, 0.0)


BY_KIND = {"tool": 0.03, "setting": 0.02, "image": -0.02, "layer": -0.6}
"""What stands before other things that are found as well."""


class _Known:
    """A line with its words taken apart."""

    def __init__(self, line: Line):
        self.line = line
        self.name, self.words = parts_of(line.name), parts_of(line.words)
        self.says = [w for w in dict.fromkeys(parts_of(f"{line.says} {line.also}")) if w not in SMALL]
        self.command = parts_of(line.command)
        self.kind = parts_of(line.kind)
        self.name_stems = [stem(w) for w in self.name if w not in SMALL] or [stem(w) for w in self.name]
        self.word_stems = [stem(w) for w in self.words]
        pairs = [a + b for row in (self.name, self.words) for a, b in zip(row, row[1:])]
        self.both = [*self.name, *self.words, *pairs]
        fields = (
            (NAME, self.name),
            (WORDS, self.words),
            (WORDS, self.command),
            (0.9 * WORDS, pairs),
            (SAYS, self.says),
            (KIND, self.kind),
        )
        self.weights: dict[str, float] = {}
        for weight, row in fields:
            for n, word in enumerate(row):
                self.weights.setdefault(word, weight - LATER * min(n, 30))

    def best(self, like: dict[str, float]) -> tuple[float, str]:
        """How well a word is found, and as which, by what it may mean."""
        few, many = (like, self.weights) if len(like) < len(self.weights) else (self.weights, like)
        found = ((self.weights[word] * like[word], word) for word in few if word in many)
        return max(found, default=(0.0, ""))


def _begun(known: _Known, parts: list[str]) -> bool:
    """Whether a name begins as what was typed, the last word of which may not be whole yet."""
    return len(known.name) >= len(parts) and known.name[len(parts) - 1].startswith(parts[-1])


def _in_a_row(few: list[str], many: list[str]) -> bool:
    return any(many[n : n + len(few)] == few for n in range(len(many) - len(few) + 1))
