"""What the program remembers of a person, beside all studies: those opened lately, the size of letters."""

from __future__ import annotations

import json
from contextlib import suppress
from pathlib import Path
from typing import Any

from .errors import Trouble
from .home import home
from .safe_write import written_whole

RECENT = 12
"""Studies that are remembered."""
SIZES = (0.8, 2.0)
"""Between these letters are made smaller and larger."""


def _file() -> Path:
    return home() / "person.json"


def remembered() -> dict[str, Any]:
    """All that is remembered; nothing where the file is gone or damaged."""
    with suppress(OSError, ValueError):
        found = json.loads(_file().read_text(encoding="utf-8"))
        if isinstance(found, dict):
            return found
    return {}


def remember(**facts: Any) -> None:
    """Remember something; where it cannot be written, it is forgotten."""
    with suppress(OSError, Trouble):
        _file().parent.mkdir(parents=True, exist_ok=True)
        with written_whole(_file()) as stream:
            stream.write(json.dumps(remembered() | facts, ensure_ascii=False, indent=1).encode())


def recent_studies() -> list[Path]:
    """Studies that were opened lately and are still there, the last one first."""
    kept = remembered().get("studies")
    places = [Path(one) for one in kept if isinstance(one, str)] if isinstance(kept, list) else []
    there = []
    for place in places:
        with suppress(OSError):
            if (place / "study.db").is_file():
                there.append(place)
    return there


def opened(folder: Path) -> None:
    """A study was opened."""
    place = folder.resolve()
    others = [one for one in recent_studies() if one != place]
    remember(studies=[str(one) for one in (place, *others)[:RECENT]])


def letters() -> float:
    """How much larger than usual everything is drawn."""
    size = remembered().get("letters")
    sound = isinstance(size, (int, float)) and not isinstance(size, bool) and SIZES[0] <= size <= SIZES[1]
    return float(size) if sound else 1.0  # type: ignore[arg-type]


def set_letters(size: float) -> float:
    """Draw everything larger or smaller from the next start on; returns what is remembered."""
    size = round(min(max(size, SIZES[0]), SIZES[1]), 2)
    remember(letters=size)
    return size
