"""Names of new files with places in them that are filled for each image: "{subject} {name}.nii.gz"."""

from __future__ import annotations

import re
from pathlib import Path

from .errors import Trouble
from .names import file_name

PLACES = ("subject", "visit", "image", "name", "number")
"""What may stand between braces: whose the image is, when it was taken, what it is called, what the thing is called
(the image, where it is one), the first free number."""
FOUND = re.compile(r"\{(" + "|".join(PLACES) + r")\}")
MOST = 100_000


def has_places(text: str) -> bool:
    """Whether a name has places to be filled."""
    return FOUND.search(text) is not None


def with_place(text: str) -> str:
    """A name with a place for that of the image before its ending, so that several images get names of their own."""
    if not text.strip() or has_places(text):
        return text
    path = Path(text)
    ending = "".join(path.suffixes[-2:]) if path.suffixes[-1:] in ([".gz"], [".tif"], [".zarr"]) else path.suffix
    return str(path.with_name(f"{path.name.removesuffix(ending)} {{name}}{ending}"))


def filled(text: str, known: dict[str, str]) -> str:
    """The name with its places filled; "{number}" becomes the first for which nothing is there.

    Raises
    ------
    Trouble
        When something that is asked for is not known.
    """

    def one(found: re.Match) -> str:
        word = found[1]
        if word == "number":
            return known.get(word) or found[0]
        value = file_name(known.get(word, ""))
        if not value:
            raise Trouble(f"The {word} is not known, and “{text}” asks for it", "write the name without it")
        return value

    made = FOUND.sub(one, text)
    if "{number}" not in made:
        return made
    return next(
        tried for n in range(1, MOST) if not Path(tried := made.replace("{number}", str(n))).exists() or n == MOST - 1
    )
