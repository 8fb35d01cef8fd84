"""A report as one file of HTML: pictures and style inside, no script, nothing fetched."""

from __future__ import annotations

import base64
from importlib.resources import files

from .content import RunReport
from .plots import dots


def as_html(report: RunReport) -> str:
    """The whole report; whatever is in names stands as text."""
    import jinja2

    room = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    room.filters["picture"] = lambda png: f"data:image/png;base64,{base64.b64encode(png).decode()}"
    room.filters["number"] = lambda value: f"{value:.4g}"
    text = files("kestrelmist.study.recipes.report").joinpath("report.html.jinja").read_text(encoding="utf-8")
    plots = {name: jinja2.utils.markupsafe.Markup(dots(report, name)) for name in report.names}
    return room.from_string(text).render(report=report, plots=plots)
