"""Long work of a library that tells how far it is, and can be stopped."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


def watch(filter: Any, event: int, tell: Callable[[], None]) -> None:
    """Have `tell` called at every event of a SimpleITK filter or registration; what it raises (as when work was
    cancelled) ends the filter."""

    def look() -> None:
        try:
            tell()
        except BaseException:
            (filter.Abort if hasattr(filter, "Abort") else filter.StopRegistration)()
            raise

    filter.AddCommand(event, look)
