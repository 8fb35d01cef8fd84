"""More words for what can be found: a line each, from wherever they come."""

from __future__ import annotations

_words: dict[str, list[str]] = {}


def also_called(name: str, *words: str) -> None:
    """Let an operation, a tool or a command be found by more words.

    Parameters
    ----------
    name : str
        What it is called on the command line: "smooth", "take-out-brain".
    words : str
        Each a word, or several that belong together.

    Examples
    --------
    >>> also_called("nothing-yet", "blurring", "low pass")
    >>> synonyms_of("nothing-yet")
    'blurring . low pass'
    """
    known = _words.setdefault(name, [])
    known += [word for word in words if word not in known]


def synonyms_of(name: str) -> str:
    """The words that were added for something, as the Finder takes them."""
    return " . ".join(_words.get(name, ()))


def forget_synonyms(name: str) -> None:
    """Leave something with the words that it says of itself."""
    _words.pop(name, None)
