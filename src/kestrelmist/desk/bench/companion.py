"""What stands beside the fields of one operation's form: something to look at and to set them by."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, runtime_checkable

from PySide6.QtWidgets import QWidget

from ...core.registry import Registry
from ..models.desk_model import Desk


class Fields(Protocol):
    """A form as its companion sees it."""

    fields: dict[str, QWidget]

    def values(self) -> dict[str, Any]:
        """What stands in its fields, by the names of the operation's parameters."""
        ...


@runtime_checkable
class Ready(Protocol):
    """A companion that knows something which must be done first."""

    def require_ready(self) -> None:
        """Raises Trouble when it is not done."""


Companion = Callable[[Desk, Fields], QWidget]
COMPANIONS: Registry[Companion] = Registry("companion", f"{__package__}.companions")


def companion(operation: str):
    """Register a function that makes the companion of an operation's form, in a module that is called like it."""

    def register(make: Companion) -> Companion:
        return COMPANIONS.add(operation, make)

    return register
