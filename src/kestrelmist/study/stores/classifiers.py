"""Classifiers: a file each, in the form that runs no code when it is opened."""

from __future__ import annotations

import shutil

from ...core.classifier import Classifier
from ...core.errors import Trouble
from ...core.progress import Progress
from ...formats.classifier_files import read_classifier, write_classifier
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, side_folder

FILE = "classifier.skops"


class ClassifierStore(Store):
    """Keeps classifiers."""

    kind, folder = "classifier", "classifiers"

    def prepare(self, study: OpenStudy, thing: Classifier, progress: Progress) -> Prepared:
        side = side_folder(study)
        try:
            write_classifier(side / FILE, thing)
        except BaseException:
            shutil.rmtree(side, ignore_errors=True)
            raise
        body = {"learnt": thing.learnt.as_dict(), "notes": thing.notes}
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), body, None, side)

    def open(self, study: OpenStudy, record: Record) -> Classifier:
        path = study.folder / self.folder / str(record.id) / FILE
        if not path.is_file():
            raise Trouble(f"The file of the classifier “{record.name}” is no longer there", "train it again", path)
        found = read_classifier(path)
        return Classifier(found.learnt, found.model, record.name, record.subject, found.notes)


STORES.add("classifier", ClassifierStore())
