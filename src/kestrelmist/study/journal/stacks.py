"""Entries of the history, and the two stacks that they lie on."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(eq=False)
class Entry:
    """Changes that were made together, and are undone together."""

    id: int
    title: str
    items: list[int]
    """A folder of thousands of images that was taken in is one entry, to which each of them adds itself."""
    steps: list[int] = field(default_factory=list)


@dataclass(eq=False)
class LongEntry:
    """What many steps that take long go into, while a person does other things in between: one entry, as long as nobody
    else changes the same things. Until it is over, undo passes it by."""

    title: str
    entry: int = 0
    """The entry that it is at; 0 before its first change."""
    step: int | None = None
    """The line of its last step in the logbook."""


@dataclass
class Stacks:
    """What was done, and what was undone of it, the last one last."""

    done: list[Entry] = field(default_factory=list)
    undone: list[Entry] = field(default_factory=list)

    def cannot_redo(self, items: set[int]) -> None:
        """Things were changed by an entry that was there before: what was undone of them stays so."""
        if self.undone:
            self.undone[:] = [e for e in self.undone if items.isdisjoint(e.items)]

    def turn(self, entry: Entry) -> None:
        """An entry goes over to the other stack."""
        if entry in self.done:
            self.done.remove(entry)
            self.undone.append(entry)
        elif entry in self.undone:
            self.undone.remove(entry)
            self.done.append(entry)
