"""Parameters of operations, read from type hints."""

from __future__ import annotations

import inspect
import math
import types
import typing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, Literal

from .errors import Trouble
from .kind import Kind, kind_of_type
from .left_out import Leads, LeftOut, OwnerOf, SeenFrom, Suits


@dataclass(frozen=True)
class Unit:
    """Unit of a number parameter; "value" stands for the unit of the image's own values."""

    text: str


@dataclass(frozen=True)
class Role:
    """What a text, path or group of numbers stands for: "label", "folder", "file", "new" for a file or folder to be
    made, "secret" for a word that is never written down, "names" for words that are not written down either, "mark"
    for what says that a list was looked through, "place" for a world position, "end" for one of which x and y will
    do on a picture, "spot" for such a one that the crosshair tells, "places" for any number of them as text,
    "points" for x and y of three, "area" for a framed one, "box" for the first and last voxel of a framed box,
    "smoothing" for the width of a Gaussian that blurs what is smaller (of several the last given one is used), "grid"
    for an image whose values do not count and need not be read, "fill" for a value that may be none (NaN)."""

    text: str


@dataclass(frozen=True)
class Between:
    """Lowest and highest number that make sense."""

    low: float
    high: float


@dataclass(frozen=True)
class OrThing:
    """In place of this text a thing may be named, which then goes to another parameter, an input. Numbers and some
    words are no names of things."""

    input: str
    words: tuple[str, ...] = ()

    def means_thing(self, value: Any) -> bool:
        """Whether what was given names a thing."""
        text = str(value).strip()
        return bool(text) and text.lower() not in self.words and not text.lstrip("+-−").replace(".", "", 1).isdigit()


@dataclass(frozen=True)
class Only:
    """A setting that counts with some choices of another setting alone."""

    setting: str
    choices: tuple

    def __init__(self, setting: str, *choices: Any):
        object.__setattr__(self, "setting", setting)
        object.__setattr__(self, "choices", choices)

    def words(self, setting: str) -> str:
        """With what it counts, in words; the other setting goes by the words for it."""
        told = ["yes" if c is True else "no" if c is False else f"“{c}”" for c in self.choices]
        several = " or ".join(filter(None, (", ".join(told[:-1]), told[-1])))
        return f"{setting} is {several}"


SMOOTHING = "smoothing"
Fill = Annotated[float, Unit("value"), Role("fill")]
"""What stands where an image has no value; "nan" for none."""
Millimetres = Annotated[float, Unit("mm")]
ImageValue = Annotated[float, Unit("value")]
WorldPoint = Annotated[tuple[float, float, float], Unit("mm"), Role("place")]
Spot = Annotated[tuple[float, float, float], Unit("mm"), Role("spot")]
LineEnd = Annotated[tuple[float, float, float], Unit("mm"), Role("end")]
Spacing = Annotated[tuple[float, float, float], Unit("mm"), Between(1e-9, 1e6)]
LabelName = Annotated[str, Role("label")]
FolderPath = Annotated[Path, Role("folder")]
FilePath = Annotated[Path, Role("file")]
Secret = Annotated[str, Role("secret")]
Names = Annotated[str, Role("names")]
Mark = Annotated[str, Role("mark")]
NewPath = Annotated[Path, Role("new")]


LEFT = ("auto", "by itself")
"""What may be written where a setting is left to the program."""


@dataclass(frozen=True)
class Parameter:
    """One parameter of an operation.

    `length` counts the numbers of a group, `many` says that several may be given, `optional` that none need be.
    `called` are the words for it where its name says too little, and `rare` is one that a form folds away.
    """

    name: str
    kind: Kind
    unit: str = ""
    role: str = ""
    length: int = 1
    choices: tuple = ()
    low: float = -math.inf
    high: float = math.inf
    default: Any = inspect.Parameter.empty
    optional: bool = False
    many: bool = False
    or_thing: OrThing | None = None
    only: Only | None = None
    left_out: LeftOut | None = None
    suits: Suits | None = None
    leads: Leads | None = None
    seen_from: SeenFrom | None = None
    owner_of: OwnerOf | None = None
    help: str = ""
    called: str = ""
    rare: bool = False

    @property
    def required(self) -> bool:
        """Whether it has no default."""
        return self.default is inspect.Parameter.empty

    @property
    def is_input(self) -> bool:
        """Whether a thing is wanted, and not a setting."""
        return self.kind.is_input

    @property
    def flag(self) -> str:
        """The name as the command line has it; an underscore at the end only keeps it apart from a word of Python."""
        return self.name.rstrip("_").replace("_", "-")

    @property
    def words(self) -> str:
        """The name as a person reads it."""
        return self.called or self.name.rstrip("_").replace("_", " ").capitalize()

    @property
    def said(self) -> str:
        """The same within a sentence."""
        return f"“{self.called}” ({self.flag})" if self.called else self.words.lower()

    @property
    def wanted(self) -> str:
        """What a person should give."""
        return self.kind.wanted(self)

    @property
    def thing_kind(self) -> str:
        """The name of the kind of thing that is wanted."""
        return self.role if self.kind.family == "record" else self.kind.name

    @property
    def single(self) -> Parameter:
        """The same, for one of the many."""
        return replace(self, many=False)

    def counts(self, others: dict[str, Any]) -> bool:
        """Whether it matters, with these values of other settings."""
        return self.only is None or others.get(self.only.setting) in self.only.choices

    def checked(self, value: Any) -> Any:
        """The value in its type and within its limits; raises Trouble otherwise."""
        if value is None and (self.optional or self.default is None):
            return None
        known = self.left_out
        if known is not None and isinstance(value, str) and value.strip().casefold() in LEFT:
            return None
        if self.many:
            given = value if isinstance(value, (list, tuple)) else [value]
            return [self.single.checked(one) for one in given]
        try:
            value = self.kind.read(value, self)
        except (TypeError, ValueError, OverflowError):
            comma = isinstance(value, str) and "," in value and self.kind.type in (float, int)
            wanted = f"{self.wanted}, with a point and no comma" if comma else self.wanted
            raise Trouble(f"“{_short(value)}” is not right for {self.said}", wanted) from None
        if known is not None and known.means_left(value):
            return None
        if self.choices and value not in self.choices:
            raise Trouble(f"“{_short(value)}” is not one of the choices for {self.said}", self.wanted)
        numbers = value if self.kind.type is tuple else (value,) if self.kind.type in (float, int) else ()
        for number in numbers:
            if self.role == "fill" and math.isnan(number):
                continue
            if not math.isfinite(number) or not self.low <= number <= self.high:
                raise Trouble(f"{number:g} is out of bounds for {self.said}", self.wanted)
        return value

    def written(self, value: Any) -> Any:
        """The value as YAML and the logbook hold it."""
        if value is None:
            return None
        return [self.kind.write(one) for one in value] if self.many else self.kind.write(value)


def _short(value: Any) -> str:
    text = str(value)
    return text if len(text) <= 80 else text[:77] + "…"


def parameter_of(p: inspect.Parameter, hint: Any, help_text: str) -> Parameter:
    """A parameter from its place in a signature and its type hint.

    Raises TypeError when nobody knows what the hint means, so that a mistake shows when the operation is registered.
    """
    facts: dict[str, Any] = {"default": p.default, "help": help_text}
    return Parameter(p.name, _resolved(hint, facts, p.name), **facts)


def _resolved(hint: Any, facts: dict[str, Any], name: str) -> Kind:
    origin, given = typing.get_origin(hint), typing.get_args(hint)
    if isinstance(hint, types.UnionType) or origin is typing.Union:
        inner = [h for h in given if h is not type(None)]
        if len(inner) != 1:
            raise TypeError(f"{name}: a parameter has one kind, not {hint}")
        facts["optional"] = True
        return _resolved(inner[0], facts, name)
    if origin is Annotated:
        for extra in given[1:]:
            if isinstance(extra, Unit):
                facts["unit"] = extra.text
            elif isinstance(extra, Role):
                facts["role"] = extra.text
            elif isinstance(extra, Between):
                facts["low"], facts["high"] = extra.low, extra.high
            elif isinstance(extra, OrThing):
                facts["or_thing"] = extra
            elif isinstance(extra, Only):
                facts["only"] = extra
            elif isinstance(extra, LeftOut):
                facts["left_out"] = extra
            elif isinstance(extra, Suits):
                facts["suits"] = extra
            elif isinstance(extra, SeenFrom):
                facts["seen_from"] = extra
            elif isinstance(extra, OwnerOf):
                facts["owner_of"] = extra
            elif isinstance(extra, Leads):
                facts["leads"] = extra
            else:
                raise TypeError(f"{name}: nobody knows what {extra!r} says of a parameter")
        return _resolved(given[0], facts, name)
    if origin is list:
        facts["many"] = True
        return _resolved(given[0], facts, name)
    if origin is Literal:
        facts["choices"] = given
        return _known(type(hint), name)
    if origin is tuple:
        if not all(one is float for one in given):
            raise TypeError(f"{name}: a group of numbers is tuple[float, …], not {hint}")
        facts["length"] = len(given)
        return _known(tuple, name)
    return _known(hint, name)


def _known(hint: Any, name: str) -> Kind:
    kind = kind_of_type(hint)
    if kind is None or kind.family == "change":
        raise TypeError(f"{name}: nobody knows how to give a {getattr(hint, '__name__', hint)} to an operation")
    return kind
