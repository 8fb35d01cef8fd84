"""One small way to register and discover: operations, checks, formats, stores, tools, pages, demo scenes."""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import lru_cache
from itertools import chain
from pathlib import Path
from typing import Any, Generic, TypeVar

from .errors import Trouble

T = TypeVar("T")

PLUGINS = "kestrelmist"
"""Group of entry points: a package that is installed beside this one names modules there that register more."""

_lock = threading.RLock()
"""Held while modules are imported for a registry: a second thread waits until all is there."""


class Registry(Generic[T]):
    """Things by name. The modules of some packages are found and imported when the first thing is asked for.

    Parameters
    ----------
    what : str
        What one entry is, for error messages.
    packages : str
        Packages whose modules register entries when imported. A module that is called like what is asked for is tried
        before all are imported.
    order : callable, optional
        What entries are listed by; their names when left out.
    """

    def __init__(self, what: str, *packages: str, order: Callable[[T], Any] | None = None):
        self.what, self.packages, self.order = what, packages, order
        self._entries: dict[str, T] = {}
        self._discovered: set[str] = set()
        self._complete = self._busy = False

    def add(self, name: str, entry: T) -> T:
        """Register an entry; raises ValueError when the name is taken by another one."""
        if name in self._entries:
            raise ValueError(f"there is a {self.what} “{name}” already")
        self._entries[name] = entry
        return entry

    def remove(self, name: str) -> None:
        """Forget an entry; nothing happens when there is none."""
        self._entries.pop(name, None)

    def discover(self, *packages: str) -> None:
        """Import the modules of some of the packages, or of all and of other packages' plug-ins; once each."""
        if self._complete:
            return
        with _lock:
            if self._busy:  # asked for by a module that is just being imported for it
                return
            self._busy = True
            try:
                for package in packages or self.packages:
                    if package not in self._discovered:
                        for module in modules_of(package):
                            importlib.import_module(module)
                        self._discovered.add(package)
                if not packages:
                    discover_plugins()
                    self._complete = True
            finally:
                self._busy = False

    def get(self, name: str) -> T | None:
        """The entry of a name, None when there is none."""
        if name not in self._entries and not self._complete:
            self._try(name)
        if name not in self._entries:
            self.discover()
        return self._entries.get(name)

    def named(self, name: str) -> T:
        """The same; raises Trouble when there is none, and says which there are."""
        found = self.get(name)
        if found is None:
            raise Trouble(f"There is no {self.what} “{name}”", f"choose one of: {', '.join(self.names())}")
        return found

    def _try(self, name: str) -> None:
        """Import the module that is called like an entry, if there is one."""
        likely = name.lower().replace("-", "_").replace(" ", "_")
        if not likely.isidentifier():
            return
        with _lock:
            for package in self.packages:
                for home in (package, *_within(package)):
                    if importlib.util.find_spec(f"{home}.{likely}"):
                        importlib.import_module(f"{home}.{likely}")

    def known(self) -> list[T]:
        """Entries of the own packages and those of others so far: for modules that register something themselves, and
        may not have others loaded half-way through."""
        self.discover(*self.packages)
        return list(self._entries.values())

    def values(self) -> list[T]:
        """All entries, in their order."""
        self.discover()
        return self.sorted()

    def sorted(self) -> list[T]:
        """Entries so far, in their order."""
        order = self.order
        if order is None:
            return [self._entries[name] for name in sorted(self._entries)]
        return sorted(self._entries.values(), key=order)

    def names(self) -> list[str]:
        """Names of all entries, in the order of the alphabet."""
        self.discover()
        return sorted(self._entries)

    def __iter__(self) -> Iterator[T]:
        return iter(self.values())

    def __contains__(self, name: str) -> bool:
        return self.get(name) is not None


def modules_of(package: str) -> list[str]:
    """Names of a package's modules, sub-packages included, in the order of the alphabet."""
    home = importlib.import_module(package)
    return sorted(m.name for m in pkgutil.walk_packages(home.__path__, f"{package}.") if not m.ispkg)


def _within(package: str) -> list[str]:
    """Names of a package's sub-packages."""
    home = importlib.import_module(package)
    return [f"{package}.{m.name}" for m in pkgutil.iter_modules(home.__path__) if m.ispkg]


FAILED: list[str] = []
"""Sentences on plug-ins that could not be imported, and are left out."""


@lru_cache(maxsize=1)
def discover_plugins() -> None:
    """Import what other installed packages name under the entry point group `kestrelmist`; once. One that fails is
    named in FAILED and left out: the program goes on without it."""
    if not any(_names_some(Path(place or ".")) for place in sys.path):
        return
    from importlib.metadata import entry_points

    for point in entry_points(group=PLUGINS):
        try:
            point.load()
        except Exception as error:
            why = " ".join(str(error).split())[:200]
            FAILED.append(
                f"The plug-in “{point.name}” ({point.value}) could not be loaded ({type(error).__name__}: {why}) and is"
                " left out: mend or remove it."
            )


def _names_some(place: Path) -> bool:
    """Whether a package installed below a folder of the import path names modules of the group. Nearly always none
    does, and looking for the heading is several times quicker than loading what reads such files properly."""
    heading = f"[{PLUGINS}]".encode()
    found = chain(place.glob("*.dist-info/entry_points.txt"), place.glob("*.egg-info/entry_points.txt"))
    with suppress(OSError):
        return any(heading in file.read_bytes() for file in found)
    return False
