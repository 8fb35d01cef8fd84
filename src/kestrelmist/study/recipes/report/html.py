"""A report as one file of HTML: pictures and style inside, no script, nothing fetched."""

from __future__ import annotations

import base64
import io
from importlib.resources import files

from .content import RunReport
from .plots import dots

QUALITY = 88
"""Of JPEG: edges one pixel wide stay whole."""


def embedded(png: bytes) -> str:
    """A picture to stand in the file itself: as JPEG where that is smaller, as for slices it is by far."""
    from PIL import Image as Pillow

    stream = io.BytesIO()
    with Pillow.open(io.BytesIO(png)) as picture:
        picture.convert("RGB").save(stream, "JPEG", quality=QUALITY, optimize=True, subsampling=0)
    kind, data = min(("png", png), ("jpeg", stream.getvalue()), key=lambda one: len(one[1]))
    return f"data:image/{kind};base64,{base64.b64encode(data).decode()}"


def as_html(report: RunReport) -> str:
    """The whole report; whatever is in names stands as text."""
    import jinja2

    room = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    room.filters["picture"] = embedded
    room.filters["number"] = lambda value: f"{value:.4g}"
    text = files("kestrelmist.study.recipes.report").joinpath("report.html.jinja").read_text(encoding="utf-8")
    plots = {name: jinja2.utils.markupsafe.Markup(dots(report, name)) for name in report.names}
    return room.from_string(text).render(report=report, plots=plots)
