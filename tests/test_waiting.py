"""A read that gives nothing, as from a network drive that is gone: it is named, and can be left."""

import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from unittest import mock

from kestrelmist.core import waiting
from kestrelmist.core.waiting import Watch, reading
from kestrelmist.formats.dicom import scan as dicom_scan
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase, dicom_folder, two_balls

STUCK = """
import ctypes, os, signal, sys
# tests begun in the background ignore Ctrl+C, and so would this
signal.signal(signal.SIGINT, signal.default_int_handler)
from kestrelmist.core import waiting
from kestrelmist.formats.dicom import scan as dicom_scan
waiting.SECONDS = 0.5
class Scandir:  # no signal wakes it, like a read of a drive that is gone
    DirEntry = os.DirEntry
    def __getattr__(self, name): return getattr(os, name)
    def scandir(self, place):
        lock = ctypes.create_string_buffer(64)
        libc = ctypes.CDLL(None)
        libc.pthread_mutex_lock(lock), libc.pthread_mutex_lock(lock)
dicom_scan.os = Scandir()
from kestrelmist.cli import main
sys.argv[1:] = ["scan", sys.argv[1]]
main()
"""


class WatchTest(PlaceCase):
    def watched(self, work):
        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        return Watch(thread.ident)

    def looks(self, watch):
        """What it tells within 0.6 s of this program's own work: a shared machine may not let it run for a while."""
        found, ends = [], time.process_time() + 0.6
        with mock.patch.object(waiting, "time", mock.Mock(wraps=time, monotonic=time.process_time)):
            while time.process_time() < ends:
                sum(range(50_000))
                found.append(watch.waits_for(0.3))
        self.assertGreater(len(found), 10)
        return found

    def named(self, watch, seconds):
        """What it names in the end, and after how long, of a clock on the wall."""
        started = time.monotonic()
        while (found := watch.waits_for(seconds)) is None and time.monotonic() - started < 20:
            time.sleep(0.01)
        return found, time.monotonic() - started

    def test_a_read_that_gives_nothing_is_named_and_what_computes_is_not(self):
        go = threading.Event()

        def waits():
            with reading("outer"), reading("drive/file"):
                go.wait(5)

        def computes():
            with reading("large file"):
                while not go.is_set():
                    sum(range(1000))

        def reads_many():
            while not go.is_set():
                with reading("the same"):
                    go.wait(0.05)

        stuck, busy, many = (self.watched(w) for w in (waits, computes, reads_many))
        try:
            found, after = self.named(stuck, 0.3)
            self.assertEqual(found, Path("drive/file"))
            self.assertGreaterEqual(after, 0.3)
            self.assertEqual(set(self.looks(busy)), {None})
            self.assertEqual(set(self.looks(many)), {None})
        finally:
            go.set()
        pause = time.monotonic() + 2
        while waiting._now.get(stuck.thread) and time.monotonic() < pause:
            time.sleep(0.01)
        self.assertIsNone(waiting._now.get(stuck.thread))

    def test_who_waits_for_another_thread_that_computes_waits_for_no_drive(self):
        lock = threading.Lock()

        def waits():
            with reading("image", shared=True), lock:
                pass

        with lock:
            watch = self.watched(waits)
            self.assertEqual(set(self.looks(watch)), {None})  # what holds the lock is at work
            self.assertEqual(self.named(Watch(watch.thread), 0.3)[0], Path("image"))  # now nobody is

    def test_ctrl_c_ends_the_command_line(self):
        dicom_folder(self.place / "scans", two_balls())
        words = [sys.executable, "-c", STUCK, str(self.place / "scans")]
        run = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
        self.addCleanup(run.stderr.close)
        self.addCleanup(run.kill)
        said = run.stderr.readline()
        self.assertRegex(said, "scans” gives nothing: is its drive gone\\? Ctrl\\+C ends this")
        run.send_signal(signal.SIGINT)
        _, rest = run.communicate(timeout=10)
        self.assertEqual((run.returncode, rest.strip()), (130, "Stopped; nothing was kept of this step."))


class LeftTest(DeskCase):
    def setUp(self):
        super().setUp()
        dicom_folder(self.place / "scans", two_balls())
        self.go = threading.Event()
        self.addCleanup(self.go.set)
        self.enterContext(mock.patch.object(waiting, "SECONDS", 0.2))
        self.window = self.open(self.place / "study")
        self.window.session.work._look.setInterval(50)

    def until(self, true, seconds=30.0):
        ends = time.monotonic() + seconds
        while not true() and time.monotonic() < ends:
            pause(20)
        self.assertTrue(true())

    def stuck(self):
        headers = dicom_scan.headers_of

        def gone(files, progress):
            with reading(files[0]):
                self.go.wait(20)
            return headers(files, progress)

        return mock.patch.object(dicom_scan, "headers_of", gone)

    def test_the_window_names_it_and_goes_on_without_it(self):
        work, bar = self.window.session.work, self.window.path.work
        with self.stuck():
            self.window.gather([self.place / "scans"])
            self.until(lambda: work.current is not None and work.current.waits_for is not None)
            name = work.current.waits_for.name
            self.until(bar.title.isVisible)
            self.assertEqual(bar.title.text(), f"{name} gives nothing")
            bar.cancel.click()
            self.until(lambda: work.idle)
        self.assertRegex(self.troubles[-1], f"was left, as a file gave nothing.*{name}")
        self.window.gather([self.place / "scans"])  # the lane goes on
        self.settle(self.window)
        self.assertEqual([line.name for line in self.window.plan.model.lines], ["Two balls"])
        said = list(self.troubles)
        self.go.set()  # the drive is back: what was left ends without a word
        pause(200)
        self.assertEqual((self.troubles, len(self.window.plan.model.lines)), (said, 1))

    def test_the_window_closes_over_it(self):
        with self.stuck():
            self.window.gather([self.place / "scans"])
            self.until(lambda: self.window.session.work.current.waits_for is not None)
            started = time.monotonic()
            self.assertTrue(self.window.close())
            self.assertLess(time.monotonic() - started, 15)  # the file gives nothing for 20
        self.assertTrue(self.window.desk.study.catalogue.closed)
