"""What a person has chosen to see in a solid scene, as settings of the operation that writes a picture, or a film."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from .look_text import text_of
from .shown import ANY, Shown
from .volume_look import VolumeLook


def settings_of(
    shown: Shown,
    look: VolumeLook | None,
    label: Callable[[int], str],
    crosshair: Sequence[float] = (),
    quality: str = "usual",
    film: bool = False,
) -> dict[str, Any]:
    """Settings by their names.

    Parameters
    ----------
    look : VolumeLook, optional
        Of the volume, as it is seen.
    label : callable
        The name of a label of the map in hand; "" where it has none of that number.
    crosshair : three numbers
        Where the three planes cross.
    quality : str
        Of `QUALITIES`.
    film : bool
        For a film, which turns by itself.
    """
    camera = shown.camera
    found: dict[str, Any] = {
        "image_as": shown.image,
        "look": text_of(look) if shown.image == "volume" and look is not None else "",
        "opacity": shown.label_opacity,
        "slices": shown.slices,
        "crosshair": ", ".join(f"{v:.6g}" for v in crosshair) if shown.slices else "",
        "apart_by": shown.apart,
        "draw_labels": shown.labels,
        "only": label(shown.only),
        "inside": ANY if not shown.inside else label(shown.inside),
        "quality": quality,
        "crop": ", ".join(f"{v:.6g}" for end in shown.crop or () for v in end),
        "cut": ", ".join(f"{v:.9g}" for v in shown.cut or ()),
        "tilt": camera.tilt,
        "zoom": camera.zoom,
        "across": camera.across,
        "up": camera.up,
    }
    if not film:
        found |= {
            "turn": camera.turn if camera.turn <= 180 else camera.turn - 360,
            "roll": camera.roll if camera.roll <= 180 else camera.roll - 360,
            "parallel": camera.parallel,
        }
    return found
