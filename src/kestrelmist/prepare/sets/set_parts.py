"""Subjects shared out among training, validation and test, each into one part only."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence

import numpy as np

from ...core.errors import Trouble

PARTS = ("training", "validation", "test")
WORDS = {
    "training": ("training", "train", "trn", "tr"),
    "validation": ("validation", "valid", "val", "dev", "va"),
    "test": ("test", "testing", "tst", "te", "holdout"),
}


def shared_out(
    classes: Mapping[str, Sequence[str]], validation: float, test: float, seed: int, balanced: bool = True
) -> dict[str, str]:
    """The part of each subject.

    Parameters
    ----------
    classes : dict of subject to texts
        The classes of its boxes, "" for a picture without one.
    validation, test : number
        Below 1 a share of the subjects, from 1 on how many of them.
    seed : number
        The same seed shares the same subjects out in the same way, whatever their order.
    balanced : bool
        Subjects with the same classes are shared out among themselves, so that each part has them in like shares.

    Raises
    ------
    Trouble
        When nothing is left for training.
    """
    subjects = sorted(classes)
    for number in (validation, test):
        if number >= 1 and number != int(number):
            raise Trouble(f"{number:g} subjects are no whole number", "give a share below 1, or how many")
    wanted = {"validation": _count(validation, len(subjects)), "test": _count(test, len(subjects))}
    if sum(wanted.values()) >= len(subjects):
        raise Trouble(
            f"{sum(wanted.values())} of {len(subjects)} subjects are wanted for validation and test",
            "leave some for training",
        )
    rng = np.random.default_rng(seed)
    groups: dict[str, list[str]] = defaultdict(list)
    for subject in subjects:
        found = Counter(classes[subject])
        groups[", ".join(sorted(found)) if balanced else ""].append(subject)
    # groups one after another, each in an order of its own: every n-th of the row is taken, so each gives its share
    row = [group[n] for _, group in sorted(groups.items()) for n in rng.permutation(len(group))]
    made = dict.fromkeys(subjects, "training")
    for part in ("validation", "test"):
        free = [subject for subject in row if made[subject] == "training"]
        count = wanted[part]
        if count:
            start = rng.uniform(0, len(free) / count)
            for n in range(count):
                made[free[min(int(start + n * len(free) / count), len(free) - 1)]] = part
    return made


def by_column(parts: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """The part of each subject as a column of the table says, by the words of its rows.

    Raises
    ------
    Trouble
        When a word is none, or a subject is in two parts.
    """
    made = {}
    for subject, words in parts.items():
        found = set()
        for word in words:
            part = next((p for p, known in WORDS.items() if word.strip().casefold() in known), None)
            if part is None:
                raise Trouble(
                    f"“{word}” is none of training, validation and test", "mend that column, or share out anew"
                )
            found.add(part)
        if len(found) > 1:
            raise Trouble(
                f"Subject “{subject}” is in {' and in '.join(sorted(found))}",
                "put all of its pictures into one part, or share out anew",
            )
        made[subject] = found.pop()
    return made


def _count(share: float, subjects: int) -> int:
    return round(share) if share >= 1 else round(share * subjects)
