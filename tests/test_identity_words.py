"""Words that tell who it is: taken out of texts in all their forms, and sought in what was written."""

import base64
import unittest
import zlib

from kestrelmist.gather.identity_words import IdentityWords
from kestrelmist.gather.sought_words import SoughtWords


def words() -> IdentityWords:
    made = IdentityWords()
    for name in ("Waldemarius^Qu", "Müller-Zoë^Li=王^小=ワン^ヤオ", "O'Neil^Ann^^Dr", "Щукин^Лев"):
        made.add_name(name)
    made.add_identifier("HM-0042")
    made.add_identifier("7")
    made.add_phrase("Hollowmere Field Station")
    return made


class TakenOutTest(unittest.TestCase):
    def check(self, cases: dict[str, str]) -> None:
        known = words()
        for text, left in cases.items():
            self.assertEqual(known.taken_out(text), left, text)
            self.assertEqual(known.first_in(left), "", left)

    def test_names_in_all_their_forms(self):
        self.check(
            {
                "Chest Waldemarius thin": "Chest thin",
                "WALDEMARIUS sag": "sag",
                "WaldemariusCT 2mm": "2mm",
                "prewaldemarius": "",
                "CTQu": "",
                "Liver Li4 T1": "Liver T1",
                "Li's": "'s",
                "mueller sag": "sag",
                "MULLER, Zoe": "",
                "小CT": "",
                "王CT scan": "scan",
                "ヤオ 3": "3",
                "лев T2": "T2",
                "щукин_T2": "T2",
                "oneil": "",
                "Chest, Li, follow-up": "Chest, follow-up",
                "Dr Ann, axial": "Dr axial",
            }
        )

    def test_what_only_looks_alike_stays(self):
        same = ("Liver", "Quantum", "Anular", "Field map", "Station 2", "T1 weighted")
        self.check({text: text for text in same})

    def test_identifiers_and_places(self):
        self.check(
            {
                "HM 0042 b": "b",
                "hm_0042": "",
                "xHM0042": "",
                "T1 7 mm": "T1 mm",
                "x7y": "",
                "at hollowmere field station": "at",
                "Field map": "Field map",
            }
        )

    def test_numbers_that_call_or_count_people(self):
        self.check(
            {
                "call +49 171 2345678": "call",
                "030/12345": "",
                "(0171) 555 0100 x": "x",
                "id 4471203": "id",
                "see a.b@example.org now": "see now",
                "0.5 0.5 1.25 mm": "0.5 0.5 1.25 mm",
                "1.25 1.25 1.25 1.0": "1.25 1.25 1.25 1.0",
                "TR 2000 TE 30 b 1000": "TR 2000 TE 30 b 1000",
                "2.5.4.1": "2.5.4.1",
            }
        )

    def test_dates_in_many_forms(self):
        for text in (
            "3.12.1961",
            "3.12.61",
            "03/12/1961",
            "1961-12-03",
            "19611203",
            "3 12 1961",
            "3 December 1961",
            "Dec 3rd, 1961",
            "3. Dezember 1961",
            "12 août 1961",
            "1961年12月3日",
        ):
            self.assertEqual(words().taken_out(f"born {text}"), "born", text)
            self.assertEqual(words().taken_out(text), "", text)
        for text in ("mag 2", "dir 64", "may differ", "march"):
            self.assertEqual(words().taken_out(text), text)

    def test_the_new_name_is_no_word_of_the_old(self):
        known = words().without("HM-0042 Li")
        self.assertEqual(known.taken_out("HM-0042 Li and Qu"), "HM-0042 Li and")


class SoughtTest(unittest.TestCase):
    def setUp(self):
        self.sought = SoughtWords(words())

    def test_in_every_encoding(self):
        for word in ("Waldemarius", "WALDEMARIUS", "waldemarius", "Müller", "MÜLLER", "Щукин", "HM-0042"):
            for encoding in ("utf-8", "utf-16-le", "utf-16-be", "latin-1", "iso8859-5"):
                try:
                    raw = word.encode(encoding)
                except UnicodeEncodeError:
                    continue
                self.assertTrue(self.sought.first_in(b"\1\2x" + raw + b"\0z"), (word, encoding))
        for before in range(4):
            coded = base64.b64encode(b"abcdef"[:before] + b"Waldemarius says")
            self.assertEqual(self.sought.first_in(b"xx" + coded), "Waldemarius", before)

    def test_as_parts_but_short_ones_as_words_only(self):
        self.assertEqual(self.sought.first_in(b"prewaldemariusCT"), "Waldemarius")
        self.assertEqual(self.sought.first_in(b"by Ann."), "Ann")
        self.assertEqual(self.sought.first_in(b"annular"), "")
        self.assertEqual(self.sought.first_in(b"nothing at all"), "")

    def test_among_packed_pixels_long_ones_only(self):
        self.assertEqual(self.sought.first_among_pixels(b"\x88Waldemarius\x99"), "Waldemarius")
        self.assertEqual(self.sought.first_among_pixels(b"\x88 Ann \x99"), "")

    def test_what_cannot_be_told_from_others_is_said(self):
        known = IdentityWords()
        known.add_name("Head^Phantom")
        known.add_name("Qu")
        known.add_identifier("12")
        sought = SoughtWords(known, ["Phantom"])
        self.assertEqual(set(sought.not_sought) >= {"Head", "Phantom", "Qu", "12"}, True, sought.not_sought)
        self.assertEqual(sought.first_in(b"HEAD PHANTOM 12 Qu"), "")


class PackedHeaderTest(unittest.TestCase):
    def test_a_packed_header_is_unpacked(self):
        import tempfile
        from pathlib import Path

        meta = b"\0" * 128 + b"DICM" + b"\2\0\0\0UL\4\0" + (30).to_bytes(4, "little")
        meta += b"1.2.840.10008.1.2.1.99".ljust(30)
        packer = zlib.compressobj(wbits=-15)
        body = packer.compress(b"x" * 500 + b"Waldemarius" + b"y" * 500) + packer.flush()
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "a.dcm"
            path.write_bytes(meta + body)
            self.assertNotIn(b"Waldemarius", path.read_bytes())
            self.assertEqual(SoughtWords(words()).first_in_dicom(path, 0, False), "Waldemarius")


if __name__ == "__main__":
    unittest.main()
