"""The command of an operation, from its parameters: what is an argument, what an option, and how numbers are read."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from .core.operation import Operation
from .core.parameter import Parameter
from .core.sentence import first_sentence
from .result_files import beside_results, flag_of

WIDTH = 110
NEGATIVE = "0123456789.,"
"""What may follow a minus sign for a word to be numbers and no option."""
SECOND = "second_input"
FIRST = ("folder", "file", "name of recipe")
"""Roles of settings that are arguments where no input is."""


class Command(click.Command):
    """A command whose words that begin with a minus sign and a digit are numbers."""

    def parse_args(self, ctx, args: list[str]) -> list[str]:
        return super().parse_args(ctx, _numbers_kept(args, self))


def _numbers_kept(args: list[str], command: click.Command) -> list[str]:
    """Arguments like `-3,4` or `−3` that stand by themselves, guarded so that they are not taken for options."""
    takes = {flag for p in command.params if isinstance(p, click.Option) and not p.is_flag for flag in p.opts}
    kept: list[str] = []
    for n, word in enumerate(args):
        is_value = n > 0 and args[n - 1] in takes
        if not is_value and word[:1] == "-" and word[1:2] and word[1:2] in NEGATIVE:
            word = f"−{word[1:]}"  # a true minus sign, which numbers are read with as well
        kept.append(word)
    return kept


def command_for(operation: Operation, do: Callable[[Operation, dict[str, Any]], None]) -> click.Command:
    """The command of an operation. Its first input or folder is an argument; everything else is an option, and a
    second input of the same kind may be either. `do(operation, given)` is called with what was given."""
    first = next((p for p in operation.parameters if p.is_input or p.role in FIRST), None)
    parameters: list[click.Parameter] = []
    for p in operation.parameters:
        if p.kind.family == "study":
            continue
        parameters.append(_argument(p) if p is first else _option(p, operation.counts_where(p)))
    second = _second(operation, first)
    if second is not None:
        parameters.append(click.Argument([SECOND], required=False, metavar=f"[{second.kind.metavar(second)}]"))
    parameters += _common(operation)
    writes_itself = next((p.name for p in operation.parameters if p.role == "new" and p.required), "")

    def run(**given):
        other = given.pop(SECOND, None)
        if second is not None and other is not None:
            if given[second.name] is not None:
                raise click.UsageError(f"Got unexpected extra argument ({other})")
            given[second.name] = other
        if writes_itself and given[writes_itself] is None and given["out"] is not None:
            given[writes_itself], given["out"] = given["out"], None  # what is asked for is the file that it writes
        do(operation, given)

    return Command(
        operation.name,
        params=parameters,
        callback=run,
        help=_help(operation),
        short_help=first_sentence(operation.summary),
        context_settings={"max_content_width": WIDTH},
    )


def _second(operation: Operation, first: Parameter | None) -> Parameter | None:
    """The input that may be named behind the first one: the next that must be given, or the only other one, when both
    are of one kind, or it is what the first is given to."""
    several = [p for p in operation.parameters if p.is_input and not p.many]
    inputs = several if len(several) == 2 else [p for p in several if p.required]
    if first is None or len(inputs) < 2 or inputs[0] is not first:
        return None
    one, other = first.kind, inputs[1].kind
    return inputs[1] if one.name == other.name or (other.leads and not one.leads) else None


def _help(operation: Operation) -> str:
    """The words before the first section with a line under its name."""
    return re.split(r"\n\w+\n-+\n", inspect.getdoc(operation.function) or "")[0].strip()


def _words(p: Parameter, counts: str) -> str:
    text = (p.help or p.words).rstrip(".") + "."
    text = f"{p.called}: {text}" if p.called and p.help else text
    text += f" Counts where {counts}." if counts else ""
    return text + (" May be given several times." if p.many else "")


def _short(operation: Operation, name: str) -> list[str]:
    """A result's own name as an option, where nothing else is called so."""
    taken = {p.flag for p in operation.parameters} | {"study", "out", "dry-run", "json", "help"}
    flag = name.replace("_", "-")
    return [] if flag in taken else [f"--{flag}"]


def _argument(p: Parameter) -> click.Argument:
    count = -1 if p.many else 1
    return click.Argument([p.name], required=not p.is_input and p.required, nargs=count, metavar=p.kind.metavar(p))


def _option(p: Parameter, counts: str = "") -> click.Option:
    flag = f"--{p.flag}"
    if p.kind.name == "yes or no" and not p.optional:
        both = f"{flag}/--no-{flag[2:]}"
        return click.Option([both, p.name], default=None, help=_words(p, counts) + _default(p), show_default=False)
    return click.Option(
        [flag, p.name],
        metavar=p.kind.metavar(p),
        multiple=p.many,
        default=None,
        help=_words(p, counts) + _default(p),
        hide_input=p.role == "secret",
    )


def _default(p: Parameter) -> str:
    if p.required:
        return "  [required]" if not p.is_input else ""
    if p.default is None or p.default == "" or p.is_input:
        return ""
    value = ("yes" if p.default else "no") if isinstance(p.default, bool) else p.kind.write(p.default)
    text = ",".join(f"{v:g}" for v in value) if isinstance(value, (list, tuple)) else str(value)
    return f"  [{text}]"


def _common(operation: Operation) -> list[click.Parameter]:
    study = click.Option(
        ["--study"],
        type=click.Path(path_type=Path),
        required=bool(operation.acts),
        metavar="FOLDER",
        help="Study to work in and keep the result in.",
    )
    out = click.Option(
        ["--out"],
        type=click.Path(path_type=Path),
        metavar="NEW FILE",
        help="File to write the result to, also when it is kept in a study: .csv or .parquet for tables; .nii.gz,"
        " .nrrd, .mha, .ome.tif, .ome.zarr … for images; .nii.gz, .nrrd, .mha for labels, with their names as .tsv"
        " beside; .tfm or .txt for transforms; .geojson or .csv for marks; .stl, .obj, .ply, .glb, .vtp for surfaces.",
    )
    beside = [
        click.Option(
            [flag_of(r.name), *_short(operation, r.name), f"beside_{r.name}"],
            type=click.Path(path_type=Path),
            metavar="NEW FILE",
            help=f"File for the {r.name.replace('_', ' ')} that comes beside the result ({r.kind.name}).",
        )
        for r in beside_results(operation)
    ]
    dry = click.Option(["--dry-run"], is_flag=True, help="Only tell what would be used, and from where.")
    as_json = click.Option(["--json"], is_flag=True, help="Print the result as JSON.")
    return [study, out, *beside, dry, as_json]
