"""Words from files shown as they are: markup in a name is text, not an instruction."""

from __future__ import annotations

import html


def plain_tip(text: str) -> str:
    """A tool tip that shows markup as it is written."""
    return f"<qt>{html.escape(text).replace(chr(10), '<br>')}</qt>"
