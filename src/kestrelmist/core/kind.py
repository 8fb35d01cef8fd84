"""What a kind is, and the list of kinds.

A kind is anything that can be given to an operation, come out of one, or be kept: things (image, label map, table,
transform), changes (what an operation does to a thing) and plain values (numbers, choices, points, text, paths).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from .registry import Registry


class Asked(Protocol):
    """What a kind knows of the parameter that it is asked for; see `parameter.Parameter`."""

    @property
    def name(self) -> str:
        """Its name in the signature."""
        ...

    @property
    def kind(self) -> Kind:
        """What is asked for."""
        ...

    @property
    def unit(self) -> str:
        """The unit of its numbers; "value" for that of the image."""
        ...

    @property
    def low(self) -> float:
        """The lowest number allowed."""
        ...

    @property
    def high(self) -> float:
        """The highest number allowed."""
        ...

    @property
    def length(self) -> int:
        """How many numbers belong together."""
        ...

    @property
    def choices(self) -> tuple:
        """What may be chosen."""
        ...

    @property
    def role(self) -> str:
        """What a text or path stands for."""
        ...


@dataclass(frozen=True)
class Kind:
    """One kind.

    Parameters
    ----------
    name : str
        What a person calls it, in small letters: "image", "whole number".
    type : type
        The Python type that stands for it in a signature.
    family : text
        "plain" values are settings; a "thing" is an input or a result that a study keeps; a "change" is a result that
        alters a thing; a "record" is an input that is named and not opened; "study" is the open study itself.
    read : callable
        `read(given, parameter)`: the value from text, or from what YAML or a form gives. Raises ValueError or TypeError
        when it is not right.
    write : callable
        The value as YAML and the logbook hold it.
    wanted : callable
        `wanted(parameter)`: what a person should give, "give a number in mm".
    field : str
        Which field shows it in a form.
    metavar : callable
        `metavar(parameter)`: what stands for it in the help of the command line.
    is_read : bool
        Of things: it is there to be read. It comes beside other results, may share its name, is no step of its own, and
        can be shown where nothing can be kept.
    on_shelf : bool
        Of things: whether it has a card on the Shelf; others are shown elsewhere.
    ending : str
        What its file ends in when it is written into a folder under the name of a result.
    of : str
        Of things: the kind of the thing that each is of, which may be named in its place, and from which it follows
        where it is not named: an image, for its label map in hand.
    lacking : str
        Of these: what is said of one that has none: "no labels yet: outline it first".
    held_in : str
        Of things: the kind of a thing that may hold several of them, and may be given for them: a table, whose columns
        are curves.
    alters : str
        Of changes, and things that come with a change: the kind of thing that nobody else may change meanwhile.
    leads : bool
        Of things: whether it can lead the Light table; what leads goes where one is wanted first, and what an operation
        makes belongs to it.
    edited : bool
        Of things: whether edits change it in place, so that what was worked out of it holds for one state of it.
    solid : bool
        Of things that are of an image: whether they stand in its solid scene.
    once : bool
        Of things: whether the same content is kept once for a subject.
    """

    name: str
    type: type
    family: str = "plain"
    read: Callable[[Any, Asked], Any] = lambda given, parameter: given
    write: Callable[[Any], Any] = lambda value: value
    wanted: Callable[[Asked], str] = lambda parameter: "check it"
    field: str = "text"
    metavar: Callable[[Asked], str] = lambda parameter: "TEXT"
    is_read: bool = False
    on_shelf: bool = True
    ending: str = ".nii.gz"
    of: str = ""
    lacking: str = "none yet"
    held_in: str = ""
    alters: str = ""
    leads: bool = False
    edited: bool = False
    once: bool = False
    solid: bool = False

    @property
    def is_thing(self) -> bool:
        """Whether a study keeps it."""
        return self.family == "thing"

    @property
    def is_change(self) -> bool:
        """Whether it alters a thing, in place of being one."""
        return self.family == "change"

    @property
    def is_input(self) -> bool:
        """Whether it is given by a reference."""
        return self.family in ("thing", "record")


KINDS: Registry[Kind] = Registry("kind", f"{__package__}.kinds", f"{__package__.rpartition('.')[0]}.scene.kinds")


def register(kind: Kind) -> Kind:
    """Make a kind known."""
    return KINDS.add(kind.name, kind)


def kind_of_type(wanted: type) -> Kind | None:
    """The kind that a Python type stands for, None when nobody knows it."""
    known = KINDS.known()
    found = next((kind for kind in known if kind.type is wanted), None)
    if found is None and isinstance(wanted, type):  # one sort of them, as affine transforms are of transforms
        found = next((kind for kind in known if kind.family == "thing" and issubclass(wanted, kind.type)), None)
    return found


def kind_of_value(value: Any) -> Kind | None:
    """The kind of a thing or change that an operation has returned."""
    return next((kind for kind in KINDS.known() if kind.family != "plain" and isinstance(value, kind.type)), None)


def is_read(name: str) -> bool:
    """Whether things of the kind of a name are there to be read."""
    kind = KINDS.get(name)
    return kind is not None and kind.is_read


def can_lead(name: str) -> bool:
    """Whether things of the kind of a name can lead the Light table."""
    kind = KINDS.get(name)
    return kind is not None and kind.leads


def is_solid(name: str) -> bool:
    """Whether things of the kind of a name stand in the solid scene of what they are of."""
    kind = KINDS.get(name)
    return kind is not None and kind.solid


def is_edited(name: str) -> bool:
    """Whether things of the kind of a name are changed in place by edits."""
    kind = KINDS.get(name)
    return kind is not None and kind.edited


def owner_kind(name: str) -> str:
    """The kind of the thing that things of the kind of a name are of; "" when they are of none."""
    kind = KINDS.get(name)
    return "" if kind is None else kind.of


def stands_for(given: str, wanted: str) -> bool:
    """Whether a thing of one kind may be named where another kind is wanted: an image, for its label map in hand."""
    kind = KINDS.get(wanted)
    return kind is not None and kind.of == given


def held_in(name: str) -> str:
    """The kind that holds things of the kind of a name; "" when there is none."""
    kind = KINDS.get(name)
    return "" if kind is None else kind.held_in
