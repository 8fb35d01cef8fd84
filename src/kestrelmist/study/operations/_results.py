"""Keeping the table that an operation on the study itself has to show."""

from __future__ import annotations

import sqlite3
from dataclasses import replace

from ...core.progress import silent
from ...core.table import Table
from ..items import Record
from ..journal.changes import Change
from ..journal.logbook import Step, Thing
from ..store import store_for
from ..study import Study


def keep_table(study: Study, table: Table, step: Step) -> Table:
    """Keep a table with the study's results, under its line in the logbook; nothing when the study is read only."""
    if study.read_only:
        return table
    prepared = store_for("table").prepare(study, table, silent())

    def insert(db: sqlite3.Connection) -> tuple[list[Change], Step]:
        key = study.items.insert(db, Record(0, "table", "", table.title, hash=prepared.hash, body=prepared.body))
        facts = store_for("table").take(study, prepared, key)
        if facts:
            study.items.update(db, key, facts)
        return [], replace(step, outputs={"table": (Thing("table", table.title, item=key, hash=prepared.hash),)})

    try:
        study.history.do(insert)
    finally:
        prepared.drop()
    return table
