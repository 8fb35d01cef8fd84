"""What a contour must be to become voxels."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.sound import crossing


def require_sound(mark: Mark) -> None:
    """Raises Trouble when a closed line crosses itself."""
    at = crossing(mark)
    if at is not None:
        place = ", ".join(f"{v:.4g}" for v in at)
        raise Trouble(f"The {mark.called} crosses itself near ({place})", "draw that stretch again, or move its points")
