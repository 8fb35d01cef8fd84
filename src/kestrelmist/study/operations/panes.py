"""The panes of the window as panels of a figure, which can be edited and is drawn anew whenever it is written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ...core.errors import Trouble
from ...core.names import plain_name
from ...core.operation import operation
from ...core.table import Table
from ...scene.layer import Arrangement, Stack, restored
from ...scene.solid.settings import settings_of
from ...scene.solid.shown import Shown
from ..kinds import AnyImage
from ..solid_inputs import solid_inputs
from ..study import Study
from .figures import GROUP, keep_panel, table_of
from .stacks import seen_stack

SOLID = "Solid"


@operation(
    "report",
    "Put the panes on a figure",
    name="panes-on-figure",
    keywords="figure panels arrangement multi-panel screenshot window whole view orthogonal",
    repeats=False,
    group=GROUP,
)
def panes_on_figure(study: Study, image: AnyImage, figure: str) -> Table:
    """Add the panes that the window shows of an image to a figure: its planes through the crosshair with what lies over
    it, which is kept as a stack, and the solid view. Without a window they are those that were seen last.

    Parameters
    ----------
    figure : text
        Its name; it is begun when there is none of that name.

    Raises
    ------
    Trouble
        When there is no name, or the window shows a contact sheet or images side by side, which are panels of their
        own.
    """
    wanted = plain_name(figure)
    if not wanted:
        raise Trouble("A figure needs a name", "type one")
    view = study.catalogue.recall("view", {})
    view = view if isinstance(view, dict) else {}
    lies = restored(Arrangement, view.get("arrangement"))
    if lies.sheet or lies.times or lies.beside:
        raise Trouble("These panes are no panels", "show the usual panes, or add the contact sheet from its form")
    crosshair = view.get("crosshair")
    here = crosshair if isinstance(crosshair, list) and len(crosshair) == 3 else image.grid.centre.tolist()
    names = lies.order[:1] if lies.alone else lies.order
    flat = image.grid.flat_axis is not None
    planes = [n for n in names if n != SOLID]
    whole = None
    stacks = view.get("stacks")
    rows = stacks.get(str(image.id)) if isinstance(stacks, dict) else None
    lying = Stack.from_list([row for row in rows or () if isinstance(row, dict)]).layers
    over = [one.thing for one in lying if one.shown and isinstance(one.thing, int) and one.thing != image.id]
    stack = seen_stack(study, image, f"{wanted}, panes of {image.name}") if planes else None
    for name in names:
        if name == SOLID:
            if not flat:
                whole = keep_panel(study, wanted, "render", _solid(study, image, over, view, here))
            continue
        across = "xyz".index({"Sagittal": "x", "Coronal": "y", "Axial": "z"}[name])
        if flat and across != image.grid.flat_axis:
            continue
        corners = image.grid.corners()[:, across]
        at = min(max(float(here[across]), float(corners.min())), float(corners.max()))
        given = {"stack": stack, "plane": name.casefold(), "at": at, "left_on_left": lies.left_on_left}
        whole = keep_panel(study, wanted, "picture", given)
    if whole is None:
        raise Trouble("There is no pane to put on a figure", "show a plane of the image")
    return table_of(study, whole)


def _solid(study: Study, image: Any, over: list[int], view: dict[str, Any], here: Sequence[float]) -> dict[str, Any]:
    """What the solid view shows of an image, as inputs and settings of its picture."""
    kept = study.catalogue.recall("solid views", {})
    shown = Shown.from_dict(kept.get(str(image.id)) if isinstance(kept, dict) else None)
    hand = study.in_hand(image.id)
    table = study.labels(image.id).table if hand is not None else None

    def label(number: int) -> str:
        named = table.get(number) if table is not None and number > 0 else None
        return named.name if named is not None else ""

    others = [one.id for one in study.label_maps(image.id) if one.id != hand] if view.get("show_others") else []
    inputs = solid_inputs(study, image.id, shown, over, others)
    if inputs["labels"] is None:
        shown = replace(shown, only=0, inside=-1)
    return {"image": image.id, **settings_of(shown, shown.look, label, here)} | {k: v for k, v in inputs.items() if v}
