"""Run all tests, or those whose names are given: `./kestrel test [tests.test_space …]`.

All tests run in as many processes as the machine has cores, a file at a time; named ones run in this process.
"""

import os
import sys
import tempfile
import time

from tests.side_by_side import leave, modules, run, run_side_by_side


def main() -> int:
    started_at = time.monotonic()
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory(prefix="kestrelmist-tests-") as home:
        os.environ["KESTRELMIST_HOME"] = home
        names, workers = sys.argv[1:], len(os.sched_getaffinity(0))
        ran, failed, skipped = run(names, sys.stderr) if names else run_side_by_side(modules(), min(workers, 4))
    print(
        f"{ran - failed - skipped} passed, {failed} failed"
        + (f", {skipped} skipped" if skipped else "")
        + f", in {time.monotonic() - started_at:.0f} s",
        flush=True,
    )
    return 1 if failed or not ran else 0


if __name__ == "__main__":
    leave(main())
