"""What does tasks, as those see it who send them: one more way is one more class with these four methods."""

from __future__ import annotations

from collections.abc import Collection
from concurrent.futures import Future
from typing import Any, Protocol

from ...core.errors import Trouble
from .parcel import Parcel


class Lost(Exception):
    """Whoever did a task is gone, and the task with it: it can be sent again."""


class Gone(Trouble):
    """Everybody who did tasks is away: nothing can be gone on with."""


class Place(Protocol):
    """Does tasks; `width` is how many at once, `words` where."""

    width: int
    words: str

    def send(self, parcel: Parcel) -> Future:
        """Begin a task; what it gives or raises is the future's."""
        ...

    def wait(self, futures: Collection[Future], seconds: float) -> set[Future]:
        """Those that are over, at the latest after so many seconds."""
        ...

    def outcome(self, future: Future) -> Any:
        """What a task gave. Raises what it raised; Lost when whoever did it is gone."""
        ...

    def close(self, at_once: bool) -> None:
        """Let go of everything, in the middle of tasks when `at_once`."""
        ...
