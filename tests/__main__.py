"""Run all tests, or those whose names are given: `./kestrel test [tests.test_space …]`."""

import os
import sys
import tempfile
import unittest


def main() -> int:
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    os.environ.pop("KESTRELMIST_HOME", None)
    with tempfile.TemporaryDirectory(prefix="kestrelmist-tests-") as home:
        os.environ["KESTRELMIST_HOME"] = home
        names = sys.argv[1:]
        suite = (
            unittest.defaultTestLoader.loadTestsFromNames(names)
            if names
            else unittest.defaultTestLoader.discover("tests", top_level_dir=".")
        )
        result = unittest.TextTestRunner(verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    print(
        f"{result.testsRun - failed - skipped} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""),
        flush=True,
    )
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    # threads of Qt and of the pools must not keep a finished run alive
    code = main()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)
