"""A report as PDF, a page or more a subject, with our fonts inside."""

from __future__ import annotations

import io
from html import escape
from typing import IO, Any

from ....scene.painters.pdf import font_name
from .content import RunReport, UnitPart

MARGIN = 48.0
RED, SOFT, HAIR = "#A9271F", "#5A6B75", "#CDD5D7"


def write_pdf(report: RunReport, stream: IO[bytes]) -> None:
    """Write the whole report into an open binary stream."""
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import PageBreak, Paragraph, SimpleDocTemplate, Spacer

    plain, bold = font_name("400"), font_name("600")
    style = {
        "text": ParagraphStyle("text", fontName=plain, fontSize=9, leading=12),
        "small": ParagraphStyle("small", fontName=plain, fontSize=7.5, leading=10, textColor=SOFT),
        "head": ParagraphStyle("head", fontName=bold, fontSize=17, leading=22, spaceAfter=8),
        "part": ParagraphStyle("part", fontName=bold, fontSize=11, leading=15, spaceBefore=10, spaceAfter=4),
    }

    def words(text: str, kind: str = "text") -> Any:
        return Paragraph(escape(text), style[kind])

    flow: list[Any] = [words(report.title, "head")]
    flow.append(_table([[words(k, "small"), words(v)] for k, v in report.facts], (90, 410)))
    flow.append(words("Subjects", "part"))
    rows = [[words(name, "small") for name in ("who", "state", "judged", "out of the usual", "what went wrong")]]
    for unit in report.units:
        out = "; ".join(f"{n.name} {n.value:.4g} {n.unit} (z {n.z:+.1f})" for n in unit.out)
        judged = " ".join(filter(None, (unit.verdict.get("verdict", "not yet"), unit.verdict.get("note", ""))))
        rows.append([words(unit.words), words(unit.state), words(judged), words(out), words(unit.said)])
    flow.append(_table(rows, (90, 55, 75, 150, 130)))
    flow.append(words("Checks before it started", "part"))
    if report.noticed:
        rows = [[words(name, "small") for name in ("who", "notice", "waived because")]]
        rows += [[words(who), words(said), words(why or "nobody has waived it")] for who, said, why in report.noticed]
        flow.append(_table(rows, (90, 270, 140)))
    flow.append(words(f"Nothing to say had: {', '.join(report.passed) or 'none of them'}.", "small"))
    flow.append(words("Methods", "part"))
    flow.append(words(" ".join(f"{text[:-1]}{f' [{_refs(refs)}]' if refs else ''}." for text, refs in report.methods)))
    flow += [words(f"[{n}] {source}.", "small") for n, source in enumerate(report.sources, 1)]
    for unit in report.units:
        flow.append(PageBreak())
        flow += _unit(unit, words)
    flow.append(Spacer(1, 1))
    page = SimpleDocTemplate(
        stream, pagesize=A4, leftMargin=MARGIN, rightMargin=MARGIN, topMargin=MARGIN, bottomMargin=MARGIN,
        title=report.title, creator="Kestrelmist",
    )  # fmt: skip
    page.build(flow)


def _refs(refs: tuple[int, ...]) -> str:
    return ", ".join(map(str, refs))


def _unit(unit: UnitPart, words) -> list[Any]:
    from PIL import Image as Pillow
    from reportlab.platypus import Image as Placed
    from reportlab.platypus import KeepTogether

    flow = [words(unit.words, "head"), words(f"{unit.state}{f': {unit.said}' if unit.said else ''}")]
    if unit.comes_in:
        flow.append(_table([[words(slot, "small"), words(thing)] for slot, thing in unit.comes_in], (110, 390)))
    for one in unit.pictures:
        with Pillow.open(io.BytesIO(one.png)) as picture:
            wide, tall = picture.size
        width = 500.0
        height = min(width * tall / wide, 600.0)
        flow.append(
            KeepTogether([Placed(io.BytesIO(one.png), height * wide / tall, height), words(one.title, "small")])
        )
    if unit.numbers:
        flow.append(words("Numbers", "part"))
        rows = [[words(n.name), words(f"{n.value:.4g} {n.unit}"), words("" if n.z is None else f"{n.z:+.1f}")]
                for n in unit.numbers]  # fmt: skip
        flow.append(
            _table([[words("what", "small"), words("value", "small"), words("z", "small")], *rows], (280, 150, 70))
        )
    flow.append(words("Steps", "part"))
    rows = [[words(name, "small") for name in ("step", "state", "with", "s")]]
    for n, step in enumerate(unit.steps, 1):
        told = " ".join(filter(None, (step.settings, step.what)))
        rows.append([words(f"{n} {step.title}"), words(step.state), words(told), words(f"{step.seconds:.1f}")])
    flow.append(_table(rows, (130, 55, 275, 40)))
    return flow


def _table(rows: list[list[Any]], widths: tuple[float, ...]) -> Any:
    from reportlab.platypus import Table

    return Table(rows, colWidths=widths, repeatRows=1, style=[
        ("VALIGN", (0, 0), (-1, -1), "TOP"), ("LINEBELOW", (0, 0), (-1, -1), 0.4, HAIR),
        ("LEFTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 2),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 3),
    ])  # fmt: skip
