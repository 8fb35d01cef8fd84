"""A command whose inputs and results are plain files, with no study."""

from __future__ import annotations

from typing import Any

from .command_output import Said
from .core.operation import Operation
from .core.progress import Progress
from .study.inputs import settle
from .study.task import compute


def on_files(operation: Operation, given: dict[str, Any], progress: Progress) -> Said:
    """Run an operation without a study; raises Trouble when an input is not there."""
    task = settle(None, operation.name, given)
    made = compute(None, task, progress, prepare=False)
    return Said.of_files(operation, made.arguments, made.values)
