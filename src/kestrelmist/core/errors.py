"""The one kind of error that reaches a person: a sentence saying what is wrong and what to do."""

from __future__ import annotations

from pathlib import Path


class Trouble(Exception):
    """Something a person can understand and act on.

    Parameters
    ----------
    what : str
        What is wrong, without a full stop.
    do : str
        What the person can do about it, without a full stop.
    file : path, optional
        The file or folder concerned.
    """

    def __init__(self, what: str, do: str = "", file: str | Path | None = None):
        self.what, self.do, self.file = what, do, None if file is None else Path(file)
        place = "" if file is None or str(file) in what else f" ({file})"
        super().__init__(f"{what}{place}{': ' if do else ''}{do}.")

    def __reduce__(self):
        # so that it comes whole out of another process
        return type(self), (self.what, self.do, self.file)


class Asks(Trouble):
    """Nothing was done yet, as a person has to look at something first.

    Parameters
    ----------
    table : Table
        What to look at.
    setting, answer : str
        The setting, and its value that says that it was looked at.
    more : str, optional
        The setting that takes words of the person's own, after which it asks anew.
    """

    def __init__(
        self, what: str, do: str, file: str | Path | None, *, table, setting: str, answer: str, more: str = ""
    ):
        super().__init__(what, do, file)
        self.table, self.setting, self.answer, self.more = table, setting, answer, more

    def __reduce__(self):
        return _asks, (self.what, self.do, self.file, self.table, self.setting, self.answer, self.more)


def _asks(what, do, file, table, setting, answer, more) -> Asks:
    return Asks(what, do, file, table=table, setting=setting, answer=answer, more=more)


class Partly(Trouble):
    """Something of what was asked for was done and is kept, and something was not.

    Parameters
    ----------
    done : dict
        What was kept, by the names of the results: ids of things of the study.
    """

    def __init__(self, what: str, do: str = "", file: str | Path | None = None, *, done: dict):
        super().__init__(what, do, file)
        self.done = done

    def __reduce__(self):
        return _partly, (self.what, self.do, self.file, self.done)


def _partly(what, do, file, done) -> Partly:
    return Partly(what, do, file, done=done)


class DiskFull(Trouble):
    """There is no room for what was to be written; what would come after it will find none either."""


class Cancelled(Exception):
    """Raised inside a computation whose person pressed Cancel; nothing was kept."""


def let_through(error: BaseException) -> None:
    """Raise what is no failure of a decoder: the end of the program, or of a generator. All else a decoder may answer a
    damaged file with, a panic of a compiled one too, which is no `Exception`."""
    if isinstance(error, (KeyboardInterrupt, SystemExit, GeneratorExit, Cancelled)):
        raise error
