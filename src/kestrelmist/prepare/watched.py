"""Long work of a library that tells how far it is, and can be stopped."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.errors import Cancelled


def watch(filter: Any, event: int, tell: Callable[[], None]) -> None:
    """Have `tell` called at every event of a SimpleITK filter or registration; when work was cancelled the filter is
    ended, and the next that is told of its progress raises what says so.

    The library prints what is raised in the midst of it, so nothing may be.
    """

    def look() -> None:
        try:
            tell()
        except Cancelled:
            (filter.Abort if hasattr(filter, "Abort") else filter.StopRegistration)()

    filter.AddCommand(event, look)
