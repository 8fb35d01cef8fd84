"""Going from place to place."""

from __future__ import annotations

import numpy as np

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


@command("origin", "Go to the origin", "Going", "O", more="crosshair zero jump", pane=True, order=20)
def origin(part) -> None:
    part.viewing.go_to((0.0, 0.0, 0.0))


@command(
    "middle", "Go to the centre of the image", "Going", "M", more="crosshair middle grid jump", pane=True, order=21
)
def middle(part) -> None:
    if part.viewing.record is not None:
        part.viewing.go_to(part.viewing.record.grid.centre)


@command(
    "highest", "Go to the highest value near", "Going", "H", more="peak maximum crosshair jump", pane=True, order=22
)
def highest(part) -> None:
    """The highest value of the chosen layer within NEAR voxels."""
    desk = part.desk
    image = desk.layers.image(desk.layers.chosen) if desk.layers.chosen is not None else None
    found = None if image is None or not image.in_memory else highest_near(image, part.viewing.crosshair)
    if found is None:
        desk.session.trouble.emit("There is no value near the crosshair: go into the image first.")
        return
    part.viewing.go_to(found)


NEAR = 5
"""Voxels in each direction that "near" is."""


def highest_near(image, world, near: int = NEAR) -> np.ndarray | None:
    """World position of the highest value within some voxels of a place; None when there is no value."""
    image = image.grey()
    at = np.floor(image.space.to_voxel(world) + 0.5).astype(int)
    low, high = np.maximum(at - near, 0), np.minimum(at + near + 1, image.space.shape)
    if np.any(high <= low):
        return None
    part = np.asarray(image.data[tuple(slice(a, b) for a, b in zip(low, high))], np.float64)
    if not np.isfinite(part).any():
        return None
    best = np.unravel_index(np.nanargmax(np.where(np.isfinite(part), part, np.nan)), part.shape)
    return image.space.to_world(low + np.array(best))


@command(
    "label-centre", "Go to the centre of the label", "Going", "L", more="crosshair jump region", pane=True, order=23
)
def label_centre(part) -> None:
    desk = part.desk
    label, labels = desk.hand.label, desk.viewing.labels
    if label is None or labels is None or not labels.counts[label.number]:
        desk.session.trouble.emit("The label in hand is empty or there is none: choose one with voxels first.")
        return

    def find(progress):
        box = labels.painted
        inside = np.argwhere(labels.kji[box] == label.number) + [part.start for part in box]
        middle = inside.mean(0)
        # of a bent label the middle may lie outside: the voxel nearest to it is taken
        nearest = inside[np.argmin(((inside - middle) ** 2).sum(1))]
        return labels.space.to_world(nearest[::-1])

    desk.session.work.start("Centre of the label", find, desk.viewing.go_to, lane="preview", loud=False)


@command(
    "type-place",
    "Type a position",
    "Going",
    "G",
    more="go to world voxel crosshair jump coordinates",
    pane=True,
    order=24,
)
def type_place(part) -> None:
    part.desk.parent().bench.look.go.setFocus()
    part.desk.parent().bench.look.go.selectAll()


handling("wheel", "Wheel", "Step through slices; of a picture of one slice, zoom", "Going", "Wheel", "step")
handling("point", "Shift + left drag", "Move the crosshair, whatever the tool", "Going", "Left", "point", "Shift")
