"""Classifiers as things of a study."""

from __future__ import annotations

from ..classifier import Classifier
from ..kind import Kind, register

CLASSIFIER = register(
    Kind(
        "classifier",
        Classifier,
        "thing",
        wanted=lambda p: "name a .skops file, or a classifier of the study",
        field="thing",
        metavar=lambda p: "CLASSIFIER",
        on_shelf=False,
        ending=".skops",
    )
)
