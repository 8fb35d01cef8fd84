"""Stages whose page is a sentence and the operations by name."""

from __future__ import annotations

from ..page import PAGES, Page, stage_page

SENTENCES = {
    "Prepare": "Work on the image in the lead pane. New images come beside it; its values stay.",
    "Align": "Place images in the world: no value is touched.",
}
for stage, sentence in SENTENCES.items():
    PAGES.add(stage, Page(stage, lambda context, stage=stage, sentence=sentence: stage_page(context, stage, sentence)))
