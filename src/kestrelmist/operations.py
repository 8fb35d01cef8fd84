"""Every operation of the program. Importing a stage package registers what its modules decorate."""

from __future__ import annotations

import importlib
import pkgutil

from .core.errors import Trouble
from .core.operation import OPERATIONS, STAGES, Operation


def all_operations() -> dict[str, Operation]:
    """Operations by name, in the order of the stages."""
    for stage in STAGES:
        package = importlib.import_module(f"{__package__}.{stage}")
        for module in sorted(m.name for m in pkgutil.iter_modules(package.__path__)):
            importlib.import_module(f"{package.__name__}.{module}")
    return dict(sorted(OPERATIONS.items(), key=lambda item: (STAGES.index(item[1].stage), item[1].title)))


def find_operation(name: str) -> Operation:
    """The operation of that name; raises Trouble when there is none."""
    found = all_operations().get(name)
    if found is None:
        raise Trouble(f"There is no operation called “{name}”", "see the list with: kestrelmist --help")
    return found
