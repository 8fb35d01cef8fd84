"""Files of marks and of classes that are damaged, or say what no such file should say."""

from __future__ import annotations

import json
import random
from pathlib import Path

from kestrelmist.core.class_table import ClassRow, ClassTable
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.formats.format import format_of
from kestrelmist.formats.saving import save_thing
from kestrelmist.measure.mark_files import take_marks
from tests.making import two_balls

from .case import Failed, case, require
from .limits import within
from .samples import damage

ODD = (
    *(None, True, -1, 0, 0.5, 2**70, 1e308, float("inf")),
    *("", "3", "=1+1", "<b>", "\0", "x" * 70000),
    *([], {}, [[]], [1], {"a": 1}),
)


def some_marks() -> Marks:
    """One of many shapes."""
    several = [
        Mark("point", ((1, 2, 3),), name="<b>"),
        Mark("line", ((0, 0, 0), (3, 4, 0)), normal=(0.0, 0.0, 1.0), cls=2),
        Mark("polygon", ((0, 0, 0), (4, 0, 0), (4, 4, 0)), text="=1+1", notes={"a": [1, 2]}),
        Mark("text", ((1, 1, 1),), text="here", colour="#112233", place=(2,)),
    ]
    return Marks.numbered(several, name="Made up")


def turned(rng: random.Random, value):
    """A value of JSON with something odd put in one place."""
    if isinstance(value, (dict, list)) and value and rng.random() < 0.85:
        made = dict(value) if isinstance(value, dict) else list(value)
        key = rng.choice(list(made)) if isinstance(made, dict) else rng.randrange(len(made))
        made[key] = turned(rng, made[key])
        return made
    return rng.choice(ODD)


def opened(path: Path, what: str, image: Image) -> str:
    """Open a file as marks, as classes, and take it onto an image; returns what came of it."""
    came = "a sentence"
    for kind in ("marks", "classes"):
        try:
            with within(what):
                known = format_of(path, kind)
                if known is not None:
                    thing = known.open(path)
                    again = path.with_name(f"again{path.suffix}")
                    save_thing(again, thing)
                    same = known.open(again)
                    require(len(list(same)) == len(list(thing)), f"{what}: written again it has another count")
                    came = "opened"
        except Trouble as trouble:
            require("Traceback" not in str(trouble) and len(str(trouble)) < 2000, f"{what}: {str(trouble)[:300]}")
        except Failed:
            raise
        except Exception as error:
            raise Failed(f"{what}, as {kind}: {type(error).__name__}: {error}") from error
    try:
        with within(what):
            take_marks(image=image, file=path, unit="mm")
    except Trouble as trouble:
        require(len(str(trouble)) < 2000, f"{what}: {str(trouble)[:300]}")
    except Exception as error:
        raise Failed(f"{what}, taken: {type(error).__name__}: {error}") from error
    return came


@case("files: marks and classes, damaged")
def damaged(rng: random.Random, place: Path) -> str:
    name = rng.choice(("a.geojson", "a.csv", "classes.csv"))
    thing = ClassTable((ClassRow(1, "Bone"), ClassRow(7, "Brain", parent=1)), "Made up") if name[0] == "c" else None
    save_thing(place / name, thing if thing is not None else some_marks())
    return opened(place / name, f"{name}, {damage(rng, place / name)}", image_here())


@case("files: marks that say odd things")
def odd(rng: random.Random, place: Path) -> str:
    save_thing(place / "a.geojson", some_marks())
    whole = json.loads((place / "a.geojson").read_text())
    for _ in range(rng.randrange(1, 4)):
        whole = turned(rng, whole)
    text = json.dumps(whole)
    (place / "a.geojson").write_text(text)
    return opened(place / "a.geojson", text[:1500], image_here())


def image_here() -> Image:
    image = two_balls()
    return Image(image.data, Space(image.space.shape, image.space.affine), subject="HM-07")
