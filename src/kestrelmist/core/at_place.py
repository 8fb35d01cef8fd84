"""A series kept at one place along one of its axes."""

from __future__ import annotations

from .image import Image
from .progress import Progress


def at_place(image: Image, gone: int, n: int) -> Image:
    """The image without one of its axes, at place `n` along it, counted from 0; volumes are read when they are looked
    at."""
    along = image.axes[gone]
    axes = tuple(axis for k, axis in enumerate(image.axes) if k != gone)

    def fetch(index: tuple[int, ...], progress: Progress):
        return image.stored((*index[:gone], n, *index[gone:]), progress)

    return image.like(fetch, axes=axes, name=f"{image.name}, {along.name} {along.words(n)}")
