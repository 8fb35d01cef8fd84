"""Headers read and written without complaint."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def quiet() -> Iterator[None]:
    """Real files break small rules of the standard all the time; a person can do nothing about them."""
    from pydicom import config

    settings = config.settings
    before = settings.reading_validation_mode, settings.writing_validation_mode
    settings.reading_validation_mode = settings.writing_validation_mode = config.IGNORE
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    finally:
        settings.reading_validation_mode, settings.writing_validation_mode = before
