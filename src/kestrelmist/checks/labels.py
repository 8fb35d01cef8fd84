"""Checks of a label map."""

from __future__ import annotations

from ..core.labels import HUGE
from ..core.quantity import short_size
from .notice import Mend, Notice, Subject, check


@check("outline", "measure")
def numbers_left_out(subject: Subject) -> list[Notice]:
    """Gaps in the label numbers, which later programs read as missing labels."""
    numbers = [row.number for row in subject.labels.table] if subject.labels else []
    gaps = sorted(set(range(1, max(numbers, default=0) + 1)) - set(numbers))
    if not gaps:
        return []
    text = _listed(gaps)
    return [
        Notice(
            "look",
            f"Label{'s' if len(gaps) > 1 else ''} {text} {'are' if len(gaps) > 1 else 'is'} not used.",
            Mend("Renumber", "renumber"),
            "numbers_left_out",
        )
    ]


@check("outline", "measure")
def loose_pieces(subject: Subject) -> list[Notice]:
    """Labels of one large piece with small ones apart from it (each under a tenth of it)."""
    from ..outline.pieces import pieces_of

    notices: list[Notice] = []
    if subject.labels is None or subject.labels.kji.size > HUGE:  # a walk through all voxels is no work for a check
        return notices
    _, cell, unit = subject.labels.space.extent
    for row in subject.labels.table:
        if not subject.labels.counts[row.number]:
            continue
        pieces, _ = pieces_of(subject.labels, row.number, stop=subject.stop)
        loose = [p for p in pieces[1:] if p.voxels < 0.1 * pieces[0].voxels]
        if loose and not row.locked:
            size = short_size(sum(p.voxels for p in loose) * cell, unit)
            below = max(p.voxels for p in loose) + 1
            notices.append(
                Notice(
                    "look",
                    f"{row.name} has {len(loose)} loose piece{'s' if len(loose) > 1 else ''}, {size}.",
                    Mend("Remove", "remove-pieces", {"label": row.name, "below": below}),
                    "loose_pieces",
                )
            )
    return notices


@check("outline", "measure")
def other_grid(subject: Subject) -> list[Notice]:
    """Labels that were made on another image's grid."""
    if subject.labels is None or subject.series.space.same_grid(subject.labels.space):
        return []
    return [
        Notice(
            "wrong",
            f"These labels were made on another grid than “{subject.series.name}”.",
            Mend("Start new labels", "new-labels"),
            "other_grid",
        )
    ]


def _listed(numbers: list[int]) -> str:
    words = [str(n) for n in numbers[:5]] + (["others"] if len(numbers) > 5 else [])
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " and " + words[-1]
