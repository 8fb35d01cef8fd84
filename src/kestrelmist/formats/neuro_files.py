"""The library that reads NIfTI, MGH and MINC, loaded without the DICOM reader that it would bring along."""

from __future__ import annotations

import sys
import threading
from functools import cache
from types import ModuleType


class _Hidden:
    """A finder that lets one thread believe that a package is not there; other threads find it as always."""

    def __init__(self, package: str):
        self.package, self.thread = package, threading.get_ident()

    def find_spec(self, name: str, path=None, target=None):
        if name == self.package and threading.get_ident() == self.thread:
            raise ModuleNotFoundError(f"{name} is not wanted here", name=name)


@cache
def nibabel() -> ModuleType:
    """The package nibabel. It imports pydicom, for a header extension that nothing here reads, when it finds it; that
    takes half the time a small NIfTI file takes to be read."""
    hidden = _Hidden("pydicom")
    sys.meta_path.insert(0, hidden)
    try:
        import nibabel as package
    finally:
        sys.meta_path.remove(hidden)
    return package
