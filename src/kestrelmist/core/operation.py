"""The list of operations: plain functions, described by their own signatures.

From a function's signature and docstring come its command line, its recipe step, its logbook entry and its
form on the Bench. The decorator adds only a stage and a title.
"""

from __future__ import annotations

import inspect
import typing
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from .errors import Trouble
from .image import Image
from .kind import Kind, kind_of_type
from .left_out import Found
from .parameter import Parameter, parameter_of
from .progress import Progress
from .registry import Registry, discover_plugins
from .signature import described, gathered, hints_of
from .space import Space

STAGES = ("gather", "prepare", "align", "outline", "measure", "report")


@dataclass(frozen=True)
class Result:
    """One thing or change that an operation returns, under its name."""

    name: str
    kind: Kind
    many: bool = False


@dataclass(frozen=True)
class Operation:
    """A capability of the program: a function with what its signature and docstring say, which is looked at when it is
    wanted. Parameters and results of a kind that nobody knows raise TypeError then."""

    name: str
    stage: str
    title: str
    function: Callable
    keywords: str = ""
    takes: frozenset[str] = frozenset()
    """"series" and "colour": kinds of image the function works on itself. Without them it is given single volumes only,
    and the brightness of colour images."""
    version: int = 1
    """Raised when the same settings give other numbers than before, so that old results are not taken for new ones."""
    repeats: bool = True
    """Whether a recipe can do it again on another subject."""
    final: bool = False
    """Whether what it does cannot be undone: no recipe does it unless a person has said so for this run."""
    slow: bool = False
    """Of what acts on the study itself: whether it takes long enough to be done beside the window."""
    edits: str = ""
    """Of what acts on the study itself: the kind of thing it changes, which nobody else may change meanwhile."""
    group: str = ""
    """Heading under which the Bench lists it; the stage's package says in `GROUPS` in which order headings come."""
    reach: float | Callable[[Space, dict[str, Any]], float] | None = None
    """How far round a voxel, in mm, the images tell what becomes of it, or a function of grid and settings that gives
    it; infinite where the whole image counts. What has a reach is shown on the slice in view before it is done."""
    coarse: bool = True
    """Of what has an infinite reach: whether it may be tried on a coarser grid."""
    through_time: bool = False
    """Of what has a reach: whether all volumes of a series tell what becomes of one, as all channels do."""
    called: Mapping[str, str] = field(default_factory=dict)
    """Words for parameters whose names say too little, by name."""
    rare: frozenset[str] = frozenset()
    """Settings that few need, which a form folds away."""
    made_by: Mapping[str, str] = field(default_factory=dict)
    """For inputs that another operation makes, its name: a mask, by taking out the brain."""
    tinted: Callable[[dict[str, Any]], np.ndarray] | None = None
    """What a preview tints, from inputs and settings by name: bool [i, j, k] on the grid of the first image, such as
    what is left out of a fit."""

    methods: str = ""
    """A sentence for the methods of a paper, with names of settings in braces; "" for what is not told there, such as
    renaming."""
    cites: tuple[str, ...] = ()
    """The sources of its method."""
    once: tuple[str, ...] = ()
    """Names by which older versions, and recipes of theirs, call it."""

    @cached_property
    def _hints(self) -> dict[str, Any]:
        return hints_of(self.function)

    @property
    def takes_progress(self) -> bool:
        """Whether the function reports how far it is."""
        return "progress" in self._hints

    @property
    def summary(self) -> str:
        """The first paragraph of the function's docstring."""
        return inspect.cleandoc((self.function.__doc__ or "").partition("\n\n")[0]).replace("\n", " ")

    @cached_property
    def parameters(self) -> tuple[Parameter, ...]:
        """Inputs and settings in the order of the signature, with the help its docstring gives."""
        return tuple(
            replace(parameter_of(*one), called=self.called.get(name := one.parameter.name, ""), rare=name in self.rare)
            for one in described(self.function, self._hints)
        )

    @cached_property
    def results(self) -> tuple[Result, ...]:
        """What the return hint promises, by name."""
        return _results(self._hints.get("return"), self.name)

    @property
    def inputs(self) -> tuple[Parameter, ...]:
        """Parameters that things are given to."""
        return tuple(p for p in self.parameters if p.is_input)

    @property
    def settings(self) -> tuple[Parameter, ...]:
        """Parameters that plain values are given to."""
        return tuple(p for p in self.parameters if not p.is_input and p.kind.family != "study")

    @property
    def acts(self) -> str:
        """Name of the parameter that takes the study itself; "" for functions of things and settings alone."""
        return next((p.name for p in self.parameters if p.kind.family == "study"), "")

    @property
    def brings_files(self) -> bool:
        """Whether what it makes comes from files outside the study."""
        return any(p.role in ("folder", "file") for p in self.settings) and any(
            not r.kind.is_read for r in self.results
        )

    @cached_property
    def lead(self) -> Parameter | None:
        """The input that what leads the Light table goes to: the first of a kind that can lead."""
        return next((p for p in self.inputs if p.kind.leads), None)

    @cached_property
    def on_lead(self) -> Parameter | None:
        """The first input for one thing that is of another one, such as the label map of what leads."""
        return next((p for p in self.inputs if p.kind.of and not p.many), None)

    def changed_by(self, kind: Kind) -> Parameter | None:
        """The input that a change of a kind is of: the first that it alters."""
        return next((p for p in self.inputs if kind.is_change and p.kind.name == kind.alters), None)

    @property
    def edited(self) -> Parameter | None:
        """The input that one of its results edits in place."""
        fits = (self.changed_by(r.kind) for r in self.results)
        return next((p for p in fits if p is not None and p.kind.edited), None)

    def found(self, given: dict[str, Any]) -> dict[str, Found | str]:
        """What is found for settings that were left out, from inputs and settings by name; the sentence of a trouble
        where one cannot be found."""
        found: dict[str, Found | str] = {}
        for p in self.settings:
            left = p.left_out
            if left is None or left.find is None or given.get(p.name) is not None or not p.counts(given):
                continue
            try:
                value = left.find(given)
            except Trouble as trouble:
                found[p.name] = str(trouble)  # said by the operation itself, too
                continue
            if value is not None:
                found[p.name] = value
        return found

    def rerouted(self, given: dict[str, Any]) -> dict[str, Any]:
        """What was given, with things that were named in place of a text put where things go."""
        given = dict(given)
        for p in self.parameters:
            if p.or_thing is not None and p.name in given and p.or_thing.means_thing(given[p.name]):
                if given.get(p.or_thing.input) is not None:
                    raise Trouble(f"“{self.title}” is given two things for {p.said}", "give one of them")
                given[p.or_thing.input] = given.pop(p.name)
        return given

    def checked(self, given: dict[str, Any]) -> dict[str, Any]:
        """Settings complete with defaults and checked; raises Trouble on unknown or missing ones."""
        known = {p.name for p in self.settings}
        for name in given:
            if name not in known:
                have = ", ".join(sorted(known)) or "none"
                raise Trouble(f"“{self.title}” has no setting called {name}", f"it has {have}")
        result = {}
        for p in self.settings:
            if p.name not in given and p.required:
                raise Trouble(f"“{self.title}” needs {p.said}", p.wanted)
            result[p.name] = p.checked(given[p.name]) if p.name in given else p.default
        for p in self.settings:
            if p.only is not None and not p.counts(result) and result[p.name] != p.default:
                raise Trouble(
                    f"“{self.title}” has no use for {p.said} here",
                    f"it counts only where {self.counts_where(p)}",
                )
        return result

    def counts_where(self, p: Parameter) -> str:
        """With which choices of another setting one counts, in words; "" when it always does."""
        if p.only is None:
            return ""
        other = next(q for q in self.settings if q.name == p.only.setting)
        return p.only.words(other.said)

    def counting(self, given: dict[str, Any]) -> dict[str, Any]:
        """What was given without settings that do not count beside the others."""
        known = {p.name: p for p in self.settings}
        full = {name: p.default for name, p in known.items()} | given
        return {name: value for name, value in given.items() if name not in known or known[name].counts(full)}

    def written(self, settings: dict[str, Any]) -> dict[str, Any]:
        """Settings as the logbook and recipes hold them; secrets are left out."""
        known = {p.name: p for p in self.settings if p.role not in ("secret", "names")}
        return {name: known[name].written(value) for name, value in settings.items() if name in known}

    def __call__(self, progress: Progress | None = None, **arguments) -> dict[str, Any]:
        """Run it; returns what it made by the names of its results."""
        for p in self.inputs:
            if p.kind.type is Image and arguments.get(p.name) is not None:
                given = arguments[p.name]
                arguments[p.name] = [self._digestible(i) for i in given] if p.many else self._digestible(given)
        if self.takes_progress and progress is not None:
            arguments["progress"] = progress
        made = self.function(**gathered(self._hints, arguments))
        if not self.results:
            return {}
        return (
            dict(zip((r.name for r in self.results), made)) if len(self.results) > 1 else {self.results[0].name: made}
        )

    def _digestible(self, image: Image) -> Image:
        if image.axes and "series" not in self.takes:
            size = " × ".join(f"{a.size} {a.plural}" for a in image.axes)
            raise Trouble(
                f"“{self.title}” works on one volume, and “{image.name}” is a series ({size})",
                "choose one of its volumes by its place after its name, as in “name@3”",
                next(iter(image.origin.files), None),
            )
        return image if "colour" in self.takes else image.grey()


_PLACES = {stage: n for n, stage in enumerate(STAGES)}
OPERATIONS: Registry[Operation] = Registry(
    "operation",
    *(f"kestrelmist.{stage}" for stage in STAGES),
    "kestrelmist.study.operations",
    order=lambda o: (_PLACES[o.stage], o.title),
)


def operations_of(stage: str) -> list[Operation]:
    """The operations of a stage, for which only its own package and what acts on the study are loaded."""
    OPERATIONS.discover(f"kestrelmist.{stage}", "kestrelmist.study.operations")
    discover_plugins()
    return [o for o in OPERATIONS.sorted() if o.stage == stage]


def all_operations() -> dict[str, Operation]:
    """Operations by name, in the order of the stages."""
    return {operation.name: operation for operation in OPERATIONS}


def operation_called(name: str) -> Operation | None:
    """The operation of that name, or of which it is the name in an older version; None when there is none."""
    found = OPERATIONS.get(str(name))
    return found or next((one for one in OPERATIONS if str(name) in one.once), None)


def find_operation(name: str) -> Operation:
    """The operation of that name; raises Trouble when there is none."""
    found = operation_called(name)
    if found is None:
        raise Trouble(f"There is no operation called “{name}”", "see the list with: kestrelmist --help")
    return found


def operation(
    stage: str,
    title: str,
    name: str | None = None,
    *,
    keywords: str = "",
    takes: str = "",
    version: int = 1,
    repeats: bool = True,
    final: bool = False,
    slow: bool = False,
    edits: str = "",
    group: str = "",
    reach: float | Callable[[Space, dict[str, Any]], float] | None = None,
    coarse: bool = True,
    through_time: bool = False,
    called: Mapping[str, str] | None = None,
    rare: str = "",
    made_by: Mapping[str, str] | None = None,
    tinted: Callable[[dict[str, Any]], np.ndarray] | None = None,
    methods: str = "",
    cites: tuple[str, ...] = (),
    once: tuple[str, ...] = (),
):
    """Register a function as an operation of a stage.

    Parameters
    ----------
    stage : str
        One of STAGES.
    title : str
        What the Bench, the Finder and the logbook call it.
    name : str, optional
        The command; the function's name when left out.
    keywords : str
        More words by which the Finder finds it.
    takes : str
        "series", "colour" or both: kinds of image the function is given as they are; see `Operation.takes`.
    version : int
        See `Operation.version`.
    rare : str
        Names of settings, with blanks between; see `Operation.rare`.
    repeats, final, slow, edits, group, reach, coarse, through_time, called, made_by, tinted, methods, cites, once
        See the fields of `Operation`.
    """
    if stage not in STAGES:
        raise ValueError(stage)

    def register(function):
        key = name or function.__name__.replace("_", "-")
        words = frozenset(takes.split())
        said = (keywords, words, version, repeats, final, slow, edits, group, reach, coarse, through_time)
        folded = frozenset(rare.split())
        more = (called or {}, folded, made_by or {}, tinted, methods, cites, once)
        OPERATIONS.add(key, Operation(key, stage, title, function, *said, *more))
        return function

    return register


def _results(hint: Any, name: str) -> tuple[Result, ...]:
    """What a return hint promises: one thing, a list of them, or a NamedTuple whose fields are the results."""
    if hint is None or hint is type(None):
        return ()
    if isinstance(hint, type) and issubclass(hint, tuple) and hasattr(hint, "_fields"):
        fields = typing.get_type_hints(hint)
        return tuple(_result(key, fields[key], name) for key in hint._fields)
    return (_result("", hint, name),)


def _result(key: str, hint: Any, name: str) -> Result:
    many = typing.get_origin(hint) is list
    wanted = typing.get_args(hint)[0] if many else hint
    kind = kind_of_type(wanted)
    if kind is None or kind.family == "plain":
        raise TypeError(f"{name}: nobody knows how to keep a {getattr(wanted, '__name__', wanted)}")
    return Result(key or kind.name, kind, many)
