"""The list of operations: plain functions, described by their own signatures.

From a function's signature and docstring come its command line, its recipe step, its logbook entry and its
form on the Bench. The decorator adds only a stage and a title.
"""

from __future__ import annotations

import inspect
import math
import re
import types
import typing
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

from .errors import Trouble
from .image import Image
from .labels import LabelMap
from .progress import Progress

STAGES = ("gather", "prepare", "align", "outline", "measure", "report")


@dataclass(frozen=True)
class Unit:
    """Unit of a number parameter; "value" stands for the unit of the image's own values."""

    text: str


@dataclass(frozen=True)
class Role:
    """What a text or path parameter names: "label", "folder", "file", "new" for a file or folder to be made, or "secret" for a word that
    is never written down."""

    text: str


@dataclass(frozen=True)
class Between:
    """Lowest and highest number that make sense."""

    low: float
    high: float


Millimetres = Annotated[float, Unit("mm")]
ImageValue = Annotated[float, Unit("value")]
WorldPoint = Annotated[tuple[float, float, float], Unit("mm")]
Spacing = Annotated[tuple[float, float, float], Unit("mm"), Between(1e-9, 1e6)]
LabelName = Annotated[str, Role("label")]
FolderPath = Annotated[Path, Role("folder")]
FilePath = Annotated[Path, Role("file")]
Secret = Annotated[str, Role("secret")]
NewPath = Annotated[Path, Role("new")]


@dataclass(frozen=True)
class Parameter:
    """One parameter of an operation, read from its signature."""

    name: str
    kind: type
    """float, int, bool, str, Path, tuple (of floats), Image or LabelMap."""
    unit: str = ""
    role: str = ""
    length: int = 1
    choices: tuple = ()
    low: float = -math.inf
    high: float = math.inf
    default: Any = inspect.Parameter.empty
    optional: bool = False
    help: str = ""

    @property
    def required(self) -> bool:
        return self.default is inspect.Parameter.empty

    @property
    def is_input(self) -> bool:
        return self.kind in (Image, LabelMap)

    @property
    def words(self) -> str:
        """The name as a person reads it."""
        return self.name.replace("_", " ").capitalize()

    def checked(self, value: Any) -> Any:
        """The value in its type and within its limits; raises Trouble otherwise."""
        if value is None and self.optional:
            return None
        try:
            value = self._converted(value)
        except (TypeError, ValueError):
            raise Trouble(f"“{value}” is not right for {self.words.lower()}", self._wanted()) from None
        if self.choices and value not in self.choices:
            raise Trouble(f"“{value}” is not one of the choices for {self.words.lower()}", self._wanted())
        numbers = value if self.kind is tuple else (value,) if self.kind in (float, int) else ()
        for number in numbers:
            if not math.isfinite(number) or not self.low <= number <= self.high:
                raise Trouble(f"{number:g} is out of bounds for {self.words.lower()}", self._wanted())
        return value

    def _converted(self, value):
        if self.choices and not isinstance(value, str):
            return type(self.choices[0])(value)
        if self.choices:
            return next((c for c in self.choices if str(c) == value), value)
        if self.kind is tuple:
            parts = [float(v) for v in (re.split(r"[,;\s]+", value.strip()) if isinstance(value, str) else value)]
            if len(parts) != self.length:
                raise ValueError
            return tuple(parts)
        if self.kind is bool and isinstance(value, str):
            return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}[value.lower()]
        if self.kind is int and float(value) != int(float(value)):
            raise ValueError
        return self.kind(value)

    def _wanted(self) -> str:
        if self.choices:
            return "choose " + ", ".join(map(str, self.choices))
        unit = f" in {self.unit}" if self.unit and self.unit != "value" else ""
        if self.kind is tuple:
            return f"give {self.length} numbers{unit}, with commas between them"
        limits = f" from {self.low:g} to {self.high:g}" if math.isfinite(self.low) else ""
        return f"give a {'whole ' if self.kind is int else ''}number{limits}{unit}" if self.kind in (int, float) else "check it"


@dataclass(frozen=True)
class Operation:
    """A capability of the program: a function with what its signature and docstring say."""

    name: str
    stage: str
    title: str
    function: Callable
    parameters: tuple[Parameter, ...]
    returns: Any
    takes_progress: bool
    summary: str
    keywords: str = ""
    takes: frozenset[str] = frozenset()
    """"series" and "colour": kinds of image the function works on itself. Without them it is given single volumes only, and
    the brightness of colour images."""

    @property
    def inputs(self) -> tuple[Parameter, ...]:
        return tuple(p for p in self.parameters if p.is_input)

    @property
    def settings(self) -> tuple[Parameter, ...]:
        return tuple(p for p in self.parameters if not p.is_input)

    def checked(self, given: dict[str, Any]) -> dict[str, Any]:
        """Settings complete with defaults and checked; raises Trouble on unknown or missing ones."""
        known = {p.name for p in self.settings}
        for name in given:
            if name not in known:
                raise Trouble(f"“{self.title}” has no setting called {name}", f"it has {', '.join(sorted(known)) or 'none'}")
        result = {}
        for p in self.settings:
            if p.name not in given and p.required:
                raise Trouble(f"“{self.title}” needs {p.words.lower()}", p._wanted())
            result[p.name] = p.checked(given.get(p.name, p.default)) if p.name in given or p.default is not None else None
        return result

    def __call__(self, progress: Progress | None = None, **arguments):
        for p in self.inputs:
            if p.kind is Image and p.name in arguments:
                arguments[p.name] = self._digestible(arguments[p.name])
        if self.takes_progress and progress is not None:
            arguments["progress"] = progress
        return self.function(**arguments)


    def _digestible(self, image: Image) -> Image:
        if image.axes and "series" not in self.takes:
            size = " × ".join(f"{a.size} {a.name}" for a in image.axes)
            raise Trouble(f"“{self.title}” works on one volume, and “{image.name}” is a series ({size})",
                          "choose one of its volumes, on the command line with --frame", next(iter(image.origin.files), None))
        return image if "colour" in self.takes else image.grey()


OPERATIONS: dict[str, Operation] = {}


def operation(stage: str, title: str, name: str | None = None, keywords: str = "", takes: str = ""):
    """Register a function as an operation of a stage.

    Parameters
    ----------
    stage : str
        One of STAGES.
    title : str
        What the Bench, the Finder and the logbook call it.
    name : str, optional
        The command; the function's name when left out. May hold one space ("measure labels").
    keywords : str
        More words by which the Finder finds it.
    takes : str
        "series", "colour" or both: kinds of image the function is given as they are; see `Operation.takes`.
    """
    if stage not in STAGES:
        raise ValueError(stage)

    def register(function):
        key = name or function.__name__.replace("_", "-")
        OPERATIONS[key] = _described(function, key, stage, title, keywords, takes)
        return function

    return register


def _described(function, name, stage, title, keywords, takes) -> Operation:
    hints = typing.get_type_hints(function, include_extras=True)
    doc = inspect.getdoc(function) or ""
    helps = _parameter_helps(doc)
    parameters = [_parameter(p, hints[p.name], helps.get(p.name, "")) for p in inspect.signature(function).parameters.values()
                  if p.name != "progress"]
    return Operation(name, stage, title, function, tuple(parameters), hints.get("return"), "progress" in hints,
                     doc.split("\n\n")[0].replace("\n", " "), keywords, frozenset(takes.split()))


def _parameter(p: inspect.Parameter, hint, help_text: str) -> Parameter:
    facts: dict[str, Any] = {"default": p.default, "help": help_text}
    if isinstance(hint, types.UnionType) or typing.get_origin(hint) is typing.Union:
        facts["optional"] = True
        hint = next(h for h in typing.get_args(hint) if h is not type(None))
    if typing.get_origin(hint) is Annotated:
        hint, *extras = typing.get_args(hint)
        for extra in extras:
            if isinstance(extra, Unit):
                facts["unit"] = extra.text
            elif isinstance(extra, Role):
                facts["role"] = extra.text
            elif isinstance(extra, Between):
                facts["low"], facts["high"] = extra.low, extra.high
    if typing.get_origin(hint) is Literal:
        facts["choices"] = typing.get_args(hint)
        hint = type(facts["choices"][0])
    if typing.get_origin(hint) is tuple:
        facts["length"] = len(typing.get_args(hint))
        hint = tuple
    return Parameter(p.name, hint, **facts)


def _parameter_helps(doc: str) -> dict[str, str]:
    """Help texts from a docstring's Parameters section: `name : type` lines with indented text below."""
    section = re.search(r"Parameters\n-+\n(.*?)(?:\n\n\w+\n-+\n|\Z)", doc, re.S)
    helps, names = {}, []
    for line in (section.group(1).splitlines() if section else ()):
        if head := re.match(r"(\w[\w, ]*?) : ", line):
            names = [n.strip() for n in head.group(1).split(",")]
        elif line.startswith(" "):
            for n in names:
                helps[n] = (helps.get(n, "") + " " + line.strip()).strip()
    return helps
