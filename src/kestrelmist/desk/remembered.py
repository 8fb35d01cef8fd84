"""What a window looked at, kept in the study so that it opens again as it was left."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..scene.slices import ImageLook, LabelLook


@dataclass(frozen=True)
class ToolSettings:
    """Settings of the hand tools, in physical units. `low` and `high` are the range in the image's values."""

    size: float = 1.0
    shape: str = "ball"
    low: float = 0.0
    high: float = 1.0
    only_in_range: bool = False
    show_range: bool = False
    neighbours: int = 6


def save_view(desk) -> None:
    """Keep image, crosshair, stage, looks and tool settings."""
    if desk.study.read_only:
        return
    try:
        desk.study.catalogue.remember("view", {
            "image": desk.record.id if desk.record else None, "crosshair": desk.crosshair.tolist(), "stage": desk.stage,
            "left_on_left": desk.left_on_left, "label": desk.label_number,
            "fill": [desk.label_look.fill, desk.label_look.edges],
            "looks": {str(k): [v.low, v.high, v.colour_map, v.smooth] for k, v in desk.looks.items()},
            "places": {str(k): list(v) for k, v in desk._places.items()},
            "settings": {str(k): vars(v) for k, v in desk.tool_settings.items()}})
    except Trouble:
        pass  # a place that cannot be remembered is no reason to stop anyone


def restore_view(desk) -> None:
    """Show what was shown when the study was last open."""
    view = desk.study.catalogue.recall("view", {})
    records = {r.id for r in desk.study.records()}
    for key, (low, high, colours, smooth) in view.get("looks", {}).items():
        desk.looks[int(key)] = ImageLook(low, high, colours, smooth)
    for key, values in view.get("settings", {}).items():
        desk.tool_settings[int(key)] = ToolSettings(**values)
    desk._places = {int(key): tuple(place) for key, place in view.get("places", {}).items()}
    desk.crosshair = np.array(view.get("crosshair", desk.study.catalogue.recall("crosshair", [0.0, 0.0, 0.0])), float)
    desk.left_on_left = view.get("left_on_left", True)
    fill, edges = view.get("fill", (0.35, True))
    desk.label_look = LabelLook(fill, edges)
    wanted = view.get("image", next(iter(records), None))
    desk.set_stage(view.get("stage", "Gather"))
    label = view.get("label")
    if wanted in records:
        desk.show_image(wanted, lambda: desk.choose_label(label) if label in desk.labels.table else None)
