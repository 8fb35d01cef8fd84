"""What can be found by its name or a word of the trade, whatever is open: tools, operations, stages and settings."""

from __future__ import annotations

from ...core.finding import Line
from ...core.operation import OPERATIONS, Operation
from ...core.sentence import first_sentence
from ...core.synonyms import synonyms_of
from ..command import COMMANDS, Command
from ..models.desk_model import STAGES
from ..tool import TOOLS, Tool

NOT_FOUND = {f"stage-{stage.lower()}" for stage in STAGES} | {"finder"}
"""Commands that are listed elsewhere, or that open the Finder."""
Target = Tool | Operation | Command | str
"""What a line stands for; a text is the name of a stage."""


def fixed_lines() -> list[tuple[Line, Target]]:
    """All lines that need no study, each with what it stands for. An operation that a tool of the same name does by
    hand is found as the tool."""
    by_title = {o.title: o for o in OPERATIONS}
    found: list[tuple[Line, Target]] = []
    for tool in TOOLS:
        same = by_title.pop(tool.title, None)
        more = f"{tool.more} . {same.keywords if same is not None else ''} . {synonyms_of(tool.name)}"
        also = _settings_of(same) if same is not None else ""
        found.append((Line("tool", tool.title, first_sentence(tool.hint), more, also, tool.name), tool))
    for one in by_title.values():
        says = first_sentence(one.summary)
        words = f"{one.keywords} . {synonyms_of(one.name)}"
        found.append((Line("tool", one.title, says, words, f"{one.stage} {_settings_of(one)}", one.name), one))
    found += [(Line("stage", stage, f"Go to {stage}", "stage step"), stage) for stage in STAGES]
    for command in COMMANDS:
        if command.name not in NOT_FOUND:
            keys, more = " or ".join(command.keys), f"{command.more} . {synonyms_of(command.name)}"
            says = f"{command.group}{f', {keys}' if keys else ''}"
            found.append((Line("setting", command.title, says, more, " ".join(command.keys), command.name), command))
    return found


def _settings_of(operation: Operation) -> str:
    return " ".join(f"{p.flag} {p.called}" for p in operation.settings)
