"""Classifiers as .skops: a random forest of scikit-learn as plain arrays, which runs no code when it is opened."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from ..core.classifier import Classifier, Learnt, Trees
from ..core.errors import Trouble
from ..core.progress import Progress
from ..core.safe_write import written_whole
from .format import Format, register

TRUSTED = ["sklearn.tree._tree.Tree"]
"""Arrays of one tree, which are looked through below."""
LARGEST = 1 << 29
"""Bytes of a file that is opened at most."""


def write_classifier(path: Path, classifier: Classifier, progress: Progress | None = None) -> None:
    """Write a classifier."""
    import skops.io

    facts = {"learnt": classifier.learnt.as_dict(), "notes": classifier.notes, "name": classifier.name}
    with written_whole(path) as stream:
        stream.write(skops.io.dumps({"forest": classifier.model, "kestrelmist": json.dumps(facts)}))


def read_classifier(path: Path) -> Classifier:
    """A classifier from a file.

    Raises
    ------
    Trouble
        When it is damaged, is none that this program has trained, or holds what would have to be run.
    """
    import skops.io

    if path.stat().st_size > LARGEST:
        raise Trouble("This classifier is too large to be one", "choose another file", path)
    blob = path.read_bytes()
    try:
        strange = [one for one in skops.io.get_untrusted_types(data=blob) if one not in TRUSTED]
        if strange:
            what = f"This file holds what may run code ({', '.join(map(str, strange))[:80]})"
            raise Trouble(what, "open only classifiers that were trained here", path)
        whole = skops.io.loads(blob, trusted=TRUSTED)
        forest, facts = whole["forest"], json.loads(whole["kestrelmist"])
        learnt = Learnt.from_dict(facts["learnt"])
        made = Classifier(learnt, forest, str(facts.get("name") or path.stem), "", dict(facts.get("notes") or {}))
        trees = made.trees
    except Trouble:
        raise
    except Exception as error:  # damage shows in many ways
        raise Trouble("This file is damaged, or no classifier that was trained here", "train it again", path) from error
    if not _sound(trees, learnt):
        raise Trouble("This classifier does not fit what it says of itself", "train it again", path)
    return made


def _sound(trees: Trees, learnt: Learnt) -> bool:
    """Whether every way through the trees ends, and asks for features that there are."""
    nodes, classes = trees.shares.shape
    inner = np.flatnonzero(trees.feature >= 0)
    onwards = all((to[inner] > inner).all() and (to[inner] < nodes).all() for to in (trees.left, trees.right))
    known = bool((trees.feature < learnt.features).all()) and classes == len(learnt.classes)
    return known and bool(onwards) and len(trees.roots) > 0 and bool(np.isfinite(trees.shares).all())


register(
    Format(
        "classifier of scikit-learn (skops)",
        (".skops",),
        read_classifier,
        write_classifier,
        holds=("classifier",),
        listed=False,
    )
)
