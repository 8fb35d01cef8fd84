"""Label maps as layers: filled, with edges."""

from __future__ import annotations

import numpy as np

from ...core.labels import LabelMap
from ..colouring import over_numbers
from ..colours import label_colours
from ..layer import LabelLook
from ..layer_type import Drawn, LayerType, register
from ..sampling import sample_numbers
from ..view import View


def _first(labels: LabelMap, over: bool) -> tuple[LabelLook, float]:
    return LabelLook(), 1.0


def _pixels(view: View, layer: Drawn, out: np.ndarray) -> None:
    look = layer.look
    colours = label_colours(layer.thing.table, look.only)
    edges, opacity = look.edge_width if look.edges else 0, layer.opacity * look.opacity
    over_numbers(sample_numbers(view, layer.thing), colours, look.fill, edges, opacity, out)


register(LayerType("labels", LabelMap, LabelLook, _first, _pixels))
