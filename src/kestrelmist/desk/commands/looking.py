"""Zoom, pan, side, crosshair, and how values are shown."""

from __future__ import annotations

from ..command import command, handling

handling("zoom", "Ctrl + wheel", "Zoom about the pointer", "Looking", "Wheel", "zoom", "Ctrl")
handling("pinch", "Pinch with two fingers", "Zoom about the pointer", "Looking", "Pinch", "zoom")
handling("fingers", "Two fingers on a touchpad", "Move the picture", "Looking", "Fingers", "pan")
handling("fingers-step", "Alt + two fingers", "Step through slices", "Looking", "Fingers", "step", "Alt")
handling("pan", "Middle drag", "Move the picture", "Looking", "Middle", "pan")
handling("range", "Right drag", "Display range: sideways wider, up and down brighter", "Looking", "Right", "range")


@command("zoom-in", "Zoom in", "Looking", "+", "=", pane=True, order=10, more="magnify enlarge zoom")
def zoom_in(canvas) -> None:
    canvas.zoom(1.2)


@command("zoom-out", "Zoom out", "Looking", "-", pane=True, order=11, more="shrink zoom")
def zoom_out(canvas) -> None:
    canvas.zoom(1 / 1.2)


@command("fit", "Fit the image into this pane", "Looking", "0", pane=True, order=12, more="zoom to fit whole image")
def fit(canvas) -> None:
    canvas.fit()


@command(
    "fit-all",
    "Fit the image into the panes",
    "Looking",
    "Shift+0",
    more="zoom reset view zoom to fit whole image",
    order=13,
)
def fit_all(window) -> None:
    window.fit_all()


@command(
    "one-to-one",
    "One pixel of the screen for each of the image",
    "Looking",
    "1",
    more="1:1 zoom full resolution",
    pane=True,
    order=14,
)
def one_to_one(canvas) -> None:
    canvas.one_to_one()


@command("same-scale", "The same scale in all panes", "Looking", "S", more="zoom equal", pane=True, order=15)
def same_scale(canvas) -> None:
    canvas.wants_scale.emit(canvas.view.pixel if canvas.view is not None else 0.0)


@command(
    "swap-sides",
    "Swap left and right",
    "Looking",
    "X",
    more="side convention radiological neurological feet above flip display left right",
    pane=True,
    order=20,
)
def swap_sides(part) -> None:
    part.viewing.arrange(left_on_left=not part.viewing.left_on_left)


@command(
    "own-axes",
    "Along the image's own axes, or the world's",
    "Looking",
    "W",
    more="tilted oblique grid",
    pane=True,
    order=21,
)
def own_axes(part) -> None:
    part.viewing.arrange(own_axes=not part.viewing.arrangement.own_axes)


@command(
    "smooth",
    "Smooth or true voxels",
    "Looking",
    "V",
    more="interpolation nearest bilinear resample pixelated",
    pane=True,
    order=22,
)
def smooth(part) -> None:
    layers = part.desk.layers
    if layers.look is not None:
        layers.set_look(smooth=not layers.look.smooth)


@command("crosshair", "Crosshair on or off", "Looking", "C", more="hide lines cursor lines", pane=True, order=23)
def crosshair(part) -> None:
    part.viewing.arrange(crosshair_width=0.0 if part.viewing.arrangement.crosshair_width else 1.0)


@command(
    "bars",
    "Colour bars on or off",
    "Looking",
    "B",
    more="legend scale unit scale bar colourbar ruler",
    pane=True,
    order=24,
)
def bars(part) -> None:
    part.viewing.arrange(bars=not part.viewing.arrangement.bars)


@command(
    "range",
    "Range of values that is shown",
    "Looking",
    more="brightness window level width centre auto contrast limits reset contrast ct hounsfield preset",
    order=25,
)
def range_shown(window) -> None:
    window.bench.look.low.setFocus()
    window.bench.look.low.selectAll()


@command("colours", "Colours", "Looking", more="colormap colour map color lookup table lut palette", order=25)
def colours(window) -> None:
    window.bench.look.colours.setFocus()
    window.bench.look.colours.showPopup()


@command(
    "slab",
    "Slab",
    "Looking",
    more="thick slab thickness mip minip maximum minimum mean intensity projection panes several slices",
    order=25,
)
def slab(window) -> None:
    window.bench.look.more.setChecked(True)
    window.bench.look.rest.slab.setFocus()
    window.bench.look.rest.slab.selectAll()


@command(
    "invert", "Turn the colours round", "Looking", "I", more="invert negative inverted lookup", pane=True, order=25
)
def invert(part) -> None:
    layers = part.desk.layers
    if layers.look is not None:
        layers.set_look(inverted=not layers.look.inverted)
