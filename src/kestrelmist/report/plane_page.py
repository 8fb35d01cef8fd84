"""A plane through layers as a page, with what stands over it: what pictures, films and figures show."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..scene import pieces
from ..scene.compare import Comparison, draw_compared
from ..scene.drawing import draw_over
from ..scene.layer import ImageLook, LabelLook, MarkLook
from ..scene.layer_type import Drawn, primitives_of, type_of_thing
from ..scene.primitives import Page, Primitive
from ..scene.view import View
from .made_how import caption_of, facts_of_planes
from .paper import NO_PAPER, Paper

OVER = Comparison()
More = Callable[[View], Sequence[Primitive]]
"""What else stands over a picture, on a page of a view whose pixels are page units."""
USUAL = 700
"""Pixels of the shorter side up to which words keep their size; on larger pictures they grow."""


@dataclass(frozen=True, eq=False)
class PlaneLayers:
    """What lies in a plane.

    Parameters
    ----------
    lower, upper : sequences of Drawn
        The image, and what lies over it.
    how : Comparison
        How that is seen.
    labels : LabelMap, optional
    marks : sequence of Marks
    """

    lower: Sequence[Drawn]
    upper: Sequence[Drawn] = ()
    how: Comparison = OVER
    labels: LabelMap | None = None
    marks: Sequence[Marks] = ()

    @property
    def lead(self) -> Image:
        """The image that lies lowest."""
        found = self.lower[0].thing
        assert isinstance(found, Image)
        return found

    @property
    def names(self) -> list[str]:
        """Of all that lies in it."""
        things = [d.thing for d in (*self.lower, *self.upper)]
        return [thing.name for thing in (*things, *([self.labels] if self.labels is not None else []), *self.marks)]

    def page(self, view: View, written: bool = True, paper: Paper = NO_PAPER, more: More | None = None) -> Page:
        """The picture with what stands over it; words of a large picture grow with it, and have their size on paper."""
        ground = draw_compared(view, self.lower, self.upper, self.how)
        if self.labels is not None:
            draw_over(view, [Drawn(self.labels, LabelLook())], ground)
        lead = self.lead
        thick = _thick(view, lead)
        upper = [
            replace(d, look=replace(d.look, thickness=thick)) if isinstance(d.look, MarkLook) else d for d in self.upper
        ]
        drawn = [Drawn(one, replace(type_of_thing(one).first(one, True)[0], thickness=thick)) for one in self.marks]
        scale = paper.scale or max(1.0, min(view.width, view.height) / USUAL)
        flat = view.moved(pixel=view.pixel * scale, width=view.width / scale, height=view.height / scale)
        over = primitives_of(flat, [*self.lower, *upper, *drawn])
        where = pieces.plane_text(view, lead.space)
        if written:
            over += pieces.letters(flat) + pieces.length_bar(flat, lead.space.unit)
            over += pieces.caption(flat, where) if where else []
            over += pieces.slabs(flat, [*self.lower, *self.upper], lead.space.unit)
            barred = [d for d in self.upper if isinstance(d.look, ImageLook) and not d.thing.colour]
            shown = barred if self.how.way != "edges" else []
            over += pieces.bars_of_colour(flat, [(d.look, d.thing.unit, d.thing.name) for d in shown], named=True)
        images = [d for d in (*self.lower, *self.upper) if isinstance(d.thing, Image)]
        others = [name for name in self.names if all(name != d.thing.name for d in images)]
        facts = facts_of_planes(lead, images, where, view.pixel, others)
        size = (view.pixel, lead.space.unit)
        over += more(flat) if more is not None else ()
        return Page(ground, over, scale, paper.millimetres, lead.name, facts, caption_of(facts), size)


def _thick(view: View, lead: Image) -> float:
    """Of the slice that shows marks."""
    across = int(abs(view.normal).argmax())
    return lead.space.spacing[lead.space.world_axis_of.index(across)]
