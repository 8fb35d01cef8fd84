"""How panes lie, and what moves together."""

from __future__ import annotations

from ...scene.layer import FOLLOWS
from ..command import command


@command(
    "pane-alone",
    "One pane or four",
    "Panes",
    "F11",
    more="arrangement layout alone large full screen single view maximise orthogonal views",
    order=10,
)
def alone(window) -> None:
    window.table.set_alone(not window.table.alone)


@command(
    "side-by-side",
    "Images side by side, or one",
    "Panes",
    "F6",
    more="arrangement layout compare beside two images tile compare beside",
    order=11,
)
def side_by_side(window) -> None:
    beside = window.desk.beside
    beside.show(() if beside.keys else beside.suggested())


@command("three-planes", "Each image in three planes, or one", "Panes", "F7", more="arrangement side by side", order=12)
def three_planes(window) -> None:
    window.viewing.arrange(three=not window.viewing.arrangement.three)


@command(
    "all-times",
    "All volumes of the series in one pane",
    "Panes",
    "F8",
    more="arrangement times sheet 4d montage mosaic lightbox",
    order=13,
)
def all_times(window) -> None:
    window.table.set_times(not window.viewing.arrangement.times)


@command(
    "contact-sheet",
    "A contact sheet, or panes",
    "Panes",
    "F9",
    more="arrangement lightbox montage mosaic many slices sheet gallery",
    order=13,
)
def contact_sheet(window) -> None:
    window.table.set_sheet(not window.viewing.arrangement.sheet)


@command("next-pane", "The next plane takes the lead", "Panes", "R", more="arrangement swap", pane=True, order=14)
def next_pane(canvas) -> None:
    canvas.desk.parent().table.next_lead()


@command(
    "follow",
    "Move together: by place, by voxel, or apart",
    "Panes",
    "T",
    more="link images lock synchronise sync scroll",
    pane=True,
    order=15,
)
def follow(part) -> None:
    beside = part.desk.beside
    beside.set_follow(FOLLOWS[(FOLLOWS.index(beside.follow) + 1) % len(FOLLOWS)])


def _link(what: str):
    def do(window) -> None:
        window.desk.beside.set_linked(what, not window.desk.beside.linked(what))

    return do


for n, (what, words) in enumerate((("zoom", "zoom"), ("range", "range"), ("place", "place along the axes"))):
    command(f"link-{what}", f"The same {words} in all images, or not", "Panes", more="link together", order=16 + n)(
        _link(what)
    )


@command("float", "Float this pane, or bring it back", "Panes", "U", more="monitor window undock", pane=True, order=20)
def float_pane(canvas) -> None:
    canvas.wants_float.emit()


@command(
    "fold",
    "Fold the sides away, or bring everything back",
    "Panes",
    "F12",
    more="hide shelf bench drawer restore standard layout full screen distraction free panels",
    order=21,
)
def fold(window) -> None:
    window.fold(not window.folded)


@command("next-image", "The next image of the Shelf", "Panes", "Ctrl+Down", more="switch quick", order=22)
def next_image(window) -> None:
    window.shelf.go(1)


@command("previous-image", "The image before on the Shelf", "Panes", "Ctrl+Up", more="switch quick", order=23)
def previous_image(window) -> None:
    window.shelf.go(-1)


@command("last-image", "Back to the image that led before", "Panes", "Ctrl+Tab", more="switch quick toggle", order=24)
def last_image(window) -> None:
    window.viewing.show_last()


@command(
    "solid",
    "Solid view, large",
    "Panes",
    more=(
        "3d view volume rendering surface mesh model render three dimensions transfer function opacity curve clipping "
        "plane crop box explode apart perspective orthographic parallel quality distance between surfaces"
    ),
    order=19,
)
def solid(window) -> None:
    window.table.bring_to_lead(window.table.solid)
