"""Run all tests, or those whose names are given: `./kestrel test [tests.test_space …]`.

All tests run in one process more than the machine has cores, a file at a time; named ones run in this process.
"""

import os
import sys
import tempfile
import time

from tests.side_by_side import leave, modules, run, run_side_by_side


def run_all(names: list[str], package: str) -> int:
    """Run the files of a package, or those of these names; 1 when one failed, or there was none."""
    started_at = time.monotonic()
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory(prefix="kestrelmist-tests-") as home:
        os.environ["KESTRELMIST_HOME"] = home
        # one more than there are cores: a window under test waits half of its time
        workers = min(len(os.sched_getaffinity(0)) + 1, 5)
        ran, failed, skipped = run(names, sys.stderr) if names else run_side_by_side(modules(package), workers)
    print(
        f"{ran - failed - skipped} passed, {failed} failed"
        + (f", {skipped} skipped" if skipped else "")
        + f", in {time.monotonic() - started_at:.0f} s",
        flush=True,
    )
    return 1 if failed or not ran else 0


if __name__ == "__main__":
    leave(run_all(sys.argv[1:], "tests"))
