"""Long work of a library that tells how far it is, and can be stopped."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

from .errors import Cancelled


class _Stopped(Exception):
    """Raised in the midst of a filter: nothing else ends it at once, some go on for many iterations when aborted."""


def execute(filter: Any, event: int, tell: Callable[[], None], *given: Any) -> Any:
    """Execute a SimpleITK filter or registration on images, with `tell` called at every event; when that raises that
    work was cancelled, the filter ends there and then.

    Raises
    ------
    Cancelled
    RuntimeError
        When the library cannot do it.
    """

    def look() -> None:
        try:
            tell()
        except Cancelled:
            _say_nothing_of_it()
            raise _Stopped from None

    filter.AddCommand(event, look)
    try:
        return filter.Execute(*given)
    except RuntimeError:
        tell()  # says so when it was cancelled
        raise


def _say_nothing_of_it() -> None:
    """The library prints what is raised in the midst of it, by the hook for exceptions that nobody caught."""
    before = sys.excepthook
    if getattr(before, "knows_stopped", False):
        return

    def hook(kind, value, trace) -> None:
        if issubclass(kind, _Stopped):
            sys.last_type = sys.last_value = sys.last_traceback = None  # they would keep images in memory
        else:
            before(kind, value, trace)

    hook.knows_stopped = True  # type: ignore[attr-defined]
    sys.excepthook = hook
