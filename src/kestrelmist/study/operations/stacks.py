"""Stacks under a name: the layers that lie over an image, with their looks, to be laid out and drawn again."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.errors import Trouble
from ...core.names import plain_name
from ...core.operation import operation
from ...scene.compare import Comparison
from ...scene.laid import as_text
from ...scene.layer import LabelLook, Layer, MarkLook, Stack, restored
from ..items import Record
from ..journal.changes import ItemChange
from ..journal.logbook import Step
from ..kinds import AnyImage
from ..study import Study


@operation(
    "report", "Save the stack", name="save-stack", keywords="layers view looks keep", repeats=False, group="Pictures"
)
def save_stack(study: Study, image: AnyImage, name: str, over: list[AnyImage] | None = None) -> None:
    """Keep what lies over an image under a name: as it is seen in the window, with the label map and the marks in hand,
    or other images with looks chosen from their values.

    Parameters
    ----------
    name : text
        A name for it; one that there is already is not taken again.
    over : images
        Laid over it, the first one lowest, in place of what lies over it in the window.

    Raises
    ------
    Trouble
        When there is no name.
    """
    seen_stack(study, image, name, over)


def seen_stack(study: Study, image: Record, name: str, over: Sequence[Record] | None = None) -> int:
    """What `save_stack` does; returns the stack's id."""
    view = study.catalogue.recall("view", {})
    view = view if isinstance(view, dict) else {}
    stacks = view.get("stacks")
    rows = stacks.get(str(image.id)) if isinstance(stacks, dict) else None
    stack = Stack.from_list([row for row in rows or () if isinstance(row, dict)])
    if over or stack.of(image.id) is None:
        rows = [{"thing": one.id} for one in (image, *(over or []))]
        return keep_stack(study, image, name, rows, Comparison())
    places = view.get("places") if isinstance(view.get("places"), dict) else {}
    layers = []
    for layer in stack.layers:
        if study.items.get(layer.thing) is not None if isinstance(layer.thing, int) else False:
            place = places.get(str(layer.thing)) if isinstance(places, dict) else None
            layers.append(layer.as_dict() | ({"place": place} if isinstance(place, list) else {}))
    hand = study.in_hand(image.id)
    if hand is not None:
        looks = view.get("map_looks")
        look = restored(LabelLook, looks.get(str(hand)) if isinstance(looks, dict) else None)
        layers.append(Layer(hand, look=look).as_dict())
    drawn_on = study.marks.in_hand(image.id)
    marks = None if drawn_on is None else study.marks.open(drawn_on)
    if drawn_on is not None and marks:
        layers.append(Layer(drawn_on, look=MarkLook(colours=study.marks.class_colours(marks))).as_dict())
    return keep_stack(study, image, name, layers, restored(Comparison, view.get("comparison")))


def keep_stack(study: Study, image: Record, name: str, layers: list[dict], how: Comparison) -> int:
    """Write a stack into the study as one step that can be undone; returns its id."""
    wanted = plain_name(name)
    if not wanted:
        raise Trouble("A stack needs a name", "type one")
    fresh = study.items.free_name(wanted, "stack", image.subject, None)
    body = as_text(layers, how)
    record = Record(0, "stack", image.subject, fresh, None, None, "", body, removed=True)
    with study.catalogue.change() as db:
        key = study.items.insert(db, record)
    title = f"Save the stack “{fresh}”"
    step = Step("save-stack", title, {"name": fresh}, {"image": (study.as_thing(image),)})
    study.history.do([ItemChange(key, title, {"removed": True}, {"removed": False})], step, title)
    return key
