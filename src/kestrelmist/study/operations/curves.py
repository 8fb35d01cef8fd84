"""How a kept curve is drawn."""

from __future__ import annotations

from typing import Annotated, Literal

from ...core.curve import Dashes, require_style
from ...core.errors import Trouble
from ...core.left_out import LeftOut
from ...core.operation import operation
from ..journal.changes import ItemChange
from ..journal.logbook import Step
from ..kinds import AnyCurve
from ..study import Study


@operation(
    "measure",
    "Style a curve",
    name="style-curve",
    keywords="colour width dashes line course",
    repeats=False,
    called={"dashes": "Line"},
    group="Courses",
)
def style_curve(
    study: Study,
    curve: AnyCurve,
    colour: str = "",
    width: Annotated[float | None, LeftOut("as it is", was=0.0)] = None,
    dashes: Literal["as it is", Dashes] = "as it is",
) -> None:
    """Draw a curve in another colour, width or kind of line.

    Parameters
    ----------
    colour : text
        As #RRGGBB; as it is when left out.
    width : number
        In pixels, 0.5 to 8; as it is when left out.
    dashes : text
        Kind of line.

    Raises
    ------
    Trouble
        When a curve cannot be drawn so, or nothing is to be changed.
    """
    before = {key: curve.body.get(key) for key in ("colour", "width", "dashes")}
    after = dict(before)
    after |= {"colour": colour} if colour else {}
    after |= {"width": float(width)} if width else {}
    after |= {"dashes": dashes} if dashes != "as it is" else {}
    if after == before:
        raise Trouble(f"Nothing of “{curve.name}” is to be changed", "give a colour, a width or a kind of line")
    require_style(str(after["colour"]), float(after["width"] or 0), str(after["dashes"]))
    fields = [{f"body.{key}": value for key, value in one.items()} for one in (before, after)]
    title = f"Style “{curve.name}”"
    given = {key: value for key, value in after.items() if value != before[key]}
    step = Step("style-curve", title, given, {"curve": (study.as_thing(curve),)})
    study.history.do([ItemChange(curve.id, title, fields[0], fields[1])], step, title)
