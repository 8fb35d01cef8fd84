"""Compiled kernels that cost nothing until they are called.

A kernel is a plain function marked with `@kernel`. numba is imported, and the machine code loaded from the cache or
compiled, when the first kernel is called. Compiled code is kept in the user's cache, in a folder named after the source
of the kernel's module and of every module whose kernels it calls, so that a change in any of them is noticed.
"""

from __future__ import annotations

import ctypes
import hashlib
import os
import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import platformdirs

KERNELS: list[Kernel] = []
"""All kernels of the modules imported so far."""

_lock = threading.RLock()
_ready, _expected = threading.Event(), threading.Event()
_here = threading.local()


class Kernel:
    """A function that is compiled when it is first called; see `kernel`."""

    def __init__(self, function: Callable, options: dict[str, Any]):
        self.function, self.options = function, options
        self.__doc__, self.__name__, self.__module__ = function.__doc__, function.__name__, function.__module__
        self._compiled: Callable | None = None
        self._at_hand = False
        KERNELS.append(self)

    def __call__(self, *arguments):
        """Run it; loaded from the cache, or compiled, the first time."""
        return (self._compiled or self.compiled())(*arguments)

    def compiled(self) -> Callable:
        """The numba dispatcher; kernels this one calls are put in place first."""
        with _lock:
            if self._compiled is None:
                for name, inner in self.calls().items():
                    self.function.__globals__[name] = inner.compiled()
                self._compiled = _dispatcher(self.function, self.options, cache_folder(self))
                home = self.function.__globals__
                if home.get(self.__name__) is self:
                    home[self.__name__] = self._compiled
            return self._compiled

    def calls(self) -> dict[str, Kernel]:
        """Kernels this one calls, by the names under which it knows them."""
        return {
            name: found
            for name in self.function.__code__.co_names
            if isinstance(found := self.function.__globals__.get(name), Kernel) and found is not self
        }

    def sources(self) -> set[str]:
        """Files whose change makes the compiled code stale: its own, and those of all kernels below it."""
        return _sources(self.function, set())

    @property
    def kept(self) -> bool:
        """Whether compiled code of it lies in the cache, for some number type."""
        folder = cache_folder(self)
        return folder is not None and any(folder.rglob(f"*.{self.__name__}-*.nbc"))

    @property
    def at_hand(self) -> bool:
        """Whether a call would not wait for a compiler, or may."""
        if getattr(_here, "used", False):
            return True
        self._at_hand = self._at_hand or self._compiled is not None or self.kept
        return self._at_hand


def kernel(function: Callable | None = None, /, **options):
    """Mark a function to be compiled with numba, without the interpreter lock, and kept on disk.

    Parameters
    ----------
    options
        More options of `numba.njit`, such as `fastmath`.
    """
    if function is None:
        return lambda given: Kernel(given, options)
    return Kernel(function, options)


def unmarked(values: Any) -> Any:
    """An array that is mapped from a file, as kernels are compiled for: not marked as one that is only read, which
    would be another type to them. Only for kernels that write nothing into it, and while the array itself is kept."""
    import numpy as np

    if values.flags.writeable or not values.flags.c_contiguous or not values.size:
        return values
    memory = (ctypes.c_char * values.nbytes).from_address(values.ctypes.data)
    return np.ndarray(values.shape, values.dtype, memory)


def cache_root() -> Path:
    """Where compiled kernels are kept; the variable KESTRELMIST_KERNELS moves it."""
    named = os.environ.get("KESTRELMIST_KERNELS")
    return Path(named) if named else Path(platformdirs.user_cache_dir("kestrelmist")) / "kernels"


def cache_folder(one: Kernel) -> Path | None:
    """The folder for a kernel's compiled code; None when its source cannot be read."""
    digest = hashlib.sha256()
    try:
        for path in sorted(one.sources()):
            digest.update(Path(path).read_bytes())
    except OSError:
        return None
    # two copies of the program do not throw each other's kernels away
    place = hashlib.sha256(one.function.__code__.co_filename.encode()).hexdigest()[:10]
    return cache_root() / f"{one.__module__}.{one.__name__}-{place}" / digest.hexdigest()[:16]


def _sources(function: Callable, seen: set[Callable]) -> set[str]:
    seen.add(function)
    found = {function.__code__.co_filename}
    for name in function.__code__.co_names:
        value = function.__globals__.get(name)
        inner = value.function if isinstance(value, Kernel) else getattr(value, "py_func", None)
        if inner is not None and inner not in seen:
            found |= _sources(inner, seen)
    return found


def _dispatcher(function: Callable, options: dict[str, Any], folder: Path | None) -> Callable:
    import numba

    config: Any = numba.config
    if folder is None:
        return numba.njit(nogil=True, **options)(function)
    before = config.CACHE_DIR
    try:
        _make_room(folder)
        config.CACHE_DIR = str(folder)
        made: Any = numba.njit(nogil=True, cache=True, **options)(function)
        made._cache = _Forgiving(made._cache)
        return made
    except (OSError, RuntimeError) as error:
        _failed.append(str(error))
        return numba.njit(nogil=True, **options)(function)
    finally:
        config.CACHE_DIR = before


_failed: list[str] = []


def not_kept() -> str:
    """What a person is told once when compiled kernels cannot be kept: all works, a little later; "" when they can."""
    if not _failed:
        return ""
    return (
        f"Compiled code cannot be kept in {cache_root()} (full, or not writable), so it is compiled anew each time;"
        " KESTRELMIST_KERNELS names another folder"
    )


class _Forgiving:
    """numba's cache of a function; when it cannot be read or written, the function is compiled and works all the
    same."""

    def __init__(self, cache: Any):
        self._cache = cache

    def __getattr__(self, name: str) -> Any:
        return getattr(self._cache, name)

    def load_overload(self, *arguments: Any) -> Any:
        try:
            return self._cache.load_overload(*arguments)
        except Exception:  # a damaged file breaks the reading of it in many ways; it is begun anew
            with suppress(OSError):
                self._cache.flush()
            return None

    def save_overload(self, *arguments: Any) -> None:
        try:
            self._cache.save_overload(*arguments)
        except Exception as error:
            _failed.append(str(error))


def _make_room(folder: Path) -> None:
    """Make the folder, and clear what an earlier state of the same source has left."""
    if folder.is_dir():
        return
    folder.mkdir(parents=True, exist_ok=True)
    for other in folder.parent.iterdir():
        if other != folder:
            shutil.rmtree(other, ignore_errors=True)


def ready() -> bool:
    """Whether the kernels that draw are loaded in this process, so that calling one does not wait for a compiler."""
    return _ready.is_set() or getattr(_here, "used", False)


@contextmanager
def used_here() -> Iterator[None]:
    """In this thread, kernels are used whether they are loaded or not: that is how they come to be loaded."""
    _here.used = True
    try:
        yield
    finally:
        _here.used = False


def expected() -> bool:
    """Whether a thread is about to load the kernels that draw: a picture drawn until then is soon drawn again."""
    return _expected.is_set() and not _ready.is_set()


def expect(on: bool) -> None:
    """Say that the kernels that draw are about to be loaded, or that they will not be."""
    (_expected.set if on else _expected.clear)()


def say_ready() -> None:
    """Called once the kernels that draw have been loaded."""
    _ready.set()
