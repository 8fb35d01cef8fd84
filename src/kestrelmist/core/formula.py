"""Arithmetic of named arrays, written as a formula: read as a tree of which only a few kinds of node are known, so that
nothing else can be asked for."""

from __future__ import annotations

import ast
import operator
import re
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from .errors import Trouble

TWO: dict[type, Callable] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod,
    ast.Pow: operator.pow,
}
ONE: dict[type, Callable] = {
    ast.USub: operator.neg,
    ast.UAdd: operator.pos,
    ast.Not: np.logical_not,
}
COMPARED: dict[type, Callable] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
FUNCTIONS: dict[str, tuple[Callable, int]] = {
    "abs": (np.abs, 1),
    "sqrt": (np.sqrt, 1),
    "exp": (np.exp, 1),
    "log": (np.log, 1),
    "log10": (np.log10, 1),
    "sin": (np.sin, 1),
    "cos": (np.cos, 1),
    "round": (np.round, 1),
    "min": (np.minimum, 2),
    "max": (np.maximum, 2),
    "where": (np.where, 3),
    "isfinite": (np.isfinite, 1),
}
"""What may be called, and with how many values; "min" and "max" take two or more."""
LONGEST = 2000


class Formula:
    """A formula that has been read.

    Parameters
    ----------
    text : str
        As in `where(a > 0, a - 0.5*b, 0)`.
    names : sequence of str
        Names that may stand in it.

    Raises
    ------
    Trouble
        When it is no formula, or holds a name or a call that is not known.
    """

    def __init__(self, text: str, names):
        self.text, self.names = text, tuple(names)
        if len(text) > LONGEST:
            raise Trouble("This formula is too long", f"write it in at most {LONGEST} letters")
        try:
            tree = ast.parse(_with_words(text).strip(), mode="eval")
        except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
            at = None if _with_words(text) != text else getattr(error, "offset", None)
            where = f" at letter {at}" if at else ""
            raise Trouble(f"“{_short(text)}” cannot be read as a formula{where}", "write it as in a - 0.5*b") from error
        self.used: set[str] = set()
        try:
            self._body = self._read(tree.body)
        except RecursionError as error:
            raise Trouble("This formula is nested too deeply", "write it in simpler parts") from error
        if not self.used:
            raise Trouble(f"“{_short(text)}” holds no image", f"use the names {', '.join(self.names)}")

    def __call__(self, values: Mapping[str, np.ndarray]) -> np.ndarray:
        """Its value, float32; what is divided by zero, or has no logarithm, has none (NaN)."""
        with np.errstate(all="ignore"):
            found = np.asarray(self._body(values), np.float32)
        return np.where(np.isfinite(found), found, np.float32(np.nan))

    def _read(self, node: ast.AST) -> Callable[[Mapping[str, Any]], Any]:
        if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)) and not isinstance(node.value, bool):
            try:
                # as NumPy's, a number goes by the same rules as an image: 1/0 has no value, and ends nothing
                number = np.float32(float(node.value))
            except OverflowError:
                raise Trouble("A number in this formula is too large", "write a smaller one") from None
            return lambda values: number
        if isinstance(node, ast.Name):
            return self._name(node.id)
        if isinstance(node, ast.BinOp) and type(node.op) in TWO:
            do, left, right = TWO[type(node.op)], self._read(node.left), self._read(node.right)
            return lambda values: do(left(values), right(values))
        if isinstance(node, ast.UnaryOp) and type(node.op) in ONE:
            one, inner = ONE[type(node.op)], self._read(node.operand)
            return lambda values: one(inner(values))
        if isinstance(node, ast.BoolOp):
            together = np.logical_and if isinstance(node.op, ast.And) else np.logical_or
            parts = [self._read(part) for part in node.values]
            return lambda values: _joined(together, [part(values) for part in parts])
        if isinstance(node, ast.Compare) and all(type(op) in COMPARED for op in node.ops):
            return self._compared(node)
        if isinstance(node, ast.Call):
            return self._call(node)
        raise Trouble(
            f"“{_short(ast.unparse(node))}” has no meaning in a formula of images",
            f"use numbers, + − * / **, comparisons, and {', '.join(FUNCTIONS)}",
        )

    def _name(self, name: str) -> Callable:
        if name in ("pi", "nan"):
            constant = np.float32(np.pi if name == "pi" else np.nan)
            return lambda values: constant
        if name not in self.names:
            raise Trouble(f"“{_short(name)}” is no name in this formula", f"use {', '.join(self.names)}")
        self.used.add(name)
        return lambda values: values[name]

    def _compared(self, node: ast.Compare) -> Callable:
        parts = [self._read(part) for part in (node.left, *node.comparators)]
        ways = [COMPARED[type(op)] for op in node.ops]

        def do(values):
            found = [part(values) for part in parts]
            return _joined(np.logical_and, [way(a, b) for way, a, b in zip(ways, found, found[1:])])

        return do

    def _call(self, node: ast.Call) -> Callable:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name not in FUNCTIONS or node.keywords:
            raise Trouble(
                f"“{_short(ast.unparse(node.func))}” cannot be called in a formula", f"use {', '.join(FUNCTIONS)}"
            )
        do, wanted = FUNCTIONS[name]
        parts = [self._read(part) for part in node.args]
        if len(parts) < wanted or (len(parts) > wanted and name not in ("min", "max")):
            raise Trouble(f"“{name}” takes {wanted} values, and {len(parts)} were given", "separate them by commas")
        if name in ("min", "max"):
            return lambda values: _joined(do, [part(values) for part in parts])
        return lambda values: do(*(part(values) for part in parts))


MARKS = {"&": "and", "&&": "and", "|": "or", "||": "or", "~": "not"}
"""Marks that are read as words, so that they bind as people mean them: `a > 10 & a < 20` is what lies between."""


def _with_words(text: str) -> str:
    return re.sub(r"&&?|\|\|?|~", lambda mark: f" {MARKS[mark[0]]} ", text)


def _joined(do: Callable, found: list) -> Any:
    made = found[0]
    for other in found[1:]:
        made = do(made, other)
    return made


def _short(text: str) -> str:
    return text if len(text) <= 60 else text[:57] + "…"
