"""A command whose inputs and results are plain files, with no study."""

from __future__ import annotations

from typing import Any

from .command_output import Said
from .core.errors import Trouble
from .core.labels import LabelMap
from .core.operation import Operation
from .core.parameter import Parameter
from .core.progress import Progress
from .study.given import Given
from .study.logbook import Thing
from .study.new_names import with_names
from .study.referring import file_meant
from .study.task import NO_MAP, opened_inputs


def on_files(operation: Operation, given: dict, progress: Progress) -> Said:
    """Run an operation without a study; raises Trouble when an input is not there."""
    given = operation.rerouted(given)
    inputs = {p.name: _meant(operation, p, given.pop(p.name, None)) for p in operation.inputs}
    settings = with_names(operation, operation.checked(given), inputs)
    arguments: dict[str, Any] = {}
    for p in operation.inputs:
        opened = opened_inputs(None, p, inputs[p.name], progress.part(0.0, 0.1))
        if p.many:
            arguments[p.name] = opened
        elif opened:
            arguments[p.name] = opened[0]
        elif p.required and p.kind.of:
            image = next((v for v in arguments.values() if hasattr(v, "kji") and not isinstance(v, LabelMap)), None)
            chosen = any(q.role == "label" and not q.required for q in operation.settings)  # may do without labels
            if image is None or (operation.returns("table") and not chosen):
                flag = p.flag
                raise Trouble(
                    f"“{operation.title}” needs a label map",
                    f"name a file with --{flag}, or work in a study with --study",
                )
            arguments[p.name] = LabelMap(image.space, name=NO_MAP)
    values = operation(progress.part(0.1, 0.9), **arguments, **settings)
    return Said.of_files(operation, arguments, values)


def _meant(operation: Operation, p: Parameter, wanted: Any) -> tuple[Given, ...]:
    """What is given to an input, as files; raises Trouble when one is not there."""
    several = wanted if isinstance(wanted, list) else [] if wanted is None else [wanted]
    if not several and p.required and not p.kind.of:
        article = "an" if p.kind.name[0] in "aeiou" else "a"
        raise Trouble(f"“{operation.title}” needs {article} {p.kind.name}", p.wanted + ", the latter with --study")
    found: list[Given] = []
    for text in several:
        meant = file_meant(text)
        if meant is None or meant.file is None:
            raise Trouble("There is no file or folder of this name", "check the name, or add --study", text)
        thing = Thing(p.kind.name, meant.file.name, place=meant.place, path=str(meant.file))
        found.append(Given(thing, file=meant.file, part=meant.part))
    return tuple(found)
