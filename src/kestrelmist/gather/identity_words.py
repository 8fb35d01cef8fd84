"""Words that tell who it is: gathered from headers, taken out of texts that stay, and sought in what was written.

A name is met in many forms: in capitals, without its accents, glued to another word or to a number, short as two
letters. Telephone numbers, long numbers, addresses of mail and dates are taken out whether a header names them or not.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, field

TOKEN = re.compile(r"[^\W_]+")
SPLIT = re.compile(r"[\^=\\,;/]+|\s+")
PHRASE = re.compile(r"[\^=\\;]+|\s{2,}")
MONTHS = (
    "january february march april may june july august september october november december jan feb mar apr jun jul"
    " aug sept sep oct nov dec januar februar märz maerz mai juni juli oktober dezember okt dez janvier février"
    " fevrier mars avril juin juillet août aout septembre octobre novembre décembre enero febrero marzo abril mayo"
    " junio julio agosto septiembre octubre noviembre diciembre"
)
_MONTH = "|".join(sorted(MONTHS.split(), key=len, reverse=True))
DATES = (
    re.compile(r"(?<![\d.])(?:19|20)\d\d([-./_ ])\d{1,2}\1\d{1,2}(?![\d.])"),
    re.compile(r"(?<![\d.])\d{1,2}([-./_ ])\d{1,2}\1(?:19|20)\d\d(?![\d.])"),
    re.compile(r"(?<![\d.])\d{1,2}([-./_])\d{1,2}\1\d{2}(?![\d.])"),
    re.compile(rf"(?i)(?<!\w)(?:\d{{1,2}}(?:st|nd|rd|th|\.)?[\s\-]*(?:of\s+)?(?:{_MONTH})\b\.?(?:[\s,\-]*\d{{2,4}})?)"),
    re.compile(rf"(?i)(?<!\w)(?:{_MONTH})\b\.?[\s\-]*\d{{1,4}}(?:st|nd|rd|th)?(?:\s*,?\s*\d{{4}})?(?!\w)"),
    re.compile(r"\d{1,4}\s*[年]\s*\d{1,2}\s*[月](?:\s*\d{1,2}\s*[日])?"),
)
NUMBERS = re.compile(r"[+(]?\d[\d\s()/.\-]*\d")
LONG = re.compile(r"\d{6,}")
MAIL = re.compile(r"\S+@\S+|\b(?:https?://|www\.)\S+", re.IGNORECASE)


def folded(text: str) -> str:
    """A word without accents and capitals."""
    plain = unicodedata.normalize("NFKD", text.casefold())
    return "".join(c for c in plain if not unicodedata.combining(c)).casefold()


def spelled_out(text: str) -> str:
    """A folded word with umlauts as two letters, as passports write them."""
    for one, two in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("ø", "oe"), ("å", "aa"), ("æ", "ae")):
        text = text.casefold().replace(one, two)
    return folded(text)


def pieces(token: str) -> Iterator[str]:
    """Parts of a run of letters and digits: numbers, and words that begin with a capital."""
    start = 0
    for n in range(1, len(token)):
        before, here, after = token[n - 1], token[n], token[n + 1 : n + 2]
        if (
            before.isdecimal() != here.isdecimal()
            or (here.isupper() and before.islower())
            or (here.isupper() and before.isupper() and after.islower())
        ):
            yield token[start:n]
            start = n
    yield token[start:]


def _is_dense(word: str) -> bool:
    """Whether a word is written in signs of which one or two make a name."""
    return any(ord(c) >= 0x2E80 for c in word)


@dataclass
class IdentityWords:
    """What tells whose images are."""

    names: dict[str, str] = field(default_factory=dict)
    """Names, folded, with how they were written; sought as parts of longer words when they have three letters."""
    phrases: dict[str, str] = field(default_factory=dict)
    """Identifiers and what consists of several words, folded with all signs between left out."""

    def __bool__(self) -> bool:
        return bool(self.names or self.phrases)

    def add_name(self, text: str) -> None:
        """A person's name, in all its parts."""
        for phrase in PHRASE.split(text):
            self.add_phrase(phrase)
        for part in SPLIT.split(text):
            part = part.strip(" .'-_")
            for word in {part, *TOKEN.findall(part)}:
                if any(c.isalpha() for c in word) and not _is_title(word):
                    for form in {folded(word), spelled_out(word)}:
                        self.names.setdefault(form, word)

    def add_identifier(self, text: str) -> None:
        """A number or a code that stands for somebody."""
        text = text.strip()
        self.add_phrase(text)
        plain = _joined(text)
        if 0 < len(plain) < 3:
            self.names.setdefault(plain, text)

    def add_phrase(self, text: str) -> None:
        """Words that tell something together."""
        for form in {_joined(text), _joined(spelled_out(text))}:
            if len(form) >= 3 or _is_dense(form):
                self.phrases.setdefault(form, text.strip())

    def without(self, subject: str) -> IdentityWords:
        """The same, but for what the new name of the subject is made of."""
        new, parts = _joined(subject), {folded(t) for t in TOKEN.findall(subject)}
        return IdentityWords(
            {k: v for k, v in self.names.items() if k not in parts and k != new},
            {k: v for k, v in self.phrases.items() if not new or (k != new and k not in new)},
        )

    def spans(self, text: str) -> list[tuple[int, int]]:
        """Where in a text somebody is told of, merged and in order."""
        found = [(m.start(), m.end()) for m in TOKEN.finditer(text) if self._names_somebody(m.group())]
        found += self._phrases_in(text)
        for pattern in (*DATES, LONG, MAIL):
            found += [(m.start(), m.end()) for m in pattern.finditer(text)]
        found += [(m.start(), m.end()) for m in NUMBERS.finditer(text) if _calls(m.group())]
        merged: list[tuple[int, int]] = []
        for start, end in sorted(found):
            if merged and start <= merged[-1][1]:
                merged[-1] = merged[-1][0], max(end, merged[-1][1])
            else:
                merged.append((start, end))
        return merged

    def first_in(self, text: str) -> str:
        """The first place that tells of somebody, "" when there is none."""
        spans = self.spans(text)
        return text[spans[0][0] : spans[0][1]] if spans else ""

    def taken_out(self, text: str) -> str:
        """The text without what tells of somebody."""
        spans = self.spans(text)
        if not spans:
            return text
        kept, at = [], 0
        for start, end in spans:
            kept.append(text[at:start])
            at = end
        left = re.sub(r"(?<!\w)[,;:/_+&-]+(?!\w)", " ", " ".join((*kept, text[at:])))
        left = re.sub(r"\s+(?=[,;:])", "", re.sub(r"\s{2,}", " ", left))
        return left.strip(" ,;:-_/+&")

    def _names_somebody(self, token: str) -> bool:
        plain = folded(token)
        if plain in self.names or any(folded(piece) in self.names for piece in pieces(token)):
            return True
        return any(name in plain for name in self.names if len(name) >= 3 or _is_dense(name))

    def _phrases_in(self, text: str) -> list[tuple[int, int]]:
        if not self.phrases:
            return []
        letters: list[str] = []
        places: list[int] = []
        for n, c in enumerate(text):
            if c.isalnum():
                plain = folded(c)
                letters.append(plain)
                places += [n] * len(plain)
        whole, found = "".join(letters), []
        for phrase in self.phrases:
            at = whole.find(phrase)
            while at >= 0:
                start, end = places[at], places[at + len(phrase) - 1] + 1
                while start > 0 and text[start - 1].isalnum():
                    start -= 1
                while end < len(text) and text[end].isalnum():
                    end += 1
                found.append((start, end))
                at = whole.find(phrase, at + 1)
        return found


def _is_title(word: str) -> bool:
    return folded(word).rstrip(".") in ("dr", "prof", "mr", "mrs", "ms", "med", "md", "phd", "von", "van", "de", "der")


def _joined(text: str) -> str:
    return "".join(c for c in folded(text) if c.isalnum())


def _calls(text: str) -> bool:
    """Whether a row of digits may be a telephone number, and is not one of measures."""
    digits = sum(c.isdecimal() for c in text)
    parts = text.split()
    if all(re.fullmatch(r"\d*\.\d+", p) for p in parts):
        return False
    return digits >= 7 or (digits >= 5 and bool(re.match(r"\+|\(|0\d", text)))
