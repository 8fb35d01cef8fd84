"""What lies on the table."""

from __future__ import annotations

from dataclasses import replace

from ...scene.compare import WAYS
from ..command import command


def _way(way: str):
    def do(part) -> None:
        layers = part.desk.layers
        layers.compare(replace(layers.comparison, way=way))

    return do


for n, (way, words, more) in enumerate(
    (
        ("over", "Compare: one over the other", "overlay blend fusion fuse"),
        ("fade", "Compare: fade", "fuse fusion opacity transparency overlay blend"),
        ("swipe", "Compare: swipe", "wipe curtain slider"),
        ("squares", "Compare: squares", "checkerboard chequerboard tiles"),
        ("edges", "Compare: edges", "outline contour"),
    )
):
    assert way in WAYS
    command(f"compare-{way}", words, "Layers", f"Ctrl+{n + 1}", more=f"{more} two images", order=10 + n)(_way(way))


@command("fade-held", "While held: fade to what lies above, or away from it", "Layers", "F", pane=True, order=20)
def fade_held(canvas) -> None:
    canvas.hold_fade()


@command("next-layer", "Choose the next layer", "Layers", "N", more="look card", pane=True, order=21)
def next_layer(part) -> None:
    layers = part.desk.layers
    keys = [row.record.id for row in layers.rows]
    if len(keys) > 1:
        layers.choose(keys[(keys.index(layers.chosen) + 1) % len(keys)])


@command("eye", "Show or hide the chosen layer", "Layers", "E", more="visible", pane=True, order=22)
def eye(part) -> None:
    layers = part.desk.layers
    layer = layers.stack.of(layers.chosen) if layers.chosen is not None else None
    lead = part.viewing.record
    if layer is not None and lead is not None and layer.thing != lead.id:
        layers.set_shown(layers.chosen, not layer.shown)


@command(
    "only-lead",
    "Everything but the lead image off the table",
    "Layers",
    "Ctrl+Backspace",
    more="take away clear layers",
    order=23,
)
def only_lead(window) -> None:
    window.desk.layers.take_all_away()
    window.desk.beside.show(())


@command("other-maps", "Other label maps as edges", "Layers", more="overlay compare", order=24)
def other_maps(window) -> None:
    window.viewing.maps.show_others(not window.viewing.maps.others_shown)


@command("save-stack", "Save the stack on the table", "Layers", "Ctrl+S", more="layers keep name view", order=25)
def save_stack(window) -> None:
    window.on_table.ask_and_save()
