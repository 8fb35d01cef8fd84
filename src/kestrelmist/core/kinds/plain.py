"""Plain values: numbers with units, whole numbers, yes or no, choices, several numbers, text, paths."""

from __future__ import annotations

import math
import re
from pathlib import Path
from typing import Any, Literal

from ..kind import Asked, Kind, register
from ..quantity import Quantity

WITH_UNIT = re.compile(r"([-+]?[\d.]+(?:[eE][-+]?\d+)?)\s*((?![eE][-+]?\d)[A-Za-zµμ°%]\S*)")
"""A number with a unit behind it."""
YES, NO = ("true", "yes", "on", "1"), ("false", "no", "off", "0")


def unit_words(p: Asked) -> str:
    """The unit in a sentence: " in mm"; nothing for values of the image."""
    return f" in {p.unit}" if p.unit and p.unit != "value" else ""


def in_unit(text: str, unit: str) -> float:
    """A number from text, in a unit; another one may stand behind it, as in 0.51 ms where seconds are asked.

    Raises
    ------
    ValueError
        When it is no number, or its unit cannot be given in the one that is asked for.
    """
    text = text.strip().replace("−", "-")
    own = WITH_UNIT.fullmatch(text)
    if own is None or not unit:
        return float(text)
    return Quantity(float(own.group(1)), own.group(2)).to(unit).value


def _number(given: Any, p: Asked) -> float:
    if isinstance(given, bool):
        raise TypeError
    if not isinstance(given, str):
        return float(given)
    return in_unit(given, "" if p.unit == "value" else p.unit)


def _whole(given: Any, p: Asked) -> int:
    number = _number(given, p)
    if not math.isfinite(number):
        raise ValueError
    if number != int(number):
        raise ValueError
    # a long whole number keeps all its digits
    return int(given) if isinstance(given, (int, str)) and re.fullmatch(r"\s*[+-]?\d+\s*", str(given)) else int(number)


def _yes_or_no(given: Any, p: Asked) -> bool:
    if isinstance(given, bool):
        return given
    text = str(given).strip().casefold()
    if text not in YES + NO:
        raise ValueError
    return text in YES


def _choice(given: Any, p: Asked) -> Any:
    return next((c for c in p.choices if c == given or str(c) == str(given).strip()), given)


def _numbers(given: Any, p: Asked) -> tuple[float, ...]:
    parts = re.split(r"[,;\s]+", given.strip()) if isinstance(given, str) else list(given)
    if p.role in ("end", "spot") and len(parts) == 2:
        parts = [*parts, 0.0]  # on a picture, whose plane is that of z = 0
    if len(parts) != p.length:
        raise ValueError
    return tuple(_number(part, p) for part in parts)


def _text(given: Any, p: Asked) -> str:
    if isinstance(given, (list, dict, tuple)):
        raise TypeError
    return str(given)


def _path(given: Any, p: Asked) -> Path:
    if not isinstance(given, (str, Path)) or not str(given) or "\0" in str(given):
        raise TypeError
    return Path(given)


def _number_wanted(p: Asked) -> str:
    limits = f" from {p.low:g} to {p.high:g}" if math.isfinite(p.low) else ""
    return f"give a {'whole ' if p.kind.type is int else ''}number{limits}{unit_words(p)}"


def _metavar(p: Asked) -> str:
    if p.unit == "value":
        return "VALUE"
    name = p.unit or ("WHOLE NUMBER" if p.kind.type is int else "NUMBER")
    return ",".join([name] * p.length) if p.length > 1 else name


NUMBER = register(Kind("number", float, read=_number, wanted=_number_wanted, field="number", metavar=_metavar))
WHOLE = register(Kind("whole number", int, read=_whole, wanted=_number_wanted, field="number", metavar=_metavar))
YES_OR_NO = register(
    Kind("yes or no", bool, read=_yes_or_no, wanted=lambda p: "say yes or no", field="tick", metavar=lambda p: "yes|no")
)
CHOICE = register(
    Kind(
        "choice",
        type(Literal[1]),
        read=_choice,
        wanted=lambda p: "choose " + ", ".join(map(str, p.choices)),
        field="choice",
        metavar=lambda p: "|".join(map(str, p.choices)),
    )
)
NUMBERS = register(
    Kind(
        "numbers",
        tuple,
        read=_numbers,
        write=list,
        wanted=lambda p: f"give {p.length} numbers{unit_words(p)}, with commas between them",
        field="numbers",
        metavar=_metavar,
    )
)
TEXT = register(
    Kind("text", str, read=_text, wanted=lambda p: "give a text", metavar=lambda p: p.role.upper() or "TEXT")
)
PATH = register(
    Kind(
        "path",
        Path,
        read=_path,
        write=str,
        wanted=lambda p: f"name a {'new file or folder' if p.role == 'new' else p.role or 'file or folder'}",
        field="path",
        metavar=lambda p: {"folder": "FOLDER", "file": "FILE", "new": "NEW PATH"}.get(p.role, "PATH"),
    )
)
