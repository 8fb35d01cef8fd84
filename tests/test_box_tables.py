"""Tables of boxes, of every make, and the files that their rows mean."""

from kestrelmist.core.errors import Trouble
from kestrelmist.prepare.sets.box_columns import guessed
from kestrelmist.prepare.sets.box_table import Box, box_in, lies_out, read_boxes, table_of
from kestrelmist.prepare.sets.picture_match import files_below, matched
from tests.making import PlaceCase


class TableTest(PlaceCase):
    def read(self, text: str, name: str = "boxes.csv", encoding: str = "utf-8", **more):
        path = self.place / name
        path.write_bytes(text.encode(encoding))
        return read_boxes(path, **more)

    def test_columns_are_guessed(self):
        for heads, layout, roles in (
            ("patientId,x,y,width,height,Target", "corner and size", {"subject", "class"}),
            ("Image Index,Finding Label,Bbox [x,y,w,h]", "corner and size", {"picture", "class"}),
            ("filename;xmin;ymin;xmax;ymax;class", "two corners", {"picture", "class"}),
            ("file,cx,cy,w,h,label,animal,split", "centre and size", {"picture", "class", "subject", "part"}),
            ("image,left,top,right,bottom,image_width,image_height", "two corners", {"picture", "columns", "rows"}),
        ):
            columns = heads.replace(";", ",").split(",")
            found = guessed(columns, "" if "picture" in roles else "picture=patientId")
            self.assertEqual(found.layout, layout)
            self.assertLessEqual(roles, set(found.where))
            self.assertLessEqual(set("abcd"), set(found.where))

    def test_said_otherwise(self):
        found = guessed(
            ["Datei", "links", "oben", "breit", "hoch", "x"], "picture=Datei, a=links, b=oben, c=breit, d=HOCH"
        )
        self.assertEqual([found.where[k] for k in ("picture", *"abcd")], [0, 1, 2, 3, 4])
        for words, heads, said in (
            ("which picture", ["a", "b"], ""),
            ("no column", ["file"], "class=Finding"),
            ("says of no column", ["file"], "what=file"),
            ("Only part of a box", ["file", "q"], "a=q"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                guessed(heads, said)

    def test_separators_encodings_and_numbers(self):
        text = "file{0}xmin{0}ymin{0}xmax{0}ymax{0}class\nbär.png{0}1{1}5{0}2{0}11{1}5{0}22{0}Bär, groß\n"
        for separator, comma, encoding in (
            (",", ".", "utf-8"),
            (";", ",", "cp1252"),
            ("\t", ".", "utf-16"),
            ("|", ".", "utf-8-sig"),
        ):
            given = text.format(separator, comma)
            given = given.replace("Bär, groß", '"Bär, groß"')
            table = self.read(given, encoding=encoding)
            (row,) = table.rows
            self.assertEqual((row.picture, row.label), ("bär.png", "Bär, groß"), separator)
            self.assertEqual(row.box, Box(1.5, 2, 10, 20))

    def test_layouts_sizes_and_shares(self):
        corner = self.read("file,x,y,w,h\na,10,20,30,40\n").rows[0]
        self.assertEqual((corner.box, corner.relative, corner.size), (Box(10, 20, 30, 40), False, None))
        centre = self.read("file,cx,cy,w,h\na,25,40,30,40\n").rows[0]
        self.assertEqual(centre.box, corner.box)
        swapped = self.read("file,x1,y1,x2,y2\na,40,60,10,20\n").rows[0]
        self.assertEqual(swapped.box, corner.box)
        self.assertTrue(self.read("file,x,y,w,h\na,0.1,0.2,0.3,0.4\n").rows[0].relative)
        self.assertEqual(self.read("file,x,y,w,h\na,1,2,3,4\n", size=(640, 480)).rows[0].size, (640, 480))
        sized = self.read("file,x,y,w,h,image_width,image_height\na,1,2,3,4,512,256\n").rows[0]
        self.assertEqual(sized.size, (512, 256))
        said = self.read("file,x,y,w,h\na,40,60,10,20\n", layout="two corners").rows[0]
        self.assertEqual(said.box, Box(10, 20, 30, 40))

    def test_bad_rows_are_listed_and_the_others_stay(self):
        table = self.read(
            "file,x,y,w,h,class\na,1,2,3,4,one\n,1,2,3,4,one\nb,x,2,3,4,\nc,1,2,0,4,\n"
            "d,1,2,nan,4,\n\ne,,,,,healthy\nf,1,2\n"
        )
        self.assertEqual([row.picture for row in table.rows], ["a", "e"])
        self.assertIsNone(table.rows[1].box)
        self.assertEqual([line for line, _ in table.problems], [3, 4, 5, 6, 9])

    def test_what_lies_outside(self):
        head = "file,x,y,w,h,image_width,image_height\n"
        inside, right, left, top = self.read(
            head + "a,0,0,100,50,100,50\nb,60,0,41,9,100,50\nc,-1,2,9,9,100,50\nd,2,45,9,9,100,50\n"
        ).rows
        self.assertEqual([lies_out(row) for row in (inside, right, left, top)], [False, True, True, True])
        self.assertEqual([lies_out(row, (640, 320)) for row in (inside, right)], [False, True])  # a size of its own
        plain, share = self.read("file,x,y,w,h\na,90,0,20,9\nb,0.5,0.5,0.5,0.5\n").rows
        self.assertEqual((lies_out(plain), lies_out(plain, (110, 9)), lies_out(plain, (100, 9))), (False, False, True))
        self.assertFalse(lies_out(share) or lies_out(share, (7, 9)))

    def test_a_row_that_comes_again_is_listed(self):
        text = "file,x,y,w,h,class\na,1,2,3,4,one\nb,1,2,3,4,one\na,1,2,3,4,one\na,1,2,3,4,two\na,1.0,2,3,4,one\n"
        table = self.read(text)
        self.assertEqual([row.line for row in table.rows], [2, 3, 5])
        self.assertEqual(table.problems, [(4, "says the same as line 2"), (6, "says the same as line 2")])

    def test_written_and_read_again(self):
        text = 'file,x,y,w,h,class,animal\n-5.dcm,1,2,3,4,=1+1,@home\nb.png,-0.1,0.2,0.3,0.4,"a,b",<b>\nc.png,,,,,,\n'
        first = self.read(text)
        table_of(first.rows).save_csv(self.place / "again.csv")
        again = read_boxes(self.place / "again.csv")
        for a, b in zip(first.rows, again.rows, strict=True):
            self.assertEqual(
                (a.picture, a.label, a.subject, box_in(a, 90, 70)), (b.picture, b.label, b.subject, box_in(b, 90, 70))
            )

    def test_what_is_no_table(self):
        for words, text in (
            ("no table", "hello\n"),
            ("no rows", "file,x,y,w,h\n"),
            ("no text", "\0\1"),
            ("no table", ""),
        ):
            with self.assertRaisesRegex(Trouble, words):
                self.read(text)
        with self.assertRaisesRegex(Trouble, "cannot be read"):
            read_boxes(self.place / "none.csv")


class MatchTest(PlaceCase):
    def test_by_path_name_and_stem(self):
        for name in (
            "a/one.dcm",
            "b/one.dcm",
            "b/two.PNG",
            "b/three.ome.tif",
            "b/4.dcm",
            "b/table.csv",
            ".hidden/x.png",
        ):
            path = self.place / name
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(b"")
        files = files_below(self.place)
        found = matched(["a/one.dcm", "TWO.png", "three", "4", "one", "none", "b\\one.dcm"], files, self.place)
        short = {name: str(path.relative_to(self.place)) for name, path in found.files.items()}
        self.assertEqual(short, {"a/one.dcm": "a/one.dcm", "TWO.png": "b/two.PNG", "three": "b/three.ome.tif",
                                 "4": "b/4.dcm", "b\\one.dcm": "b/one.dcm"})  # fmt: skip
        self.assertEqual((found.missing, list(found.double), found.unnamed), (["none"], ["one"], []))
        with self.assertRaisesRegex(Trouble, "not there"):
            files_below(self.place / "none")

    def test_letters_decide_between_two(self):
        for name in ("A.png", "a.png"):
            (self.place / name).write_bytes(b"")
        found = matched(["a.png", "A.PNG"], files_below(self.place), self.place)
        self.assertEqual(found.files["a.png"].name, "a.png")
        self.assertIn("A.PNG", found.double)
