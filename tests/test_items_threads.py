"""The catalogue read from several threads while another one writes."""

import sys
import threading

from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.study import Study
from tests.making import PlaceCase, two_balls

READS = 150_000


class ThreadsTest(PlaceCase):
    def test_what_is_read_is_never_nothing_and_never_older_than_the_last_write(self):
        image = two_balls()
        (self.place / "scans").mkdir()
        write_nifti(self.place / "scans" / "a.nii", image.data, image.space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "scans", subject="S")
            (key,) = [r.id for r in study.records()]
            wrong: list[str] = []
            written, done = [0], threading.Event()

            def read() -> None:
                for _ in range(READS):
                    least = written[0]
                    there = study.items.everything()
                    if there is None or key not in there:
                        wrong.append("nothing")
                        return
                    name = there[key].name
                    if name.startswith("name ") and int(name.split()[1]) < least:
                        wrong.append(f"{name} after {least}")
                        return

            def forget() -> None:
                while not done.is_set():
                    study.items.forget()

            readers = [threading.Thread(target=read) for _ in range(2)]
            other = threading.Thread(target=forget, daemon=True)
            before = sys.getswitchinterval()
            sys.setswitchinterval(1e-5)
            try:
                for one in (*readers, other):
                    one.start()
                for n in range(1, 40):
                    study.run("rename", thing=key, name=f"name {n}")
                    written[0] = n
                done.set()
                for one in readers:
                    one.join()
            finally:
                done.set()
                sys.setswitchinterval(before)
            self.assertEqual(wrong, [])
            self.assertEqual(study.items.everything()[key].name, "name 39")
