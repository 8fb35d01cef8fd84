"""Going from place to place."""

from __future__ import annotations

from ...measure.places import highest_near, middle_of
from ..command import command, handling


def _step(along: str, count: int):
    def do(canvas) -> None:
        axis = getattr(canvas.plane, along)
        # right is where the picture says it is
        turned = along == "right" and axis == 0 and not canvas.viewing.left_on_left
        canvas.sight.step(axis, -count if turned else count)

    return do


for name, title, along, count, key in (
    ("left", "One voxel to the picture's left", "right", -1, "Left"),
    ("right", "One voxel to the picture's right", "right", 1, "Right"),
    ("up", "One voxel up in the picture", "up", 1, "Up"),
    ("down", "One voxel down in the picture", "up", -1, "Down"),
    ("nearer", "The next slice", "across", 1, "PgUp"),
    ("further", "The slice before", "across", -1, "PgDown"),
):
    command(f"step-{name}", title, "Going", key, pane=True, order=10)(_step(along, count))


@command(
    "origin", "Go to the origin", "Going", "O", more="crosshair zero jump anterior commissure home", pane=True, order=20
)
def origin(part) -> None:
    part.viewing.go_to((0.0, 0.0, 0.0))


@command(
    "middle", "Go to the centre of the image", "Going", "M", more="crosshair middle grid jump", pane=True, order=21
)
def middle(part) -> None:
    if part.viewing.record is not None:
        part.viewing.go_to(part.viewing.record.grid.centre)


@command(
    "highest",
    "Go to the highest value near",
    "Going",
    "H",
    more="peak maximum crosshair jump peak voxel hottest",
    pane=True,
    order=22,
)
def highest(part) -> None:
    """The highest value of the chosen layer within a few voxels of the crosshair."""
    desk = part.desk
    image = desk.layers.image(desk.layers.chosen) if desk.layers.chosen is not None else None
    found = None if image is None or not image.in_memory else highest_near(image, part.viewing.crosshair)
    if found is None:
        desk.session.trouble.emit("There is no value near the crosshair: go into the image first.")
        return
    part.viewing.go_to(found)


@command(
    "label-centre",
    "Go to the centre of the label",
    "Going",
    "L",
    more="crosshair jump region centre of mass centroid",
    pane=True,
    order=23,
)
def label_centre(part) -> None:
    desk = part.desk
    label, labels = desk.hand.label, desk.viewing.maps.labels
    if label is None or labels is None or not labels.counts[label.number]:
        desk.session.trouble.emit("The label in hand is empty or there is none: choose one with voxels first.")
        return

    def find(progress):
        return middle_of(labels, label.number)

    desk.session.work.start("Centre of the label", find, desk.viewing.go_to, lane="preview", loud=False)


@command(
    "type-place",
    "Type a position",
    "Going",
    "G",
    more="go to world voxel crosshair jump coordinates goto coordinates position mni standard",
    pane=True,
    order=24,
)
def type_place(part) -> None:
    part.desk.parent().bench.look.go.setFocus()
    part.desk.parent().bench.look.go.selectAll()


handling("wheel", "Wheel", "Step through slices; of a picture of one slice, zoom", "Going", "Wheel", "step")
handling("point", "Shift + left drag", "Move the crosshair, whatever the tool", "Going", "Left", "point", "Shift")
