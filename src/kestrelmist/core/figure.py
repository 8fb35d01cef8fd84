"""Figures: panels that are drawn anew from the things they are of, whenever the figure is written."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from .errors import Trouble

MOST = 60
"""Panels of a figure."""


@dataclass(frozen=True)
class Panel:
    """One panel: an operation that makes a page, what it is given, and its settings as they are written.

    Parameters
    ----------
    operation : str
    inputs : dict
        Ids of things of the study, by the names of the inputs.
    settings : dict
        As YAML and the logbook hold them.
    """

    operation: str
    inputs: dict[str, list[int]] = field(default_factory=dict, hash=False)
    settings: dict[str, Any] = field(default_factory=dict, hash=False)


@dataclass(frozen=True)
class Figure:
    """Panels in their order, and how many stand beside each other.

    Parameters
    ----------
    panels : tuple of Panel
    columns : int
    name, subject : str
    """

    panels: tuple[Panel, ...] = ()
    columns: int = 2
    name: str = "Figure"
    subject: str = ""

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return {"panels": [asdict(one) for one in self.panels], "columns": self.columns}

    @classmethod
    def from_dict(cls, facts: dict[str, Any], name: str = "Figure", subject: str = "") -> Figure:
        """Read back; panels that are damaged are passed over."""
        rows = facts.get("panels") if isinstance(facts, dict) else None
        panels = []
        for row in rows if isinstance(rows, list) else []:
            if isinstance(row, dict) and isinstance(row.get("operation"), str):
                inputs, settings = row.get("inputs"), row.get("settings")
                panels.append(
                    Panel(
                        row["operation"],
                        {str(n): [k for k in v if isinstance(k, int)] for n, v in inputs.items() if isinstance(v, list)}
                        if isinstance(inputs, dict)
                        else {},
                        dict(settings) if isinstance(settings, dict) else {},
                    )
                )
        columns = facts.get("columns") if isinstance(facts, dict) else 2
        return cls(tuple(panels), columns if isinstance(columns, int) and columns > 0 else 2, name, subject)

    def with_panel(self, panel: Panel) -> Figure:
        """With one more panel. Raises Trouble when there are too many."""
        if len(self.panels) >= MOST:
            raise Trouble(f"“{self.name}” has {MOST} panels", "begin another figure")
        return replace(self, panels=(*self.panels, panel))

    def ordered(self, order: list[int]) -> Figure:
        """With the panels of these numbers, counted from 1, in that order; others are left out. Raises Trouble when
        there is none of a number, or none is left."""
        if not order or any(not 1 <= n <= len(self.panels) for n in order):
            what = "give their numbers in the order they are to have"
            raise Trouble(f"“{self.name}” has {len(self.panels)} panels", what)
        return replace(self, panels=tuple(self.panels[n - 1] for n in order))

    def content_hash(self) -> str:
        """SHA-256 of the panels."""
        return hashlib.sha256(json.dumps(self.as_dict(), sort_keys=True, default=str).encode()).hexdigest()
