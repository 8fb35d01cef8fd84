"""What somebody chose for the run of a recipe; the study remembers it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Choices:
    """Things that fill slots, by unit and slot; who is left out and what is waived, and why; where it is done."""

    use: dict[str, dict[str, int]] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)
    waived: dict[str, str] = field(default_factory=dict)
    workers: int = 2
    cluster: str = ""

    @classmethod
    def from_dict(cls, facts: Any) -> Choices:
        """Read back; what is damaged is as nobody chose it."""
        if not isinstance(facts, dict):
            return cls()
        use, left_out, waived = (
            dict(facts[n]) if isinstance(facts.get(n), dict) else {} for n in ("use", "left_out", "waived")
        )
        workers, cluster = facts.get("workers"), facts.get("cluster")
        count = workers if isinstance(workers, int) and 0 <= workers <= 64 else 2
        return cls(use, left_out, waived, count, cluster if isinstance(cluster, str) else "")
