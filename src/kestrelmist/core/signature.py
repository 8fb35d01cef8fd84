"""What the signature of an operation says: its parameters in order, with the settings that several operations share."""

from __future__ import annotations

import inspect
import re
import typing
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any, NamedTuple


class Settings:
    """Settings that several operations have in common: a frozen dataclass whose fields, with hints and the help of
    its docstring, are settings of every operation that takes one."""


class Described(NamedTuple):
    """One parameter as it is written, and the help its docstring gives."""

    parameter: inspect.Parameter
    hint: Any
    help: str


def hints_of(function: Callable) -> dict[str, Any]:
    """Type hints by name, with what is noted beside them."""
    return typing.get_type_hints(function, include_extras=True)


def described(function: Callable, hints: dict[str, Any]) -> Iterator[Described]:
    """Parameters in the order of the signature; those of a group of settings stand where it does. Left out is
    `progress`, which nobody sets."""
    helps = parameter_helps(inspect.getdoc(function) or "")
    for name, p in inspect.signature(function).parameters.items():
        hint = hints[name]
        if _is_group(hint):
            yield from described(hint, hints_of(hint))
        elif name != "progress":
            yield Described(p, hint, helps.get(name, ""))


def gathered(hints: dict[str, Any], arguments: dict[str, Any]) -> dict[str, Any]:
    """Arguments by name, with settings of a group put together to one."""
    arguments = dict(arguments)
    for name, hint in hints.items():
        if name != "return" and _is_group(hint):
            own = {field: arguments.pop(field) for field in _fields(hint) if field in arguments}
            arguments[name] = hint(**own)
    return arguments


def parameter_helps(doc: str) -> dict[str, str]:
    """Help texts from a docstring's Parameters section: `name : type` lines with indented text below."""
    section = re.search(r"Parameters\n-+\n(.*?)(?:\n\n\w+\n-+\n|\Z)", doc, re.S)
    helps: dict[str, str] = {}
    names: list[str] = []
    for line in section.group(1).splitlines() if section else ():
        if head := re.match(r"(\w[\w, ]*?) : ", line):
            names = [n.strip() for n in head.group(1).split(",")]
        elif line.startswith(" "):
            for n in names:
                helps[n] = (helps.get(n, "") + " " + line.strip()).strip()
    return helps


def _is_group(hint: Any) -> bool:
    return isinstance(hint, type) and issubclass(hint, Settings)


@cache
def _fields(group: type) -> tuple[str, ...]:
    return tuple(inspect.signature(group).parameters)
